//! Who runs what: one at a time, also across processes. A lease is a row; it ends with whoever holds it.

use jiff::Timestamp;
use rusqlite::{OptionalExtension as _, params};
use serde::{Deserialize, Serialize};

use crate::error::StoreError;
use crate::presence::is_alive;
use crate::store::Store;

/// So long a lease lasts of which nothing is heard, where nobody can tell whether its holder still runs.
const LASTS: i64 = 300;

/// Who holds a lease.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Holder {
    /// The process, by its number on its machine.
    pub process: u32,
    /// Since when.
    pub since: Timestamp,
}

/// The right to do something, until this is dropped.
#[derive(Debug)]
pub struct Lease<'s> {
    store: &'s Store,
    name: String,
    number: i64,
}

#[expect(clippy::disallowed_methods, reason = "a lease is about real time, whatever the clock of a run says")]
fn now() -> i64 {
    Timestamp::now().as_second()
}

/// The name of the lease without which a route is not run.
#[must_use]
pub fn route_lease(route: &str) -> String {
    format!("route {route}")
}

impl Store {
    /// Returns who holds a lease, and is still there as far as anybody knows.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn holder(&self, name: &str) -> Result<Option<Holder>, StoreError> {
        let held: Option<(String, i64, i64)> = self
            .connection
            .prepare_cached("SELECT holder, since, until FROM lease WHERE name = ?")?
            .query_row([name], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))
            .optional()?;
        let held = held
            .filter(|(holder, _, until)| !holder.is_empty() && is_alive(holder).unwrap_or(*until > now()));
        Ok(held.map(|(holder, since, _)| Holder {
            process: holder.split(':').next().and_then(|process| process.parse().ok()).unwrap_or(0),
            since: Timestamp::from_second(since).unwrap_or_default(),
        }))
    }

    /// Takes a lease.
    ///
    /// # Errors
    /// [`StoreError::Busy`] where somebody else holds it.
    pub fn lease(&self, name: &str) -> Result<Lease<'_>, StoreError> {
        let now = now();
        let number = self.write(|writer| {
            let connection = writer.connection;
            if let Some(holder) = self.holder(name)? {
                return Err(StoreError::Busy { name: name.to_owned(), holder: Some(holder) });
            }
            let sql = "INSERT INTO lease VALUES (?1, ?2, 1, ?3, ?4) ON CONFLICT (name)
                 DO UPDATE SET holder = ?2, number = number + 1, since = ?3, until = ?4 RETURNING number";
            let values = params![name, self.presence.name(), now, now + LASTS];
            Ok(connection.prepare_cached(sql)?.query_row(values, |row| row.get(0))?)
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
