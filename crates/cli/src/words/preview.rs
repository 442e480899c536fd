//! Why a preview would do something.

use chestnut_engine::Why;

use super::field_word;
use crate::failure::Failure;
use crate::render::clean;
use crate::report::preview_text::CopyText;

/// Whether a text stands there, or is written next.
pub(crate) fn stands_or_comes(one: &CopyText) -> String {
    let calendar = clean(&one.calendar);
    match one.action {
        Some("create") => format!("the next sync creates this in {calendar}:"),
        Some("hold") => format!("held; with your yes the next sync writes this to {calendar}:"),
        Some(_) => format!("the next sync writes this to {calendar}, in place of what stands there:"),
        None => format!("stands in {calendar} now; the next sync does not change it:"),
    }
}

/// No calendar has a copy of it, or gets one.
pub(crate) fn no_text_of(words: &str) -> Failure {
    Failure::failed(format!(
        "no copy of an entry like \"{}\" exists, and the next sync creates none",
        clean(words)
    ))
    .hint("`chestnut why` says why, for example: chestnut why WORDS")
}

/// Of what is done because a person said so.
pub(crate) fn your_decision(number: i64) -> String {
    format!("your decision {number}")
}

/// What each calendar says of one detail, and what was agreed.
pub(crate) fn each_says(detail: &str, agreed: &str, said: &[(String, String)]) -> String {
    let agreed = if agreed.is_empty() { String::new() } else { format!(" (agreed: {agreed})") };
    let said: Vec<_> = said.iter().map(|(calendar, value)| format!("{calendar} says {value}")).collect();
    format!("{detail}: {}{agreed}", said.join(", "))
}

/// Says in words why the next sync would do something; what is left out keeps its key.
pub(crate) fn why_words(why: &Why) -> String {
    let words = match why {
        Why::Alike => "it stands there already, and says the same",
        Why::Differs => "it stands there already, and says something else",
        Why::New => "new at the source",
        Why::Changed => "changed at the source",
        Why::FarEdit => "changed on the far side; it is put right again",
        Why::CopyGone => "the copy is gone on the far side",
        Why::SourceGone => "it is gone at the source",
        Why::Stranger => "it is no copy, and strangers are removed",
        Why::Past => "it is over, and past copies are removed",
        Why::NewElsewhere => "new elsewhere",
        Why::ChangedElsewhere => "changed elsewhere",
        Why::ComesBack => "deleted there, and changed elsewhere",
        Why::WouldMail { deletes: false } => "a change of it could make the server write to people",
        Why::WouldMail { deletes: true } => "its deletion could make the server write to people",
        Why::DeletedElsewhere => "it was deleted elsewhere",
        Why::NotTaken(reason) => return format!("no longer taken: {}", reason.key()),
        Why::Disagree(fields) => {
            let fields: Vec<_> = fields.iter().map(|field| field_word(field)).collect();
            return format!("calendars disagree about {}", fields.join(", "));
        }
        Why::LeftOut(key) => key,
    };
    words.to_owned()
}

/// What the first run takes entries for that stood on the far side before it, and how many there are: `matched` stay
/// their owner's, `owned` become the route's.
pub(crate) fn stood_before(matched: usize, owned: usize) -> impl Iterator<Item = (usize, &'static str)> {
    let follows = match matched {
        1 => {
            "of these stood there before: it follows its source, keeps what is its owner's, and is never deleted"
        }
        _ => {
            "of these stood there before: they follow their sources, keep what is their owner's, and are never deleted"
        }
    };
    let becomes = match owned {
        1 => "of these stood there before: `matches = \"own\"` makes it a copy, that goes with its source",
        _ => "of these stood there before: `matches = \"own\"` makes them copies, that go with their sources",
    };
    [(matched, follows), (owned, becomes)].into_iter().filter(|(number, _)| *number > 0)
}

/// Entries of the far side that have no source.
pub(crate) fn stands_alone(number: usize) -> &'static str {
    match number {
        1 => "exists only on the far side, and is left alone",
        _ => "exist only on the far side, and are left alone",
    }
}
