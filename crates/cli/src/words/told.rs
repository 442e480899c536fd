//! What there is to tell of an entry.

use chestnut_engine::CalendarError;
use chestnut_store::Told;

use super::errors::InWords as _;
use super::fields::field_word;
use super::left_out::left_out_why;

/// Says a fact about an entry in words.
pub(crate) fn told_words(told: &Told) -> String {
    match told {
        Told::Refused { status, words: Some(words) } => format!("the server refuses it ({status}: {words})"),
        Told::Refused { status, words: None } => format!("the server refuses it ({status})"),
        Told::Changed { fields } => format!("the server changed {}", said(fields)),
        Told::KeepsNothing => "the server said it was stored, and keeps nothing".to_owned(),
        Told::KeepsOther => "the server keeps something else than it was given".to_owned(),
        Told::Unreadable { problem: Some(problem) } => problem.in_words(),
        Told::Unreadable { problem: None } => "the server did not give it".to_owned(),
        Told::Lost { error } => CalendarError::of_facts(error)
            .map_or_else(|| "no answer came".to_owned(), |error| error.in_words()),
        Told::LeftOut { reason } => left_out_why(reason),
        Told::Fails { status } => format!("the server fails on this entry ({status})"),
        Told::FalseCondition => "the server says that somebody changed it, and nobody did (412)".to_owned(),
        Told::NoCalendar => "the calendar was not found while writing (404)".to_owned(),
        Told::ChangedMeanwhile => "somebody changed it meanwhile: it was left as it is".to_owned(),
        Told::KeepsChanging => "somebody else keeps changing it; the next run tries again".to_owned(),
        Told::UidTaken => "the server has another entry with its UID in another calendar".to_owned(),
        Told::NotDeleted { status: 0 } => "the server said that it deleted it, and lists it still".to_owned(),
        Told::NotDeleted { status } => format!("the server does not delete it ({status})"),
        Told::WasGone => "it was gone already".to_owned(),
        Told::Lacks { people, attachments, zone } => {
            let lacks = [
                (*people, "without its people: the far server would write to them"),
                (*attachments, "without its attachments: with them it is larger than the far server allows"),
                (*zone, "its time zone is not described anywhere: clients may show it at different times"),
            ];
            let words: Vec<_> =
                lacks.into_iter().filter(|(lacks, _)| *lacks).map(|(_, words)| words).collect();
            words.join("; ")
        }
        Told::DeletionHeld => "its deletion needs your decision".to_owned(),
        Told::WouldMail { deletes: false } => {
            "its server could write to people because of it; it needs your decision".to_owned()
        }
        Told::WouldMail { deletes: true } => {
            "its server could write to people because of its deletion; it needs your decision".to_owned()
        }
        Told::Disagree { fields } => format!("calendars disagree about {}", said(fields)),
        Told::Overruled { fields } => format!("another calendar's {} counts", said(fields)),
        Told::ComesBack => "deleted there, and changed elsewhere".to_owned(),
        Told::Matched => "it stood there before: it follows its source, and stays its owner's".to_owned(),
        Told::SourceGone => "its source is gone".to_owned(),
    }
}

/// Details within a sentence.
fn said(fields: &[String]) -> String {
    fields.iter().map(|field| field_word(field).to_lowercase()).collect::<Vec<_>>().join(", ")
}

/// Says why an entry does not stand on the far side as it was sent.
pub(crate) fn trouble_words(told: Option<&Told>) -> String {
    told.map_or_else(|| "begun, and cut off; the next sync goes on".to_owned(), told_words)
}
