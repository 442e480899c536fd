//! Why an entry is left out.

/// Why one entry is left out, from the key that runs count by.
pub(crate) fn left_out_why(reason: &str) -> String {
    let words = match reason {
        "events-not-taken" => "the route takes no events",
        "tasks-not-taken" => "the route takes no tasks",
        "journals-not-taken" => "the route takes no journals",
        "kind-not-accepted" => "the far calendar does not accept its kind",
        "outside-window" => "outside the window",
        "takes-no-time" => "free, declined, called off, or no event",
        "time-not-understood" => "its time is not understood",
        "copy-of-another-route" => "a copy that a route made",
        "too-large" => "larger than the far server allows",
        "refused" => "refused by the far server, until it changes",
        "unreadable" => "it cannot be read",
        "no-uid" => "it has no UID",
        "same-uid-twice" => "it has the UID of another entry",
        other => match other.split_once('.') {
            Some(("only", key)) => return format!("`{key}` in `only` does not fit it"),
            Some(("skip", key)) => return format!("`{key}` in `skip` fits it"),
            _ => other,
        },
    };
    words.to_owned()
}
