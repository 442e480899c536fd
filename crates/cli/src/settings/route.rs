//! `[route.NAME]`: from where to where, what is taken, and how.

use std::collections::BTreeMap;

use chestnut_core::{
    Carry, Choice, DeletionLimit, Deletions, Details, Disagree, FarEdits, Kind, Kinds, Matches, PastCopies,
    People, Reach, Shows, Strangers, Window,
};
use chestnut_engine::Makes;
use jiff::civil::Date;
use jiff::{SignedDuration, Span};

use super::carry::carry;
use super::choice::tests;
use super::reader::{Section, Whence};
use crate::failure::Failure;
use crate::words::Problem;
use crate::words::keys::{self, Ways};

/// `[route.NAME]`
#[derive(Debug, Clone)]
pub(crate) struct RouteSettings {
    /// `from` and `to`, or the calendars of `between`.
    pub(crate) ends: Vec<String>,
    /// Whether it keeps its calendars alike, both ways.
    pub(crate) is_two_way: bool,
    /// The name in the file, where a route of the file became several.
    pub(crate) part_of: Option<String>,
    pub(crate) disagree: Disagree,
    /// Whether copies that other routes made are taken like originals.
    pub(crate) relay: bool,
    pub(crate) strangers: Strangers,
    pub(crate) deletion_limit: DeletionLimit,
    pub(crate) kinds: Kinds,
    pub(crate) choice: Choice,
    pub(crate) window: Window,
    pub(crate) past_copies: PastCopies,
    pub(crate) carry: Carry,
    pub(crate) makes: Makes,
    pub(crate) deletions: Deletions,
    pub(crate) far_edits: FarEdits,
    pub(crate) full_look_every: SignedDuration,
    pub(crate) matches: Matches,
    /// What the files say of it, key by key, and where.
    pub(crate) said: BTreeMap<String, (String, Whence)>,
    /// How it was called before, the oldest name first.
    pub(crate) was: Vec<String>,
    /// How long it rests between two rounds.
    pub(crate) every: SignedDuration,
    /// What a person wrote down about it.
    pub(crate) note: Option<String>,
    /// How long it may go without a run that went well.
    pub(crate) stale_after: Option<SignedDuration>,
}

impl RouteSettings {
    /// The calendar that is named first: where a one-way route comes from.
    pub(crate) fn from(&self) -> &str {
        &self.ends[0]
    }

    /// The name that its copies bear: the first that it had.
    pub(crate) fn first_name<'n>(&'n self, name: &'n str) -> &'n str {
        self.was.first().map_or(name, String::as_str)
    }

    /// The calendars that are written, as words.
    pub(crate) fn to(&self) -> String {
        if self.is_two_way { self.ends.join(", ") } else { self.ends[1].clone() }
    }

    /// The calendars that are read.
    pub(super) fn reads(&self) -> &[String] {
        if self.is_two_way { &self.ends } else { &self.ends[..1] }
    }

    /// The calendars that are written.
    pub(crate) fn writes(&self) -> &[String] {
        if self.is_two_way { &self.ends } else { &self.ends[1..] }
    }

    /// From where to where, as words.
    pub(crate) fn way(&self) -> String {
        self.ends.join(if self.is_two_way { " ↔ " } else { " → " })
    }
}

/// Rounds come so often where nothing else is said.
const EVERY: SignedDuration = SignedDuration::from_mins(15);

/// Keys that were called otherwise before.
const RENAMED: &[(&str, &str)] = &[("merge-busy", "join-busy"), ("check-every", "full-look-every")];

pub(super) fn route(section: &Section<'_>) -> Result<RouteSettings, Failure> {
    section.renamed(RENAMED)?;
    if section.text("far-edits").ok().flatten().as_deref() == Some("restore") {
        return Err(section.wrong("far-edits", Problem::RenamedWord { old: "restore", new: "correct" }));
    }
    section.allow_described(keys::ROUTE)?;
    let kinds = match section.section("only")? {
        None => None,
        Some(only) => {
            only.allow_described(keys::ONLY)?;
            only.texts("kinds")?.map(|words| kinds(&only, &words)).transpose()?
        }
    };
    let mut choice = Choice::default();
    if let Some(only) = section.section("only")? {
        choice.only = tests(&only, true)?;
    }
    if let Some(skip) = section.section("skip")? {
        skip.allow_described(&keys::skip())?;
        choice.skip = tests(&skip, false)?;
    }
    choice.add_addresses(&section.texts("me")?.unwrap_or_default());
    let carry = carry(section)?;
    let window = window(section)?;
    let (ends, is_two_way) = ends(section)?;
    if is_two_way && !matches!(carry.shows, Shows::Busy(_)) {
        refuse_one_way_keys(section, &carry)?;
    }
    Ok(RouteSettings {
        disagree: disagree(section, &ends, is_two_way)?,
        relay: section.flag("relay")?,
        matches: section.choice(
            "matches",
            &[("follow", Matches::Follow), ("own", Matches::Own)],
            Matches::Follow,
        )?,
        strangers: section.choice(
            "strangers",
            &[("leave", Strangers::Leave), ("remove", Strangers::Remove)],
            Strangers::Leave,
        )?,
        deletion_limit: deletion_limit(section)?,
        ends,
        is_two_way,
        part_of: None,
        said: section.said(),
        was: section.texts("was")?.unwrap_or_default(),
        every: section.duration("every")?.unwrap_or(EVERY),
        note: section.text("note")?,
        makes: makes(section, &carry, &window)?,
        choice,
        window,
        past_copies: section.choice(
            "past-copies",
            &[("keep", PastCopies::Keep), ("remove", PastCopies::Remove)],
            PastCopies::Keep,
        )?,
        carry,
        kinds: kinds.unwrap_or_else(|| [Kind::Event].into_iter().collect()),
        deletions: section.choice(
            "deletions",
            &[("carry", Deletions::Carry), ("keep", Deletions::Keep)],
            Deletions::Carry,
        )?,
        far_edits: section.choice(
            "far-edits",
            &[("correct", FarEdits::Correct), ("leave", FarEdits::Leave)],
            FarEdits::Correct,
        )?,
        stale_after: section.duration("stale-after")?,
        full_look_every: section.duration("full-look-every")?.unwrap_or(SignedDuration::from_hours(24)),
    })
}

/// `from` and `to`, or `between`.
fn ends(section: &Section<'_>) -> Result<(Vec<String>, bool), Failure> {
    let Some(between) = section.texts("between")? else {
        let ends = vec![section.needed_text("from")?, section.needed_text("to")?];
        return match ends[0] == ends[1] {
            true => Err(section.wrong("to", Problem::ToItself)),
            false => Ok((ends, false)),
        };
    };
    for key in ["from", "to"] {
        if section.has(key) {
            return Err(section.wrong(key, Problem::OneWayAndTwoWay));
        }
    }
    let mut different = between.clone();
    different.sort();
    different.dedup();
    match different.len() == between.len() && between.len() > 1 {
        true => Ok((between, true)),
        false => Err(section.wrong("between", Problem::NotSeveral)),
    }
}

fn disagree(section: &Section<'_>, ends: &[String], is_two_way: bool) -> Result<Disagree, Failure> {
    let Some(word) = section.text("disagree")? else { return Ok(Disagree::Newest) };
    if !is_two_way {
        return Err(section.wrong("disagree", Problem::TwoWayOnly));
    }
    Ok(match (word.as_str(), ends.iter().position(|name| *name == word)) {
        (_, Some(side)) => Disagree::Side(side),
        ("newest", None) => Disagree::Newest,
        ("hold", None) => Disagree::Hold,
        _ => {
            return Err(section.wrong("disagree", Problem::NobodysWord(ends)));
        }
    })
}

/// `deletion-limit = 5`, or `{ entries = 10, percent = 20 }`.
fn deletion_limit(section: &Section<'_>) -> Result<DeletionLimit, Failure> {
    if !section.is_table("deletion-limit") {
        let entries = section.number("deletion-limit")?;
        return Ok(
            entries.map_or_else(DeletionLimit::default, |entries| DeletionLimit { entries, percent: 0 })
        );
    }
    let table = section.section("deletion-limit")?.expect("it is a table");
    table.allow_described(keys::DELETION_LIMIT)?;
    let default = DeletionLimit::default();
    Ok(DeletionLimit {
        entries: table.number("entries")?.unwrap_or(default.entries),
        percent: table.number("percent")?.unwrap_or(default.percent),
    })
}

/// Two calendars that are kept alike cannot show one thing in two forms.
fn refuse_one_way_keys(section: &Section<'_>, carry: &Carry) -> Result<(), Failure> {
    if let Some(key) = keys::ROUTE.iter().find(|key| key.ways == Ways::OneWay && section.says(key.name)) {
        return Err(section.wrong(key.name, Problem::OneWayOnly));
    }
    let Shows::Details(details) = &carry.shows else { return Ok(()) };
    let plain = Details { taken: details.taken.clone(), ..Details::default() };
    let people = matches!(carry.people, People::Silent | People::Dropped);
    if **details == plain && people {
        return Ok(());
    }
    Err(section.wrong("carry", Problem::NoWayBack))
}

fn kinds(only: &Section<'_>, words: &[String]) -> Result<Kinds, Failure> {
    let kind = |word: &String| {
        Kind::ALL
            .into_iter()
            .find(|k| k.word() == word)
            .ok_or_else(|| only.wrong("kinds", Problem::NotKind(word)))
    };
    words.iter().map(kind).collect()
}

/// `window = { past = "7 days", ahead = "3 months" }`, or `{ from = "2026-12-01", to = "2027-02-28" }`.
fn window(route: &Section<'_>) -> Result<Window, Failure> {
    let Some(section) = route.section("window")? else { return Ok(Window::default()) };
    section.allow_described(keys::WINDOW)?;
    let edge = |relative: &str, fixed: &str| {
        if section.has(relative) && section.has(fixed) {
            return Err(section.wrong(fixed, Problem::Excludes(relative)));
        }
        Ok(match (reach(&section, relative)?, day(&section, fixed)?) {
            (Some(reach), _) => reach,
            (None, Some(day)) => Reach::Day(day),
            (None, None) => Reach::Unlimited,
        })
    };
    let window = Window { past: edge("past", "from")?, ahead: edge("ahead", "to")? };
    match window {
        Window { past: Reach::Day(from), ahead: Reach::Day(to) } if to < from => {
            Err(section.wrong("to", Problem::EndsFirst))
        }
        window => Ok(window),
    }
}

fn reach(section: &Section<'_>, key: &str) -> Result<Option<Reach>, Failure> {
    let Some(text) = section.text(key)? else { return Ok(None) };
    let wrong = || section.wrong(key, Problem::NotReach);
    let span: Span = text.trim().parse().map_err(|_| wrong())?;
    let months = span.get_years() as i32 * 12 + span.get_months();
    let days = span.get_weeks() * 7 + span.get_days();
    let has_time = span.get_hours() != 0 || span.get_minutes() != 0 || span.get_seconds() != 0;
    let reach = match (months, days) {
        (months, 0) if months > 0 => Reach::Months(months),
        (0, days) if days >= 0 => Reach::Days(days),
        _ => return Err(wrong()),
    };
    if has_time { Err(wrong()) } else { Ok(Some(reach)) }
}

fn day(section: &Section<'_>, key: &str) -> Result<Option<Date>, Failure> {
    let Some(text) = section.text(key)? else { return Ok(None) };
    let wrong = |_| section.wrong(key, Problem::NotDay);
    text.trim().parse().map(Some).map_err(wrong)
}

/// `occurrences` and `join-busy`: copies that are not of the source's own entries.
fn makes(section: &Section<'_>, carry: &Carry, window: &Window) -> Result<Makes, Failure> {
    let each = section.choice("occurrences", &[("series", false), ("each", true)], false)?;
    let merge = section.flag("join-busy")?;
    let makes = match (each, merge) {
        (true, true) => {
            return Err(section.wrong("occurrences", Problem::JoinedAnyway));
        }
        (_, true) => Makes::Blocks,
        (true, _) => Makes::Occurrences,
        _ => return Ok(Makes::Entries),
    };
    if makes == Makes::Blocks && !matches!(carry.shows, Shows::Busy(_)) {
        return Err(section.wrong("join-busy", Problem::JoinsBusy));
    }
    if window.ahead == Reach::Unlimited {
        let key = if merge { "join-busy" } else { "occurrences" };
        return Err(section.wrong(key, Problem::NeedsEnd));
    }
    Ok(makes)
}
