//! `carry` of a route: what its copies show.

use std::collections::{BTreeMap, BTreeSet};

use chestnut_core::{
    BlocksTime, Carry, Categories, Colour, Detail, Details, People, Privacy, Reminders, Shows,
};

use super::colours::COLOURS;
use super::nearest::nearest;
use super::reader::Section;
use crate::failure::Failure;
use crate::words::{Problem, keys};

/// Reads `carry` and `busy-title`.
pub(super) fn carry(route: &Section<'_>) -> Result<Carry, Failure> {
    let title = route.text("busy-title")?;
    let is_table = route.is_table("carry");
    let word = if is_table { None } else { route.text("carry")? };
    let carry = match word.as_deref() {
        _ if is_table => details(&route.section("carry")?.expect("it is a table"))?,
        None | Some("everything") => Carry::default(),
        Some("busy") => {
            let title = title.clone().unwrap_or_else(|| keys::BUSY.to_owned());
            Carry { shows: Shows::Busy(title), ..Carry::default() }
        }
        Some(other) => {
            return Err(route.wrong("carry", Problem::NotCarry(other)));
        }
    };
    if title.is_some() && !matches!(carry.shows, Shows::Busy(_)) {
        return Err(route.wrong("busy-title", Problem::TitleOfBusy));
    }
    Ok(carry)
}

fn details(table: &Section<'_>) -> Result<Carry, Failure> {
    table.renamed(&[("show-as", "blocks-time")])?;
    table.allow_described(keys::CARRY)?;
    let mut details = Details {
        title: table.text("title")?,
        prefix: table.text("prefix")?,
        blocks_time: table.choice(
            "blocks-time",
            &[("as-it-is", None), ("yes", Some(BlocksTime::Yes)), ("no", Some(BlocksTime::No))],
            None,
        )?,
        privacy: table.choice(
            "privacy",
            &[
                ("as-it-is", None),
                ("public", Some(Privacy::Public)),
                ("private", Some(Privacy::Private)),
                ("confidential", Some(Privacy::Confidential)),
            ],
            None,
        )?,
        reminders: reminders(table)?,
        categories: categories(table)?,
        colour: colour(table)?,
        ..Details::default()
    };
    if let Some(words) = table.texts("details")? {
        details.taken = words.iter().map(|word| detail(table, word)).collect::<Result<BTreeSet<_>, _>>()?;
    }
    let people = table.choice(
        "people",
        &[
            ("silent", People::Silent),
            ("listed", People::Listed),
            ("none", People::Dropped),
            ("invite", People::Invite),
        ],
        People::Silent,
    )?;
    if table.has("people") && people != People::Dropped {
        details.taken.insert(Detail::People);
    }
    Ok(Carry { shows: Shows::Details(Box::new(details)), people, ..Carry::default() })
}

fn detail(table: &Section<'_>, word: &str) -> Result<Detail, Failure> {
    Detail::named(word).ok_or_else(|| table.wrong("details", Problem::NotDetail(word)))
}

fn reminders(table: &Section<'_>) -> Result<Reminders, Failure> {
    Ok(match table.text("reminders")?.as_deref() {
        None | Some("as-they-are") => Reminders::AsTheyAre,
        Some("none") => Reminders::None,
        Some(text) => {
            let lead = super::durations::parse_duration(text).and_then(|d| u32::try_from(d.as_secs()).ok());
            Reminders::Before(lead.ok_or_else(|| table.wrong("reminders", Problem::NotReminders))?)
        }
    })
}

fn categories(table: &Section<'_>) -> Result<Categories, Failure> {
    if table.is_table("categories") {
        return Ok(Categories::Renamed(map(table, "categories")?));
    }
    Ok(table.texts("categories")?.map_or(Categories::AsTheyAre, Categories::Fixed))
}

fn colour(table: &Section<'_>) -> Result<Colour, Failure> {
    let colour = match table.is_table("colour") {
        true => Colour::ByCategory(map(table, "colour")?),
        false => table.text("colour")?.map_or(Colour::AsItIs, Colour::Fixed),
    };
    let is_name = |name: &str| COLOURS.binary_search(&name).is_ok();
    let known: Vec<String> = COLOURS.map(str::to_owned).to_vec();
    let problem = |name| Problem::NotColour { name, near: nearest(name, known.iter()) };
    match &colour {
        Colour::Fixed(name) if !is_name(name) => Err(table.wrong("colour", problem(name))),
        Colour::ByCategory(map) => match map.iter().find(|(_, name)| !is_name(name)) {
            Some((category, name)) => {
                let inner = table.section("colour")?.expect("it is a table");
                Err(inner.wrong(category, problem(name)))
            }
            None => Ok(colour),
        },
        Colour::AsItIs | Colour::Fixed(_) => Ok(colour),
    }
}

fn map(table: &Section<'_>, key: &str) -> Result<BTreeMap<String, String>, Failure> {
    let inner = table.section(key)?.expect("it is a table");
    let names: Vec<String> = inner.keys().map(str::to_owned).collect();
    names.into_iter().map(|name| Ok((name.clone(), inner.needed_text(&name)?))).collect()
}
