//! Why an entry is left out.

use chestnut_core::LeftOut;

use crate::render::{clean, count};

/// Why one entry is left out, from the key that runs count by.
pub(crate) fn left_out_why(reason: &str) -> String {
    let words = match reason {
        "events-not-taken" => "events not included (set `only.kinds`)",
        "tasks-not-taken" => "tasks not included (set `only.kinds`)",
        "journals-not-taken" => "journals not included (set `only.kinds`)",
        "kind-not-accepted" => "the far calendar does not accept its kind",
        "outside-window" => "outside the window",
        "outside-ends" => "its source says nothing about that time",
        "takes-no-time" => "does not block time: free, declined, cancelled, or not an event",
        "time-not-understood" => "its time is not understood",
        "copy-of-another-route" => "a copy that a route made",
        "too-large" => "larger than the far server allows",
        "refused" => "refused by the far server, until it changes",
        "unreadable" => "it cannot be read",
        "no-uid" => "it has no UID",
        "same-uid-twice" => "it has the UID of another entry",
        "undone" => "you took back what a run had done to it: it stays so until its source changes",
        "would-mail" => "its server could write to people because of it, and you said that it stays as it is",
        "deletions" => "it stays (`deletions = \"keep\"`)",
        other => match other.split_once('.') {
            Some(("only", key)) => return format!("`{key}` in `only` does not fit it"),
            Some(("skip", key)) => return format!("`{key}` in `skip` fits it"),
            _ => other,
        },
    };
    words.to_owned()
}

/// Words for the reasons that runs count.
pub(crate) fn left_out_words(reason: &str, number: usize) -> String {
    let by_kind = |one: &str, many: &str, why: &str| format!("{} ({why})", count(number, one, many));
    let entries = |why: &str| format!("{} {why}", count(number, "entry", "entries"));
    match reason {
        "events-not-taken" => by_kind("event", "events", "not included; set `only.kinds`"),
        "tasks-not-taken" => by_kind("task", "tasks", "not included; set `only.kinds`"),
        "journals-not-taken" => by_kind("journal", "journals", "not included; set `only.kinds`"),
        key if key.starts_with("only.") || key.starts_with("skip.") => {
            let (table, key) = key.split_once('.').unwrap_or((key, ""));
            entries(&format!("not included ({table} = {{ {} = … }})", clean(key)))
        }
        "kind-not-accepted" => entries("of a kind that the far calendar does not accept"),
        "outside-window" => entries("outside the window"),
        "outside-ends" => entries("of a time about which the source says nothing"),
        "takes-no-time" => by_kind(
            "entry that does not block time",
            "entries that do not block time",
            "free, declined, cancelled, or not an event",
        ),
        "time-not-understood" => entries("whose time is not understood"),
        "copy-of-another-route" => by_kind("copy", "copies", "made by a route"),
        "too-large" => entries("larger than the far server allows"),
        "refused" => entries("refused by the far server (until they change)"),
        "unreadable" => entries("that cannot be read"),
        "no-uid" => entries("without UID"),
        "same-uid-twice" => entries("with the UID of another entry"),
        "undone" => entries("taken back by you, and left so until the source changes"),
        "would-mail" => entries("left as they are, since a server could write to people (your decision)"),
        "deletions" => entries("deleted on one side, and kept on the other (deletions = \"keep\")"),
        other => format!("{number} {}", clean(other)),
    }
}

pub(crate) fn stopped_words(reason: LeftOut, far: &str) -> String {
    match reason {
        LeftOut::Kind(kind) => {
            let word = kind.word();
            format!("the route takes no {word}: only = {{ kinds = [..., \"{word}\"] }} would")
        }
        LeftOut::NotAccepted(kind) => format!("calendar {far} accepts no {}", kind.word()),
        LeftOut::NotChosen(key) => match key.name().split_once('.') {
            Some(("only", key)) => format!("`{key}` in `only` does not fit it"),
            Some((_, key)) => format!("`{key}` in `skip` fits it"),
            None => key.name().to_owned(),
        },
        LeftOut::Copy => "it is a copy that a route made; copies of copies are not made".to_owned(),
        LeftOut::TakesNoTime => {
            "carry = \"busy\" copies busy time only, and it does not block time: it is free, declined, cancelled, or not an event"
                .to_owned()
        }
        LeftOut::TimeNotUnderstood => "its time cannot be understood, and that decides here".to_owned(),
        LeftOut::OutsideWindow => "none of its occurrences is in the `window`; what lies ahead comes in when its day comes".to_owned(),
        LeftOut::TooLarge => format!("it is larger than calendar {far} allows"),
        _ => reason.key().to_owned(),
    }
}
