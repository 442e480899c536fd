//! Who runs what: one at a time, also across processes. A lease is a row; it ends with whoever holds it.

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};

use jiff::Timestamp;
use rusqlite::{OptionalExtension as _, params};

use crate::error::StoreError;
use crate::store::Store;

/// So long a lease lasts of which nothing is heard, where nobody can tell whether its holder still runs.
const LASTS: i64 = 300;

/// Who holds a lease.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Holder {
    /// The process, by its number on its machine.
    pub process: u32,
    /// Since when.
    pub since: Timestamp,
}

impl std::fmt::Display for Holder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, " (process {}, since {})", self.process, self.since)
    }
}

/// The right to do something, until this is dropped.
#[derive(Debug)]
pub struct Lease<'s> {
    store: &'s Store,
    name: String,
    number: i64,
}

/// One opened state; all of a process that are open now.
#[derive(Debug)]
pub(crate) struct Presence(u64);

static OPEN: Mutex<BTreeSet<u64>> = Mutex::new(BTreeSet::new());
static NEXT: AtomicU64 = AtomicU64::new(1);

impl Presence {
    pub(crate) fn begin() -> Self {
        let number = NEXT.fetch_add(1, Ordering::Relaxed);
        OPEN.lock().unwrap_or_else(PoisonError::into_inner).insert(number);
        Self(number)
    }

    /// Process, its beginning as the system counts it, and which of its states.
    fn name(&self) -> String {
        let process = std::process::id();
        format!("{process}:{}:{}", began(process).unwrap_or_default(), self.0)
    }
}

impl Drop for Presence {
    fn drop(&mut self) {
        OPEN.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.0);
    }
}

/// When a process began, in the system's own count: a number that is given again to another process shows.
fn began(process: u32) -> Option<String> {
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).ok()?;
    // The name before may hold anything; field 22 is the 20th behind it.
    stat.rsplit_once(')')?.1.split_whitespace().nth(19).map(str::to_owned)
}

/// Tells whether a holder still runs; `None` where that cannot be known.
fn is_alive(holder: &str) -> Option<bool> {
    let mut parts = holder.split(':');
    let process: u32 = parts.next()?.parse().ok()?;
    let began_then = parts.next()?;
    if process == std::process::id() && began(process).unwrap_or_default() == began_then {
        let number: u64 = parts.next()?.parse().ok()?;
        return Some(OPEN.lock().unwrap_or_else(PoisonError::into_inner).contains(&number));
    }
    if began_then.is_empty() {
        return None;
    }
    Some(began(process).as_deref() == Some(began_then))
}

#[expect(clippy::disallowed_methods, reason = "a lease is about real time, whatever the clock of a run says")]
fn now() -> i64 {
    Timestamp::now().as_second()
}

impl Store {
    /// Takes a lease.
    ///
    /// # Errors
    /// [`StoreError::Busy`] where somebody else holds it.
    pub fn lease(&self, name: &str) -> Result<Lease<'_>, StoreError> {
        let now = now();
        let number = self.write(|writer| {
            let connection = writer.connection;
            let held: Option<(String, i64, i64, i64)> = connection
                .prepare_cached("SELECT holder, number, since, until FROM lease WHERE name = ?")?
                .query_row([name], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?)))
                .optional()?;
            let mut number = 1;
            if let Some((holder, last, since, until)) = held {
                number = last + 1;
                if !holder.is_empty() && is_alive(&holder).unwrap_or(until > now) {
                    let process = holder.split(':').next().and_then(|p| p.parse().ok()).unwrap_or(0);
                    let since = Timestamp::from_second(since).unwrap_or_default();
                    let holder = Some(Holder { process, since });
                    return Err(StoreError::Busy { name: name.to_owned(), holder });
                }
            }
            connection
                .prepare_cached("INSERT OR REPLACE INTO lease VALUES (?, ?, ?, ?, ?)")?
                .execute(params![name, self.presence.name(), number, now, now + LASTS])?;
            Ok(number)
        })?;
        Ok(Lease { store: self, name: name.to_owned(), number })
    }
}

impl Lease<'_> {
    /// Says that its holder is still at work.
    ///
    /// # Errors
    /// [`StoreError::Busy`]: it was taken by another.
    pub fn renew(&self) -> Result<(), StoreError> {
        let done = self
            .store
            .connection
            .prepare_cached("UPDATE lease SET until = ? WHERE name = ? AND number = ?")?
            .execute(params![now() + LASTS, self.name, self.number])?;
        match done {
            0 => Err(StoreError::Busy { name: self.name.clone(), holder: None }),
            _ => Ok(()),
        }
    }
}

impl Drop for Lease<'_> {
    fn drop(&mut self) {
        let given_back = self.store.write(|writer| {
            let sql = "UPDATE lease SET holder = '', until = 0 WHERE name = ? AND number = ?";
            Ok(writer.connection.prepare_cached(sql)?.execute(params![self.name, self.number])?)
        });
        // It ends with the process, or with its time.
        drop(given_back);
    }
}
