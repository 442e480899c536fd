//! Where an entry is, and why.

use chestnut_core::{Deletions, LeftOut};
use chestnut_engine::{Makes, Part, Story};

use super::left_out::stopped_words;
use crate::failure::Failure;
use crate::settings::RouteSettings;

/// The stable word for what an entry is where it stands, and what a person calls it.
pub(crate) fn part_words(part: Part) -> (&'static str, &'static str) {
    match part {
        Part::Original => ("original", "the original"),
        Part::Copy => ("copy", "a copy that the route made"),
        Part::Match => ("match", "stood there before; follows its source, and stays its owner's"),
        Part::Own => ("own", "the far side's own; the route has nothing to do with it"),
        Part::OfAnotherRoute => ("of-another-route", "a copy that another route made"),
    }
}

/// Says in one sentence why an entry is where it is.
pub(crate) fn story_words(story: &Story, route: &RouteSettings) -> String {
    let far = &route.to();
    let stands =
        |part: Part| story.places.iter().any(|place| place.part == part && place.stands != Some(false));
    let is_made = route.makes != Makes::Entries;
    let is_copied = story.is_carried && (stands(Part::Copy) || stands(Part::Match)) && !is_made;
    match story.stopped {
        Some(LeftOut::Undone) => {
            "left as it is, since you took back what a run had done to it, until its source changes"
                .to_owned()
        }
        _ if stands(Part::Own) => format!("not a copy: it belongs to {far} and stays"),
        _ if stands(Part::OfAnotherRoute) => {
            "a copy that another route made; this one leaves it alone".to_owned()
        }
        None if route.is_two_way && story.is_carried => {
            format!("the route keeps it alike in {}", route.ends.join(" and "))
        }
        None if route.makes == Makes::Blocks => {
            format!("the route takes it; its time is part of the blocks in {far} (`join-busy`)")
        }
        None if is_made => {
            format!("the route takes it; its occurrences in the window stand in {far} (`occurrences`)")
        }
        None if is_copied => format!("the route takes it; its copy stands in {far}"),
        None if !stands(Part::Original) && stands(Part::Copy) => {
            format!("its source in {} is gone; its copy in {far} still stands", route.from())
        }
        None => format!("the route takes it; the next sync writes it to {far}"),
        Some(reason) if is_copied => {
            let copy = match route.deletions {
                Deletions::Keep => format!("its copy in {far} stays"),
                Deletions::Carry => format!("the next sync deletes its copy in {far}"),
            };
            format!("no longer included: {}; {copy}", stopped_words(reason, far))
        }
        Some(reason) => format!("not taken: {}", stopped_words(reason, far)),
    }
}

/// An occurrence of a series stays behind: which one, or all that say what the series says; and why.
pub(crate) fn stays_behind(start: Option<&str>, why: &str) -> String {
    match start {
        Some(start) => format!("without its occurrence of {start}: {why}"),
        None => format!("without its other occurrences: {why}"),
    }
}

/// The question after several entries were found.
pub(crate) const WHICH_ONE: &str = "Which one? Its number, or none";

/// Nothing of what was asked for is anywhere.
pub(crate) fn nowhere(words: &[String], routes: &[(&str, &RouteSettings)]) -> Failure {
    let asked = words.join(" ");
    let message = match routes {
        [(_, route)] => format!("no calendar of this route has an entry {asked:?} ({})", route.way()),
        _ => format!("no calendar has an entry {asked:?}, and no run that is remembered changed one"),
    };
    Failure::failed(message)
        .hint("Name it by words of its title, by its UID, or by a day such as 2026-10-05 or \"Mon 5 Oct\".")
}
