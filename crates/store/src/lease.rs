//! Who runs what: one at a time, also across processes. A lease is a row; it ends with whoever holds it.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::database::values;
use crate::error::StoreError;
use crate::presence::{is_alive, machine};
use crate::store::Store;

/// Who holds a lease.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Holder {
    /// The process, by its number on its machine.
    pub process: u32,
    /// Its machine, where it is another one than ours.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub machine: Option<String>,
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
        let sql = "SELECT holder, since, until FROM lease WHERE name = ?";
        let held = self.database.one(sql, values![name], |row| {
            Ok((row.get::<String>(0)?, row.get::<i64>(1)?, row.get::<i64>(2)?))
        })?;
        let Some((holder, since, until)) = held.filter(|(holder, ..)| !holder.is_empty()) else {
            return Ok(None);
        };
        let is_there = match is_alive(&holder) {
            // Whoever was stopped for so long that others may have gone on does not hold it any more.
            Some(true) => !self.database.is_shared() || until > self.database.now()?,
            Some(false) => false,
            None => until > self.database.now()?,
        };
        Ok(is_there.then(|| Holder {
            process: holder.split(':').next().and_then(|process| process.parse().ok()).unwrap_or(0),
            machine: machine(&holder),
            since: Timestamp::from_second(since).unwrap_or_default(),
        }))
    }

    /// Takes a lease.
    ///
    /// # Errors
    /// [`StoreError::Busy`] where somebody else holds it.
    pub fn lease(&self, name: &str) -> Result<Lease<'_>, StoreError> {
        let number = self.write(|writer| {
            if let Some(holder) = self.holder(name)? {
                return Err(StoreError::Busy { name: name.to_owned(), holder: Some(holder) });
            }
            let now = self.database.now()?;
            let sql = "INSERT INTO lease (name, holder, number, since, until) VALUES (?1, ?2, 1, ?3, ?4)
                 ON CONFLICT (name) DO UPDATE SET holder = excluded.holder, number = lease.number + 1,
                 since = excluded.since, until = excluded.until RETURNING number";
            let until = now + self.database.lease_lasts();
            writer.database.number(sql, values![name, self.presence.name(), now, until])
        })?;
        self.database.keep(name, number);
        Ok(Lease { store: self, name: name.to_owned(), number })
    }
}

impl Lease<'_> {
    /// Says that its holder is still at work.
    ///
    /// # Errors
    /// [`StoreError::Busy`]: it was taken by another.
    pub fn renew(&self) -> Result<(), StoreError> {
        let database = &self.store.database;
        let until = database.now()? + database.lease_lasts();
        let sql = "UPDATE lease SET until = ? WHERE name = ? AND number = ?";
        match database.changed(sql, values![until, self.name, self.number])? {
            0 => Err(StoreError::Busy { name: self.name.clone(), holder: None }),
            _ => Ok(()),
        }
    }
}

impl Drop for Lease<'_> {
    fn drop(&mut self) {
        self.store.database.let_go(&self.name);
        let given_back = self.store.write(|writer| {
            let sql = "UPDATE lease SET holder = '', until = 0 WHERE name = ? AND number = ?";
            writer.run(sql, values![self.name, self.number])
        });
        // It ends with the process, or with its time.
        drop(given_back);
    }
}
