//! What a run came to, and what the next one would do, as facts.

use chestnut_core::{Because, LeftOut, Matches, Origin, Shows, WriteKind};
use chestnut_store::{Change, HeldItem, RouteSummary, RunId, RunResult};

use crate::apply::Work;
use crate::case::{Case, Stands, start_text};
use crate::decide::{Fate, Step, Withheld};
use crate::error::{ClocksApart, RunError};
use crate::rule::Rule;

/// What a run came to.
#[derive(Debug)]
pub struct RunReport {
    /// The route's name.
    pub route: String,
    /// Its number in the history; `None` where it could not even begin.
    pub run: Option<RunId>,
    /// How it ended.
    pub result: RunResult,
    /// Counts.
    pub summary: RouteSummary,
    /// What was done, entry by entry.
    pub changes: Vec<Change>,
    /// Why it failed as a whole.
    pub error: Option<RunError>,
}

/// What a run would do.
#[derive(Debug)]
pub struct PreviewReport {
    /// The route's name.
    pub route: String,
    /// The calendars that are written.
    pub target: String,
    /// What would be done, entry by entry.
    pub changes: Vec<PreviewedChange>,
    /// Entries that are left out now, newly seen ones and those known before.
    pub left_out: Vec<PreviewedChange>,
    /// Entries of the far side that are nobody's copies.
    pub strangers: usize,
    /// Entries that stood on the far side before, are the same as a source, and stay their owner's.
    pub matched: usize,
    /// Entries that stood on the far side before, are the same as a source, and are the route's from now on.
    pub owned: usize,
    /// Where this machine's clock and a server's differ by so much that nothing is deleted.
    pub clocks_apart: Option<ClocksApart>,
    /// How many deletions would be held.
    pub held: usize,
    /// Whether the route never ran.
    pub first_run: bool,
    /// Whether the far server may write to people because of copies, and nobody was told yet.
    pub warns_of_invitations: bool,
    /// Calendars that are written, and whose server writes to people because of entries.
    pub schedulers: Vec<String>,
}

/// One line of a preview.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct PreviewedChange {
    /// `create`, `update`, `delete`, `link`, `hold` or `leave out`.
    pub action: &'static str,
    /// The calendar that it is done in; `None` for what concerns all.
    pub calendar: Option<String>,
    /// The title; untrusted text.
    pub title: String,
    /// The start as iCalendar writes it.
    pub start: String,
    /// Why.
    pub why: Why,
    /// The number of the question that a person answered about it: it is done because of that answer.
    pub decision: Option<i64>,
    /// The text that stands there, where it is changed or deleted; of a disagreement, what was agreed.
    pub before: Option<String>,
    /// The text that will stand there, byte for byte.
    pub after: Option<String>,
    /// Of a disagreement: what each calendar says.
    pub sides: Vec<SideText>,
}

/// What a calendar says of an entry.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct SideText {
    /// The calendar.
    pub calendar: String,
    /// The text; `None` where nothing stands there.
    pub text: Option<String>,
}

impl PreviewedChange {
    /// An entry that is left out. Where a route shows when something is and nothing else, its title stays unsaid.
    pub(crate) fn left_out(rule: &Rule, calendar: Option<String>, case: &Case, reason: String) -> Self {
        let title = match &rule.carry.shows {
            Shows::Busy(title) => title.clone(),
            Shows::Everything | Shows::Details(_) => case.title(),
        };
        Self {
            action: "leave out",
            calendar,
            title,
            start: case.start(),
            why: Why::LeftOut(reason),
            decision: None,
            before: None,
            after: None,
            sides: Vec::new(),
        }
    }
}

/// Why a preview would do something.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Why {
    /// It stands there already, and says the same.
    Alike,
    /// It stands there already, and says something else.
    Differs,
    /// It is new at the source.
    New,
    /// It changed at the source.
    Changed,
    /// It changed on the far side, and is put right again.
    FarEdit,
    /// The copy is gone on the far side.
    CopyGone,
    /// Its source is gone.
    SourceGone,
    /// It is nobody's copy, and strangers are removed.
    Stranger,
    /// It is over, and past copies are removed.
    Past,
    /// The route no longer takes it.
    NotTaken(LeftOut),
    /// It is new in another calendar.
    NewElsewhere,
    /// It changed in another calendar.
    ChangedElsewhere,
    /// It was deleted there, and changed in another calendar.
    ComesBack,
    /// It was deleted in another calendar.
    DeletedElsewhere,
    /// Calendars disagree about these properties.
    Disagree(Vec<String>),
    /// Its server could write to people because of it.
    WouldMail {
        /// Whether it is a deletion.
        deletes: bool,
    },
    /// It is left out; a stable key.
    LeftOut(String),
}

impl Why {
    /// Returns the stable key of what is left out; nothing for the rest.
    pub(crate) fn key(&self) -> &str {
        match self {
            Self::LeftOut(key) => key,
            _ => "",
        }
    }
}

impl PreviewReport {
    /// Nothing yet.
    pub(crate) fn empty(rule: &Rule) -> Self {
        let takes: Vec<_> = rule.ends.iter().filter(|end| end.takes).map(|end| end.name.clone()).collect();
        Self {
            route: rule.name.clone(),
            target: takes.join(", "),
            changes: Vec::new(),
            left_out: Vec::new(),
            strangers: 0,
            matched: 0,
            owned: 0,
            clocks_apart: None,
            held: 0,
            first_run: false,
            warns_of_invitations: false,
            schedulers: Vec::new(),
        }
    }

    /// Sorts what it tells by day.
    pub(crate) fn in_order(mut self) -> Self {
        for list in [&mut self.changes, &mut self.left_out] {
            list.sort_by(|a, b| (&a.start, &a.title, a).cmp(&(&b.start, &b.title, b)));
        }
        self
    }

    /// Once the copies of entries that are not taken any more are gone, these are left out.
    pub(crate) fn leave_out_what_goes(&mut self, rule: &Rule) {
        let source = rule.ends.iter().find(|end| end.gives).map(|end| end.name.clone());
        let left_out = self.changes.iter().filter_map(|change| {
            let Why::NotTaken(reason) = &change.why else { return None };
            let why = Why::LeftOut(reason.key().to_owned());
            let left_out = PreviewedChange { before: None, after: None, ..change.clone() };
            Some(PreviewedChange { action: "leave out", calendar: source.clone(), why, ..left_out })
        });
        self.left_out.extend(left_out);
    }

    /// Adds the lines for one case. `question` is what a person was asked about it.
    pub(crate) fn add(&mut self, rule: &Rule, work: &Work, question: Option<&HeldItem>) {
        let (case, verdict) = (&work.case, &work.verdict);
        let shown = verdict.agreed.as_ref().map(|kept| &kept.entry).filter(|_| case.shown().is_none());
        let title = shown.map_or_else(|| case.title(), chestnut_core::Entry::title);
        let decision = question.filter(|item| item.decision.is_some()).map(|item| item.id);
        let line = |action: &'static str, side: Option<usize>, why: Why| {
            // What is shown is what stands in that calendar, or will.
            let stands = side.and_then(|side| case.places[side].stands.kept());
            let written = side.and_then(|side| verdict.would_write(side));
            let shown = written.map(|writing| &writing.entry).or(stands.map(|kept| &kept.entry));
            let goes = action == "delete" || matches!(why, Why::WouldMail { deletes: true });
            PreviewedChange {
                action,
                calendar: side.map(|side| rule.ends[side].name.clone()),
                title: shown.map_or_else(|| title.clone(), chestnut_core::Entry::title),
                start: shown.map_or_else(|| case.start(), start_text),
                why,
                decision,
                before: stands.filter(|_| goes || written.is_some()).map(|kept| kept.text.text.clone()),
                after: written.map(|writing| writing.text.clone()),
                sides: Vec::new(),
            }
        };
        let was_agreed = case.row.as_ref().is_some_and(|row| row.agreed.is_some());
        match &verdict.fate {
            Fate::LeaveOut(reason) => {
                let side = case.places.iter().position(|place| place.stands.object().is_some());
                let calendar = side.map(|side| rule.ends[side].name.clone());
                let key = reason.key().to_owned();
                self.left_out.push(PreviewedChange::left_out(rule, calendar, case, key));
                return;
            }
            Fate::Hold(collisions) => {
                let mut fields: Vec<_> = collisions.iter().map(|c| c.field.clone()).collect();
                fields.dedup();
                let sides = rule.ends.iter().zip(&case.places);
                self.changes.push(PreviewedChange {
                    before: case.agreed.as_ref().map(|kept| kept.text.text.clone()),
                    sides: sides
                        .map(|(end, place)| SideText {
                            calendar: end.name.clone(),
                            text: place.stands.text().map(|text| text.text),
                        })
                        .collect(),
                    ..line("hold", None, Why::Disagree(fields))
                });
                return;
            }
            Fate::Keep => {}
            Fate::Release | Fate::Forget | Fate::Wait | Fate::Doubt => return,
        }
        for (side, step) in verdict.steps.iter().enumerate() {
            let mirrors = rule.ends[side].gives;
            match step {
                Step::Write(writing) => {
                    let far_edit = || {
                        let place = &case.places[side];
                        let source = case.places.iter().find(|place| place.origin == Origin::Original);
                        let text = |stands: &Stands| stands.kept().map(|kept| kept.text.id);
                        let same = source.is_some_and(|source| {
                            text(&source.stands) == place.in_step_with.as_ref().map(|kept| kept.text.id)
                        });
                        same && case.row.as_ref().is_some_and(|row| row.tries == 0)
                    };
                    let why = match (mirrors, writing.kind, was_agreed) {
                        (true, WriteKind::Create, _) if writing.comes_back => Why::ComesBack,
                        (true, WriteKind::Create, _) => Why::NewElsewhere,
                        (true, WriteKind::Update, _) => Why::ChangedElsewhere,
                        (false, WriteKind::Create, true) => Why::CopyGone,
                        (false, WriteKind::Create, false) => Why::New,
                        (false, WriteKind::Update, false) => Why::Differs,
                        (false, WriteKind::Update, true) if far_edit() => Why::FarEdit,
                        (false, WriteKind::Update, true) => Why::Changed,
                    };
                    let action = if writing.kind == WriteKind::Create { "create" } else { "update" };
                    self.changes.push(line(action, Some(side), why));
                }
                Step::Delete(because) => {
                    let why = match because {
                        Because::Gone if mirrors => Why::DeletedElsewhere,
                        Because::Gone => Why::SourceGone,
                        Because::Stranger => Why::Stranger,
                        Because::Past => Why::Past,
                        Because::NotTaken(reason) => Why::NotTaken(*reason),
                    };
                    self.changes.push(line("delete", Some(side), why));
                }
                Step::Hold(withheld) => {
                    let deletes = matches!(withheld, Withheld::Delete);
                    self.changes.push(line("hold", Some(side), Why::WouldMail { deletes }));
                }
                Step::Leave | Step::Accept | Step::LetGo | Step::Spare(_) => {}
            }
        }
        let is_one_way = rule.ends.iter().any(|end| !end.gives);
        let is_found = !was_agreed && case.standing() > 1;
        let is_match = is_found && case.places.iter().any(|place| place.origin == Origin::Match);
        self.matched += usize::from(is_match);
        self.owned += usize::from(is_found && !is_match && is_one_way && rule.matches == Matches::Own);
        if !verdict.has_work() && is_found {
            let far = rule.ends.iter().position(|end| !end.gives);
            self.changes.push(line("link", far, Why::Alike));
        }
    }
}
