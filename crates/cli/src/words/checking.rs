//! What was seen on the way to a server, and what to do where the way ends.

use chestnut_caldav::connection_check::{CertificateFacts, ServiceRecord};
use chestnut_caldav::{Answer, CertificateFault, DavError};
use chestnut_core::Scheduling;
use chestnut_engine::WriteStep;
use jiff::{SignedDuration, Timestamp};

use super::failures::account_failure;
use super::lengths::{expires, long_words};
use crate::failure::Failure;
use crate::render::{count, typed};
use crate::settings::{AccountSettings, SignInSettings};

pub(crate) const PLAIN_HTTP: &str = "none: this is plain HTTP";
pub(crate) const TRUSTED_THROUGH_PROXY: &str = "a certificate that is trusted, through the proxy";
pub(crate) const NO_PRINCIPAL: &str = "none named: the address is a calendar's own";

pub(crate) fn account_step_failed(name: &str, error: &DavError, hint: String) -> Failure {
    Failure { hint: Some(hint), ..account_failure(name, error) }
}

pub(crate) fn calendars_are_at(domain: &str, record: &ServiceRecord) -> String {
    format!("{domain} has its calendars at {}:{}{}", record.host, record.port, record.path)
}

pub(crate) fn calendars_are_elsewhere(domain: &str, record: &ServiceRecord) -> String {
    format!("{domain} has its calendars at {}, another domain", record.host)
}

fn the_proxy(is_proxy: bool) -> &'static str {
    if is_proxy { "the proxy " } else { "" }
}

/// `addresses` where it is a name.
pub(crate) fn host_words(host: &str, addresses: Option<&[String]>, is_proxy: bool) -> String {
    let proxy = the_proxy(is_proxy);
    match addresses {
        None => format!("{proxy}{host} is an IP address, no lookup needed"),
        Some(addresses) => format!("{proxy}{host} is at {}", addresses.join(", ")),
    }
}

pub(crate) fn answers(peer: &str, is_proxy: bool) -> String {
    format!("{}{peer} answers", the_proxy(is_proxy))
}

pub(crate) fn check_proxy(account: &str) -> String {
    format!(
        "This is the proxy on the way. Check `proxy` in account {account}, or the environment's HTTPS_PROXY; `proxy = \"none\"` goes without."
    )
}

fn day(at: Timestamp) -> String {
    at.strftime("%-d %b %Y").to_string()
}

pub(crate) fn certificate_words(facts: &CertificateFacts) -> String {
    format!(
        "{}, certificate for {}, signed by {}, valid until {}",
        facts.protocol,
        few_names(&facts.names),
        facts.issuer,
        day(facts.until)
    )
}

/// Certificates of hosters are made out to many names.
fn few_names(names: &[String]) -> String {
    match names {
        [first, _, _, rest @ ..] => format!("{first} and {}", count(rest.len() + 2, "other", "others")),
        few => few.join(", "),
    }
}

pub(crate) fn certificate_ends(left: SignedDuration) -> String {
    format!("the certificate {}", expires(left.as_hours() / 24))
}

/// `apart` is positive where the server's clock is ahead.
pub(crate) fn clocks_differ(apart: SignedDuration) -> String {
    let which = if apart.is_positive() { "ahead of" } else { "behind" };
    format!("the server's clock is {} {which} this machine's: one of them is wrong", long_words(apart))
}

pub(crate) fn calendars_found(number: usize, writable: usize) -> String {
    match number {
        0 => "none yet".to_owned(),
        n => format!("{}, {writable} can be written", count(n, "calendar", "calendars")),
    }
}

pub(crate) fn sends_on(server: &str, account: &str) -> String {
    format!(
        "The server redirects to {server}; a password is never sent to another server. If that one is yours, use it as the url of account {account}: {server}"
    )
}

/// What can be done about a certificate that was looked at; `None` where nothing special.
pub(crate) fn certificate_advice(
    fault: CertificateFault,
    facts: Option<&CertificateFacts>,
    account: &str,
    now: Timestamp,
) -> Option<String> {
    let names = facts.map(|f| few_names(&f.names)).unwrap_or_default();
    Some(match (fault, facts) {
        (CertificateFault::WrongName, _) => format!(
            "It is for {names}. Use a name that it is for in the url of account {account}, if that leads to the same server."
        ),
        (CertificateFault::UnknownIssuer, Some(f)) => format!(
            "It is signed by {}. If that is your own certificate authority, name its file: ca = \"…\" in account {account}. If not, somebody may be listening in.",
            f.issuer
        ),
        (CertificateFault::Expired, Some(f)) => format!(
            "It expired on {}. Whoever runs the server must renew it. If that day has not come yet, this machine's clock is wrong: it says {}.",
            day(f.until),
            day(now)
        ),
        (CertificateFault::NotYetValid, Some(f)) => format!(
            "It is valid from {}. If that day has passed, this machine's clock is wrong: it says {}.",
            day(f.from),
            day(now)
        ),
        _ => return None,
    })
}

/// How the sign-in went.
pub(crate) fn signed_in_words(account: &AccountSettings) -> String {
    match (&account.sign_in, &account.user) {
        (SignInSettings::Nobody, _) => "not asked for".to_owned(),
        (SignInSettings::Password(_), Some(user)) => format!("accepted, as {user}"),
        (SignInSettings::Password(_), None) => "accepted".to_owned(),
        (SignInSettings::Token(_), _) => "accepted, by token".to_owned(),
        (SignInSettings::OAuth(_), _) => "accepted, by OAuth".to_owned(),
    }
}

/// Whether a server writes to people by itself, as far as it tells.
pub(crate) fn scheduling_words(scheduling: &Scheduling) -> String {
    match scheduling {
        Scheduling::Never => "the server sends no invitations".to_owned(),
        Scheduling::Anybody => "the server sends invitations, and does not say for whom".to_owned(),
        Scheduling::For(own) if own.is_empty() => {
            "the server sends invitations, but has no address to send them for".to_owned()
        }
        Scheduling::For(own) => {
            let plain = |address: &String| address.trim_start_matches("mailto:").to_owned();
            let mut all: Vec<_> = own.iter().map(plain).collect();
            all.dedup();
            format!("the server sends invitations for {}", all.join(", "))
        }
    }
}

/// The word for a step of writing a test entry, and what was seen where it went well.
pub(crate) fn write_step_words(step: WriteStep) -> (&'static str, &'static str) {
    match step {
        WriteStep::Create => ("create", "a test entry was created, and stands there as it was sent"),
        WriteStep::Condition => ("condition", ""),
        WriteStep::Change => ("change", "it was changed"),
        WriteStep::Delete => ("delete", "it was deleted"),
    }
}

/// Whether a server minds the conditions of writes.
pub(crate) fn condition_words(keeps: Option<bool>) -> &'static str {
    match keeps {
        Some(false) => "the server ignores conditions (If-Match): Chestnut looks before each write",
        _ => "the server keeps to conditions (If-Match): nothing is overwritten unseen",
    }
}

/// A test entry could not be taken away.
pub(crate) fn left_there(calendar: &str) -> Failure {
    Failure::failed(format!("the test entry may still stand in {calendar}")).hint(format!(
        "Try again: `chestnut account test --write {}` takes away what it left.",
        typed(calendar)
    ))
}

/// What a server says of itself without a sign-in.
pub(crate) fn server_words(answer: &Answer) -> String {
    let headers = answer.headers.get_all("dav").iter().filter_map(|h| h.to_str().ok());
    let classes: Vec<_> = headers.flat_map(|h| h.split(',')).map(str::trim).collect();
    let knows = |class: &str| classes.contains(&class);
    let mut words = Vec::new();
    if knows("calendar-access") {
        words.push("speaks CalDAV".to_owned());
    }
    if knows("calendar-auto-schedule") {
        words.push("sends invitations by itself".to_owned());
    }
    if answer.status == 401 {
        words.push("requires sign-in".to_owned());
    } else if !knows("calendar-access") {
        words.push(format!("answers ({})", answer.status));
    }
    if let Some(product) = answer.header("server") {
        words.push(format!("calls itself {}", product.chars().take(60).collect::<String>()));
    }
    words.join("; ")
}
