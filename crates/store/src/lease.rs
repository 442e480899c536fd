//! Who runs what: one at a time, also across processes. A lease is a row; it ends with whoever holds it.

use crate::database::values;
use crate::error::StoreError;
use crate::presence::{Holder, is_alive, present_holder};
use crate::records::CalendarId;
use crate::store::Store;
use crate::writer::Writer;

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

/// The name of the lease of who reads what is new in a calendar.
#[must_use]
pub fn calendar_lease(calendar: CalendarId) -> String {
    format!("calendar {}", calendar.0)
}

/// How the leases of watches are called.
const WATCHES: &str = "watch ";

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
        let Some(held) = held.filter(|(holder, ..)| !holder.is_empty()) else { return Ok(None) };
        Ok(present_holder(held, self.database.now()?, self.database.is_shared()))
    }

    /// Says that a watch works with this state, until what is returned is dropped.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn attend(&self) -> Result<Lease<'_>, StoreError> {
        self.lease(&self.attendance())
    }

    /// Under which name this one watches, if it does.
    #[must_use]
    pub fn attendance(&self) -> String {
        format!("{WATCHES}{}", self.presence.name())
    }

    /// Returns under which names watches work with this state, sorted, as far as they were heard of lately enough: who
    /// asks six times while a lease lasts hears of an end before the lease has ended.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn attending(&self) -> Result<Vec<String>, StoreError> {
        let at_least = self.database.now()? + self.database.lease_lasts() / 6;
        let sql = "SELECT name, holder FROM lease WHERE substr(name, 1, 6) = ? AND until > ? ORDER BY name";
        let rows = self.database.rows(sql, values![WATCHES, at_least], |row| {
            Ok((row.get::<String>(0)?, row.get::<String>(1)?))
        })?;
        let there =
            rows.into_iter().filter(|(_, holder)| !holder.is_empty() && is_alive(holder) != Some(false));
        Ok(there.map(|(name, _)| name).collect())
    }

    /// Returns who watches, as far as the state tells; for states that several may watch.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn watches(&self) -> Result<Vec<Holder>, StoreError> {
        let holders = self.attending()?.into_iter().map(|name| self.holder(&name));
        holders.filter_map(Result::transpose).collect()
    }

    /// Tells whether other machines may work with this state, and for how many seconds a lease of one lasts that is not
    /// heard of.
    #[must_use]
    pub fn shared_lease(&self) -> Option<i64> {
        self.database.is_shared().then(|| self.database.lease_lasts())
    }

    /// Takes a lease.
    ///
    /// # Errors
    /// [`StoreError::Busy`] where somebody else holds it; [`StoreError::Newer`] where a newer Chestnut brought the state to
    /// another format meanwhile.
    pub fn lease(&self, name: &str) -> Result<Lease<'_>, StoreError> {
        let number = self.write(|writer| {
            for (name, number) in self.owed.borrow().iter() {
                give_back(writer, name, *number)?;
            }
            self.database.check_format(self.place())?;
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
        self.owed.borrow_mut().clear();
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
        if self.store.write(|writer| give_back(writer, &self.name, self.number)).is_err() {
            // A process that goes on would keep it from everybody, and from itself.
            self.store.owed.borrow_mut().insert(self.name.clone(), self.number);
        }
    }
}

/// Ends a lease, unless another has taken it meanwhile.
fn give_back(writer: &Writer<'_>, name: &str, number: i64) -> Result<(), StoreError> {
    let sql = "UPDATE lease SET holder = '', until = 0 WHERE name = ? AND number = ?";
    writer.run(sql, values![name, number])
}
