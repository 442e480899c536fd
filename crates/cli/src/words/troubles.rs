//! Sentences about what is wrong for some time, and about the process that keeps routes running.

use std::process::ExitStatus;
use std::time::Duration;

use chestnut_caldav::{DavError, SignInKind};
use chestnut_engine::{CalendarError, RunError};
use chestnut_store::{NoticeEvent, TroubleKind};
use serde_json::Value;

use super::errors::InWords as _;
use super::failures::takes_passwords;
use super::lengths::expires;
use crate::failure::Failure;
use crate::render::{count, typed};
use crate::watch::Watcher;

/// Says what is wrong. `facts` are what was kept of it.
pub(crate) fn trouble_sentence(kind: TroubleKind, about: &str, facts: &Value) -> String {
    // Whose it is, is said already.
    let error = error_of(facts).map(|error| match error {
        RunError::Calendar { error, .. } => error.in_words(),
        error => error.in_words(),
    });
    let or = |words: &str| format!("{about}: {}", error.clone().unwrap_or_else(|| words.to_owned()));
    let number = facts.get("entries").and_then(Value::as_u64).unwrap_or_default() as usize;
    let days = facts.get("days").and_then(Value::as_i64).unwrap_or_default();
    match kind {
        TroubleKind::ServerDown => or("the server does not answer as it should"),
        TroubleKind::SignInRefused => or("the server refuses the sign-in"),
        TroubleKind::RightsLost => or("the calendar may not be read or written"),
        TroubleKind::CalendarUnreadable => or("the calendar cannot be read"),
        TroubleKind::ConfigurationBroken => {
            let words = facts.get("message").and_then(Value::as_str).unwrap_or_default();
            format!("the configuration cannot be used; the one before goes on: {words}")
        }
        TroubleKind::NeverRun => format!("{about}: the route waits for its first yes"),
        TroubleKind::Held => {
            format!("{about}: {} your decision", count(number, "change needs", "changes need"))
        }
        TroubleKind::NearlyFull => {
            let percent = facts.get("percent").and_then(Value::as_u64).unwrap_or_default();
            format!("{about}: the account is full to {percent} %")
        }
        TroubleKind::CertificateEnds => {
            format!("{about}: the server's certificate {}", expires(days))
        }
        TroubleKind::TokenEnds => {
            format!("{about}: the sign-in {}, according to its server", expires(days))
        }
        TroubleKind::FeedShrunk => {
            let [was, is] =
                ["was", "is"].map(|key| facts.get(key).and_then(Value::as_u64).unwrap_or_default());
            format!("{about}: {is} of {was} entries are left in the feed")
        }
        TroubleKind::FeedQuiet => {
            format!("{about}: nothing has changed for {}", count(days.unsigned_abs() as usize, "day", "days"))
        }
        TroubleKind::RouteStale => match facts.get("last-good-run").and_then(Value::as_str) {
            Some(at) => format!("{about}: no successful run since {at}"),
            None => format!("{about}: no successful run yet"),
        },
        TroubleKind::RouteFails => or("the route's runs fail"),
        TroubleKind::EntriesRefused => {
            format!("{about}: {} not on the far side as sent", count(number, "entry is", "entries are"))
        }
    }
}

fn error_of(facts: &Value) -> Option<RunError> {
    facts.get("error").and_then(RunError::of_facts)
}

/// What a server answered, and to which account.
fn answer_of(error: &RunError) -> Option<(Option<&str>, &DavError)> {
    let RunError::Calendar { account, error, .. } = error else { return None };
    let CalendarError::Dav(error) = &**error else { return None };
    Some((account.as_deref(), error))
}

/// Says what to do about a trouble. `facts` are what was kept of it.
pub(crate) fn trouble_advice(kind: TroubleKind, about: &str, facts: &Value) -> String {
    let error = error_of(facts);
    // Nobody but a person can do something about it.
    let is_for_people = match (kind, error.as_ref().and_then(answer_of)) {
        (TroubleKind::RouteFails, _) => true,
        // Another password is what helps.
        (
            TroubleKind::SignInRefused,
            Some((Some(_), DavError::SignIn { sent: SignInKind::Password, offered })),
        ) if offered.is_empty() || takes_passwords(offered) => false,
        (TroubleKind::SignInRefused, _) => true,
        (_, Some((_, DavError::Transport(error)))) => error.certificate.is_some(),
        _ => false,
    };
    let hint = error.filter(|_| is_for_people).and_then(|error| Failure::from(error).hint);
    match kind {
        TroubleKind::ServerDown | TroubleKind::SignInRefused | TroubleKind::RouteFails
            if let Some(hint) = hint =>
        {
            hint
        }
        TroubleKind::ServerDown => "Nothing is lost; it is tried again and goes on by itself.".to_owned(),
        TroubleKind::SignInRefused => {
            format!(
                "chestnut account test {typed} says more; a new password: chestnut account password {typed}",
                typed = typed(about)
            )
        }
        TroubleKind::RightsLost => {
            "Ask the calendar's owner for the right; `chestnut calendar list` shows it.".to_owned()
        }
        TroubleKind::CalendarUnreadable => {
            "See whether it is still there: `chestnut calendar list`. Nothing was deleted.".to_owned()
        }
        TroubleKind::ConfigurationBroken => {
            "Correct the file; it is read again as soon as it changes.".to_owned()
        }
        TroubleKind::NeverRun => {
            format!("chestnut preview {typed}, then once: chestnut sync --yes {typed}", typed = typed(about))
        }
        TroubleKind::Held => "chestnut held, then chestnut decide NUMBER CHOICE".to_owned(),
        TroubleKind::NearlyFull => {
            "Make room there, or ask for more: when it is full, new entries are refused.".to_owned()
        }
        TroubleKind::CertificateEnds => {
            "Tell whoever runs the server; once it has expired, nothing is read or written there.".to_owned()
        }
        TroubleKind::TokenEnds => {
            format!("chestnut account login {}", typed(about))
        }
        TroubleKind::FeedShrunk => {
            "Ask its publisher whether that is intended; after a week it counts as intended.".to_owned()
        }
        TroubleKind::FeedQuiet => "Ask its publisher whether it is still kept up.".to_owned(),
        TroubleKind::RouteStale | TroubleKind::RouteFails => {
            format!("chestnut sync {} says what is wrong.", typed(about))
        }
        TroubleKind::EntriesRefused => {
            format!("chestnut status -v names them; chestnut why {} … explains one.", typed(about))
        }
    }
}

/// What there is to do about a trouble that has ended.
pub(crate) fn nothing_to_do() -> &'static str {
    "It is over: there is nothing to do."
}

/// Says instead that there was nothing wrong any more when somebody last looked.
pub(crate) fn nearly_over() -> &'static str {
    "All was well again at the last look; it is over after the next good one."
}

/// A word for what is told.
pub(crate) fn event_word(event: NoticeEvent) -> &'static str {
    match event {
        NoticeEvent::Begin => "begins",
        NoticeEvent::Reminder => "goes on",
        NoticeEvent::End => "is over",
    }
}

/// How a program ended that was to be told.
pub(crate) fn exit_words(status: ExitStatus) -> String {
    status.to_string()
}

/// A program took too long.
pub(crate) fn no_time_left(patience: Duration) -> String {
    format!("not done after {} s, and stopped", patience.as_secs())
}

/// Somebody watches already.
pub(crate) fn watched_already(watcher: Option<&Watcher>) -> Failure {
    let who = watcher.map(|w| format!(" (process {}, since {:.0})", w.process, w.since)).unwrap_or_default();
    Failure::usage(format!("a watch runs on this state already{who}"))
        .hint("One is enough: it reads the configuration again when that changes. `chestnut status` says how it is.")
}
