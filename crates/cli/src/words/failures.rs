//! Errors for people: one sentence, the cause, and what to do next.

use std::collections::BTreeSet;

use chestnut_caldav::{CertificateFault, Class, DavError, Detail, Instead, SignInKind, TransportFault};
use chestnut_core::NotACalendar;
use chestnut_engine::{CalendarError, RunError};
use chestnut_store::StoreError;

use super::errors::{InWords as _, holder_words, moved_ends};
use crate::exit_code::ExitCode;
use crate::failure::{AccountFault, Failure};
use crate::render::typed;

/// `EMFILE` and `ENFILE`: a process, or the machine, has as many files open as it may.
const TOO_MANY_FILES: [i32; 2] = [24, 23];

impl From<std::io::Error> for Failure {
    fn from(system: std::io::Error) -> Self {
        let failure = Self::failed(system.to_string());
        match system.raw_os_error() {
            Some(number) if TOO_MANY_FILES.contains(&number) => {
                failure.hint("Allow it more open files (`ulimit -n`); nothing was changed.")
            }
            _ => failure,
        }
    }
}

impl From<StoreError> for Failure {
    fn from(error: StoreError) -> Self {
        let hint = match &error {
            StoreError::Newer { .. } => "Install the newer Chestnut, or name another state with --state.",
            StoreError::AtWork { .. } => {
                "Stop it, run this again, and start it anew with this version; nothing was changed."
            }
            StoreError::Unreadable { .. } | StoreError::Damaged => {
                "Move the state file away (its history goes with it), with the -wal and -shm files beside it: the next sync finds all copies again by their UIDs and writes nothing twice. Or copy a backup to its place then."
            }
            StoreError::Open { place, .. } if place.contains("://") => {
                "Check `state` in the configuration: the database must run, be reachable from here, and belong to the user of the url."
            }
            StoreError::Open { .. } => {
                "Check that the folder exists and that you may write there, or use --state."
            }
            StoreError::Full => "Make room and run it again; it goes on where it was cut off.",
            StoreError::Moved { .. } => {
                "Write it into the configuration as `state`, or name it with --state; the old one is no longer used."
            }
            StoreError::NotEmpty { .. } => {
                "Move a state to an empty database, or to a file that is not there yet."
            }
            StoreError::Away(_) => {
                "Check that the database runs and can be reached from here; nothing was lost, and the next run goes on."
            }
            StoreError::Busy { .. } => "Wait until it has ended, then run it again.",
            _ => {
                "Run it again; if it stays, move the state file away: the next sync finds all copies again by their UIDs."
            }
        };
        Self::failed(error.in_words()).hint(hint)
    }
}

impl From<RunError> for Failure {
    fn from(error: RunError) -> Self {
        let message = error.in_words();
        match error {
            RunError::Store(error) => error.into(),
            RunError::Calendar { calendar, account, error } => {
                let refused = refused_sign_in(&error).then_some(account.as_deref()).flatten();
                match (refused, &*error) {
                    (Some(account), CalendarError::Dav(error)) => account_failure(account, error),
                    _ => {
                        Self::failed(message).hint(calendar_hint(&error, &calendar, account.as_deref()))
                    }
                }
            }
            RunError::OtherCalendars { route, is_turned: true, .. } => Self::waiting(message).hint(format!(
                "Put its way back; or have it begin anew: `chestnut route retire {}` takes it out and leaves its copies, and added anew under the same name it finds them again. `chestnut preview` shows what it would do then.",
                typed(&route)
            )),
            RunError::OtherCalendars { route, before, now, .. } => {
                let accounts: BTreeSet<_> =
                    moved_ends(&before, &now).filter_map(|(_, now)| now.account.as_deref()).collect();
                let moves: Vec<_> = accounts
                    .into_iter()
                    .map(|account| format!("`chestnut account move {} URL`", typed(account)))
                    .collect();
                let moves = match moves.is_empty() {
                    true => String::new(),
                    false => format!("If only the server has a new address: {}. ", moves.join(", ")),
                };
                Self::waiting(message).hint(format!(
                    "{moves}If it is the same calendar at another path, the next sync goes on with it once nothing stands at the old path. Else put the calendars back; or take the route out with `chestnut route retire {}`, which leaves its copies, and add it anew.",
                    typed(&route)
                ))
            }
            RunError::ReadOnly { account, .. } => {
                let rights = account.map(|a| format!("; `chestnut calendar list {}` shows the rights", typed(&a)));
                Self::failed(message).hint(format!(
                    "Ask for the right to write, or choose another calendar{}.",
                    rights.unwrap_or_default()
                ))
            }
            RunError::Running { holder, .. } => {
                let who = holder.as_ref().map(holder_words).unwrap_or_default();
                Self::waiting(format!("{message}{who}"))
                    .hint("Run it again when that one is done.")
            }
            RunError::Withdrawn { route, is_paused: true } => Self::waiting(message)
                .hint(format!("To run it again: chestnut route resume {}", typed(&route))),
            RunError::Withdrawn { .. } => Self::waiting(message)
                .hint("A command of somebody else did that. `chestnut route list` shows what there is now."),
            RunError::SameCalendar { .. } => Self { code: ExitCode::Usage, ..Self::failed(message) }
                .hint("Two names of the configuration lead to one calendar; a route needs two."),
            RunError::ClocksApart(_) => Self::failed(message)
                .hint("Set the clock right, here or there; until then deletions wait, and nothing else does."),
            RunError::Stopped { .. } => Self::failed(message).hint("Run `chestnut sync` to do the rest."),
            _ => Self::failed(message),
        }
    }
}

fn refused_sign_in(error: &CalendarError) -> bool {
    matches!(error, CalendarError::Dav(error) if error.class() == Class::Credentials)
}

/// What an account's server answers, where it is about all of the account.
pub(crate) fn account_failure(account: &str, error: &DavError) -> Failure {
    let failure = Failure::failed(format!("account {account}: {}", error.in_words()));
    let failure = failure.hint(dav_hint(error, account));
    match error.class() {
        Class::Credentials | Class::Retry | Class::OutcomeUnknown => {
            let fault = AccountFault { account: account.to_owned(), error: error.clone() };
            Failure { fault: Some(Box::new(fault)), ..failure }
        }
        _ => failure,
    }
}

/// What a person can do about a calendar that could not be read or written.
pub(crate) fn calendar_hint(error: &CalendarError, calendar: &str, account: Option<&str>) -> String {
    match (error, account) {
        (CalendarError::Dav(error), Some(account)) => dav_hint(error, account),
        (CalendarError::Dav(error), None) => feed_hint(error, calendar),
        (CalendarError::Text(NotACalendar::WebPage), _) => format!(
            "This is probably a sign-in page, or the page about the calendar instead of the calendar. Copy the address of the feed itself into calendar {calendar}. Nothing was changed."
        ),
        (CalendarError::Text(_), _) => {
            format!(
                "It was ignored; nothing was changed. See what stands there for calendar {calendar}, and run it again."
            )
        }
        (CalendarError::Vanished { is_folder, .. }, _) => {
            let empty = if *is_folder { "an empty folder" } else { "a calendar without entries" };
            format!(
                "What vanishes is not taken for emptied: nothing was deleted. Put it back. If it is gone for good, and calendar {calendar} only receives copies, put {empty} in its place: the next sync fills it again."
            )
        }
        (CalendarError::Disk { .. }, _) => {
            format!(
                "Check that it is there and may be read and written; calendar {calendar} names it. Nothing was lost."
            )
        }
        _ => READ_ONLY_FEED.to_owned(),
    }
}

/// What a feed is not, and what there is instead.
pub(crate) const READ_ONLY_FEED: &str = "A feed can only be read. To write there, ask for the calendar's CalDAV address and add it to an account; to show something to others, publish a feed of your own in return.";

fn feed_hint(error: &DavError, calendar: &str) -> String {
    match error {
        DavError::SignIn { .. } | DavError::Forbidden { .. } => format!(
            "The feed requires sign-in. Name the account with its user and password as `account` in calendar {calendar}, or ask for a private address of the feed."
        ),
        DavError::Status { status: 404 | 410, .. } => format!(
            "The publisher has removed it or changed its address. Ask for the new one, and put it into calendar {calendar}. Nothing was deleted."
        ),
        DavError::Transport(error) => match error.fault {
            TransportFault::Resolve | TransportFault::Connect => {
                format!("Check the address of calendar {calendar}, and this machine's network.")
            }
            TransportFault::TooLarge => "A feed of this size is not read.".to_owned(),
            TransportFault::Tls if error.detail == Detail::PlainHttp => {
                format!("Use the http:// address in calendar {calendar}, if you trust the network.")
            }
            TransportFault::Tls => format!(
                "The feed's server cannot be trusted, or does not use HTTPS at this port. Check the address of calendar {calendar}."
            ),
            _ => "Run it again later; nothing was changed.".to_owned(),
        },
        _ => format!(
            "Check the address of calendar {calendar}: open it in a browser, and it must give a file. Nothing was changed."
        ),
    }
}

/// What a person can do about an answer that is no CalDAV, by what came instead.
fn not_caldav_hint(is_web_page: bool, account: &str, test: &str) -> String {
    if is_web_page {
        return format!(
            "This is a web page: probably a sign-in page, or the address of the web calendar. Ask for the CalDAV address of account {account}; a network that requires its own sign-in does this too. Nothing was changed. See {test}."
        );
    }
    format!(
        "The address of account {account} leads to something that is not a CalDAV server, or its answer was damaged on the way. Nothing was changed. See {test}."
    )
}

/// Tells whether a user name and a password are among the ways to sign in that a server offers.
pub(super) fn takes_passwords(offered: &[String]) -> bool {
    offered.iter().any(|one| one == "basic" || one == "digest")
}

/// What a person can do about a refused sign-in, by what the server offers.
fn sign_in_hint(offered: &[String], sent: SignInKind, account: &str, test: &str) -> String {
    let takes = |scheme: &str| offered.iter().any(|one| one == scheme);
    if sent == SignInKind::Token && (takes("bearer") || offered.is_empty()) {
        return format!(
            "It has expired, was taken back, or is for another server: put a new one in the place of the token of account {account}, or, with `oauth`, `chestnut account login {typed}`. Then {test}.",
            typed = typed(account)
        );
    }
    if offered.is_empty() {
        return format!(
            "The server does not say how to sign in: probably something in front of it refuses (a gateway, a proxy), or the path is wrong. Check url, user and password of account {account}. Then {test}."
        );
    }
    if takes_passwords(offered) {
        return format!(
            "Check user and password of account {account}; with two-step sign-in most servers require an app password, made in their own settings. Then {test}."
        );
    }
    if takes("bearer") {
        return format!(
            "Give account {account} a `token`, or `oauth` and then `chestnut account login {typed}`.",
            typed = typed(account)
        );
    }
    format!(
        "Ask for an app password or a token: this way to sign in works from the organisation's own machines alone. Then {test}."
    )
}

/// How to let another server have the sign-in.
fn also_at_hint(account: &str, to: &str) -> String {
    format!(
        "Only where {to} belongs to the same service: write sign-in-also-at = [\"{to}\"] into account {account}, or let `chestnut account test {typed}` ask you.",
        typed = typed(account)
    )
}

/// The same advice while an account is being added: nothing can be asked about it by its name yet.
pub(crate) fn hint_before_it_is_written(hint: &str, account: &str) -> String {
    let test = format!("`chestnut account test {}`", typed(account));
    let sentences = [format!(" Then {test}."), format!(" See {test}.")];
    let hint = sentences.iter().fold(hint.to_owned(), |hint, sentence| hint.replace(sentence, ""));
    hint.replace(&format!(" of account {account}"), "").replace(&format!(" in account {account}"), "")
}

/// What a person can do about a server's answer.
pub(crate) fn dav_hint(error: &DavError, account: &str) -> String {
    let test = format!("`chestnut account test {}`", typed(account));
    match error {
        DavError::SignIn { offered, sent } => sign_in_hint(offered, *sent, account, &test),
        DavError::NotFound { .. } => format!(
            "Check the path: see what is there with `chestnut calendar list {}`; as the url of an account the bare host will do.",
            typed(account)
        ),
        DavError::NotCalDav { instead, .. } => not_caldav_hint(*instead == Instead::WebPage, account, &test),
        DavError::NoCalendars { .. } => {
            format!("Check the url of account {account}: a CalDAV address, not that of the web page.")
        }
        DavError::Incomplete => "It was ignored. Run it again later.".to_owned(),
        DavError::Forbidden { .. } => {
            format!("Ask for the right, or see the rights with `chestnut calendar list {}`.", typed(account))
        }
        DavError::Transport(error) => match error.fault {
            TransportFault::Resolve => {
                format!("Check the host in the url of account {account}, and this machine's network.")
            }
            TransportFault::Connect => {
                format!(
                    "Check host and port in the url of account {account}, and that the server is running."
                )
            }
            TransportFault::Tls if error.certificate == Some(CertificateFault::UnknownIssuer) => {
                format!(
                    "If this is your own certificate authority, name its file with `ca` in account {account}. See `chestnut account test {typed}`.",
                    typed = typed(account)
                )
            }
            TransportFault::Tls if error.certificate.is_some() => {
                format!(
                    "`chestnut account test {}` shows whose certificate it is, and what to do.",
                    typed(account)
                )
            }
            TransportFault::Tls if error.detail == Detail::PlainHttp => {
                format!(
                    "Write the url of account {account} with http:// and say `plain-http = true`, if you trust the network; or ask for the server's https address."
                )
            }
            TransportFault::Tls => {
                format!(
                    "The server probably does not use HTTPS at this port, or requires a certificate from you (`certificate` in account {account})."
                )
            }
            TransportFault::UnsendableSecret => {
                format!(
                    "Check that user and password of account {account} have no line breaks or control characters."
                )
            }
            TransportFault::SignInEnded => {
                format!("Sign in: `chestnut account login {}`.", typed(account))
            }
            TransportFault::TooLarge => {
                "No calendar server answers like this. Check the address; nothing was changed.".to_owned()
            }
            TransportFault::PlainHttp => {
                format!(
                    "Use https, or allow it with `plain-http = true` in account {account} if you trust the network."
                )
            }
            TransportFault::SignInElsewhere => match &error.detail {
                Detail::To(to) => also_at_hint(account, to),
                _ => format!("See {test}."),
            },
            TransportFault::Downgrade => {
                format!(
                    "Tell whoever runs the server, or check the url of account {account}. Nothing was sent."
                )
            }
            TransportFault::WriteElsewhere => {
                format!("Use the calendar's own address there: see {test}. Nothing was written.")
            }
            TransportFault::Redirect => format!("Check the url of account {account}."),
            _ => format!("Run it again; if it stays, raise `timeout` in account {account}."),
        },
        DavError::Status { status: 405 | 501, .. } => {
            format!(
                "There is a web server, but no CalDAV at this address. Check the path in the url of account {account}; the bare host will do."
            )
        }
        DavError::Status { status: 407, .. } => {
            format!(
                "The proxy requires sign-in: proxy = {{ url = \"…\", user = \"…\", password = {{ file = \"…\" }} }} in account {account}."
            )
        }
        DavError::Status { status: 300..=399, .. } => {
            format!(
                "The server redirects to nowhere. Check the url of account {account}; the bare host will do."
            )
        }
        DavError::Status { status: 429, .. } => {
            format!(
                "The server asks for fewer requests. Run it again later, and lower `at-once` in account {account} if it stays."
            )
        }
        DavError::Status { status: 500..=599, .. } => {
            format!(
                "The fault is the server's. Nothing was lost. Run it again later; if it stays, tell whoever runs it. {test} shows how the account is."
            )
        }
        _ => format!("Nothing was lost. Run it again later; {test} shows how the account is."),
    }
}
