//! Sends single writes on conditions, and learns whether the server minds them.

use std::cell::Cell;

use chestnut_caldav::protocol::{Condition, Stored};
use chestnut_core::{ETag, ObjectHref, WriteKind};
use chestnut_store::Told;

use crate::calendar::CalendarError;
use crate::rule::CalendarEnd;

/// What came of sending one write or deletion.
#[derive(Debug)]
pub(crate) enum Sent {
    /// Its server took it; with the ETag that it gave, and where it stands, if it says so.
    Done(Option<ETag>, Option<ObjectHref>),
    /// The condition does not hold, or nothing stands there: look, and decide again.
    LookAgain,
    /// Another entry has its UID: there, if the server says where.
    UidTaken(Option<ObjectHref>),
    /// It is refused; for good, where the server says what is wrong with the text.
    Refused {
        told: Told,
        for_good: bool,
        /// The server names no reason that lies in the text.
        is_unnamed: bool,
    },
    /// The server fails now, and may not later.
    Fails(u16),
    Lost(CalendarError),
    NotBegun,
    SignIn(CalendarError),
}

impl Sent {
    /// Where it stands, by its server's own word.
    pub(crate) fn place(&self) -> Option<&ObjectHref> {
        if let Self::Done(_, at) = self { at.as_ref() } else { None }
    }
}

/// One write, ready to send.
#[derive(Debug, Clone)]
pub(crate) struct Outgoing<'w> {
    pub(crate) href: &'w ObjectHref,
    /// `None` deletes.
    pub(crate) text: Option<&'w str>,
    /// Whoever invited is not answered.
    pub(crate) silently: bool,
    pub(crate) condition: Condition,
}

/// On which condition a write may happen, given the ETag of what stands there.
pub(crate) fn condition(kind: WriteKind, etag: Option<&ETag>, lied: bool) -> Condition {
    match (kind, etag) {
        (WriteKind::Create, _) => Condition::Absent,
        // What is known stands there, and the condition failed all the same.
        (WriteKind::Update, _) if lied => Condition::Exists,
        (WriteKind::Update, Some(etag)) if etag.fits_a_header() => Condition::Is(etag.clone()),
        (WriteKind::Update, _) => Condition::Exists,
    }
}

/// Sends one write.
pub(crate) async fn send(end: &CalendarEnd, out: &Outgoing<'_>, stop: &Cell<bool>) -> Sent {
    if stop.get() {
        return Sent::NotBegun;
    }
    let answer = match out.text {
        Some(text) => end.calendar.put(out.href, text, &out.condition).await,
        None => end.calendar.delete(out.href, &out.condition, out.silently).await,
    };
    match answer {
        Ok(Stored::Done { etag, at }) => Sent::Done(etag, at),
        // Gone already: the next listing tells.
        Ok(Stored::Missing) if out.text.is_none() => Sent::Done(None, None),
        Ok(Stored::ConditionFailed | Stored::Missing) => Sent::LookAgain,
        Ok(Stored::UidTaken { by }) => Sent::UidTaken(by),
        Ok(Stored::Refused { status, .. }) if out.text.is_none() => {
            let told = Told::NotDeleted { status };
            Sent::Refused { told, for_good: false, is_unnamed: false }
        }
        Ok(Stored::Refused { status, words, for_good }) => {
            let is_unnamed = !for_good && matches!(status, 403 | 409);
            Sent::Refused { told: Told::Refused { status, words }, for_good, is_unnamed }
        }
        Ok(Stored::Failed { status }) => Sent::Fails(status),
        Ok(Stored::SignIn(error)) => Sent::SignIn((*error).into()),
        Err(error) if error.is_stop() => Sent::NotBegun,
        Err(error) => Sent::Lost(error),
    }
}

/// Sends what was just stored once more, on conditions that do not hold: a server that takes it ignores them. It is
/// what stands there: nothing changes by it.
pub(crate) async fn try_conditions(end: &CalendarEnd, href: &ObjectHref, text: &str) -> bool {
    let mut ignores = false;
    for condition in [Condition::Absent, Condition::Is(ETag::from("\"chestnut-no-such-state\""))] {
        let answer = end.calendar.put(href, text, &condition).await;
        ignores |= matches!(answer, Ok(Stored::Done { .. }));
    }
    ignores
}
