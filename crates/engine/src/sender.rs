//! Sends single writes on conditions, and learns whether the server minds them.

use std::cell::Cell;

use chestnut_caldav::protocol::{Condition, Stored};
use chestnut_core::{ETag, EventUid, ObjectHref, WriteKind};
use chestnut_store::{RouteId, SideId, Store};

use crate::calendar::CalendarError;
use crate::error::RunError;
use crate::route::CalendarEnd;
use crate::survey::{Item, Surveyor};

/// One write, ready to send.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Outgoing<'w> {
    pub(crate) href: &'w ObjectHref,
    pub(crate) uid: &'w EventUid,
    pub(crate) text: &'w str,
    pub(crate) kind: WriteKind,
    /// What stands there, as it was read: its ETag, and its text.
    pub(crate) standing: Option<(Option<&'w ETag>, &'w str)>,
}

impl Outgoing<'_> {
    fn condition(&self) -> Condition {
        match (self.kind, self.standing.and_then(|(etag, _)| etag.cloned())) {
            (WriteKind::Create, _) => Condition::Absent,
            (WriteKind::Update, Some(etag)) => Condition::Is(etag),
            (WriteKind::Update, None) => Condition::Exists,
        }
    }
}

/// What came of sending one write.
#[derive(Debug)]
pub(crate) enum Sent {
    Stored,
    /// Somebody else was there first: read this href and decide again.
    LookAgain(ObjectHref),
    Refused(String),
    /// Another entry has its UID, out of reach in another calendar.
    UidTaken,
    /// The server fails on it; whether for good shows when others went through.
    Stumbled(u16),
    Lost(CalendarError),
    NotBegun,
    SignIn,
}

/// What came of sending one deletion.
#[derive(Debug)]
pub(crate) enum Removed {
    Done,
    /// It was gone already.
    Missing,
    /// Somebody changed it meanwhile.
    LookAgain,
    Refused(String),
    Lost(CalendarError),
    NotBegun,
    SignIn,
}

/// Sends to one calendar.
pub(crate) struct Sender<'r> {
    pub(crate) end: &'r CalendarEnd,
    pub(crate) side: SideId,
    pub(crate) store: &'r Store,
    pub(crate) id: RouteId,
    /// Set by a person who wants it to stop.
    pub(crate) stop: &'r Cell<bool>,
    pub(crate) surveyor: &'r Surveyor<'r>,
}

impl Sender<'_> {
    /// Sends one write. `ignores` tells whether the server minds conditions, once that is known.
    pub(crate) async fn send(&self, out: &Outgoing<'_>, ignores: Option<bool>) -> Sent {
        if self.stop.get() {
            return Sent::NotBegun;
        }
        let must_look = match ignores {
            Some(ignores) => ignores,
            None => out.kind == WriteKind::Update,
        };
        if must_look {
            match self.stands_as_known(out).await {
                Ok(true) => {}
                Ok(false) => return Sent::LookAgain(out.href.clone()),
                Err(error) => return Sent::Lost(error),
            }
        }
        let calendar = &self.end.calendar;
        match calendar.put(out.href, out.text, &out.condition()).await {
            Ok(Stored::Done { .. }) => Sent::Stored,
            Ok(Stored::ConditionFailed) => Sent::LookAgain(out.href.clone()),
            Ok(Stored::Missing) if out.kind == WriteKind::Update => Sent::LookAgain(out.href.clone()),
            Ok(Stored::Missing) => Sent::Refused("the calendar was not found while writing (404)".to_owned()),
            Ok(Stored::UidTaken { by }) => self.uid_taken(out, by),
            Ok(Stored::Refused { status, words }) => Sent::Refused(match words {
                Some(words) => format!("the server refuses it ({status}: {words})"),
                None => format!("the server refuses it ({status})"),
            }),
            Ok(Stored::Failed { status }) => Sent::Stumbled(status),
            Ok(Stored::SignIn) => Sent::SignIn,
            Err(error) if error.is_stop() => Sent::NotBegun,
            Err(error) => Sent::Lost(error),
        }
    }

    /// Deletes what was just read at this href, `None` where nothing stood there any more.
    pub(crate) async fn delete(&self, href: &ObjectHref, item: Option<&Item>) -> Removed {
        let Some(item) = item else { return Removed::Missing };
        if self.stop.get() {
            return Removed::NotBegun;
        }
        let condition = item.etag().map_or(Condition::Exists, |etag| Condition::Is(etag.clone()));
        match self.end.calendar.delete(href, &condition).await {
            Ok(Stored::Done { .. }) => Removed::Done,
            Ok(Stored::Missing) => Removed::Missing,
            Ok(Stored::ConditionFailed) => Removed::LookAgain,
            Ok(Stored::SignIn) => Removed::SignIn,
            Ok(Stored::Refused { status, .. } | Stored::Failed { status }) => {
                Removed::Refused(format!("the server does not delete it ({status})"))
            }
            Ok(Stored::UidTaken { .. }) => Removed::Refused("the server does not delete it".to_owned()),
            Err(error) if error.is_stop() => Removed::NotBegun,
            Err(error) => Removed::Lost(error),
        }
    }

    /// Another entry has the UID: where in this calendar, or somewhere out of reach.
    fn uid_taken(&self, out: &Outgoing<'_>, by: Option<ObjectHref>) -> Sent {
        let known = || {
            let known = self.store.known_by_uid(self.id, self.side, out.uid).ok()?;
            known.into_iter().map(|k| k.href).next()
        };
        let folder = |href: &ObjectHref| href.as_str().rsplit_once('/').map(|(folder, _)| folder.to_owned());
        let here = folder(out.href);
        match by.or_else(known).filter(|href| folder(href) == here && href != out.href) {
            Some(href) => Sent::LookAgain(href),
            None => Sent::UidTaken,
        }
    }

    /// Looks before a write, for servers that write although a condition does not hold.
    async fn stands_as_known(&self, out: &Outgoing<'_>) -> Result<bool, CalendarError> {
        let found = self.surveyor.fetch(std::slice::from_ref(out.href)).await;
        let found = match found {
            Ok(found) => found.into_iter().next().and_then(|(_, item)| item),
            Err(RunError::Calendar { error, .. }) => return Err(*error),
            Err(_) => return Ok(false),
        };
        let wanted = out.standing.filter(|_| out.kind == WriteKind::Update);
        Ok(match (wanted, found) {
            (None, None) => true,
            (Some((etag, known)), Some(item)) => match (etag, item.etag()) {
                (Some(known), Some(now)) => known == now,
                _ => matches!(&item, Item::Entry { text, .. } if text == known),
            },
            _ => false,
        })
    }

    /// Sends what was just stored once more, on conditions that do not hold: a server that takes it ignores them.
    pub(crate) async fn try_conditions(&self, stored: Option<&Outgoing<'_>>) -> Option<bool> {
        let Some(out) = stored.filter(|out| out.kind == WriteKind::Create) else {
            // Without a new entry there is nothing to try it on; until then every write is preceded by a look.
            return stored.map(|_| true);
        };
        let calendar = &self.end.calendar;
        let mut ignores = false;
        for condition in [Condition::Absent, Condition::Is(ETag::from("\"chestnut-no-such-state\""))] {
            let answer = calendar.put(out.href, out.text, &condition).await;
            ignores |= matches!(answer, Ok(Stored::Done { .. }));
        }
        Some(ignores)
    }
}
