//! Statements, run by the database that holds the state. They are written once, in what the databases have in common.

mod migrate;
mod sqlite;
mod value;

use std::path::Path;

pub(crate) use sqlite::Sqlite;
pub(crate) use value::{AsValue, Row, Value, values};

use crate::error::StoreError;

type Result<T> = std::result::Result<T, StoreError>;

/// So long a lease lasts in a file of which nothing is heard, where nobody can tell whether its holder still runs.
const SILENCE: i64 = 300;

#[expect(clippy::disallowed_methods, reason = "a lease is about real time, whatever the clock of a run says")]
fn system_time() -> i64 {
    jiff::Timestamp::now().as_second()
}

/// The database that holds the state.
#[derive(Debug)]
pub(crate) enum Database {
    Sqlite(Sqlite),
}

impl Database {
    /// Calls `each` for the rows of a question, until it says that it has enough.
    pub(crate) fn each(
        &self,
        sql: &str,
        values: &[Value<'_>],
        mut each: impl FnMut(&dyn Row) -> Result<bool>,
    ) -> Result<()> {
        match self {
            Self::Sqlite(sqlite) => sqlite.each(sql, values, &mut each),
        }
    }

    /// Returns the rows of a question.
    pub(crate) fn rows<T>(
        &self,
        sql: &str,
        values: &[Value<'_>],
        mut read: impl FnMut(&dyn Row) -> Result<T>,
    ) -> Result<Vec<T>> {
        let mut rows = Vec::new();
        self.each(sql, values, |row| {
            rows.push(read(row)?);
            Ok(true)
        })?;
        Ok(rows)
    }

    /// Returns the first row of a question.
    pub(crate) fn one<T>(
        &self,
        sql: &str,
        values: &[Value<'_>],
        mut read: impl FnMut(&dyn Row) -> Result<T>,
    ) -> Result<Option<T>> {
        let mut first = None;
        self.each(sql, values, |row| {
            first = Some(read(row)?);
            Ok(false)
        })?;
        Ok(first)
    }

    /// Returns the number that a question surely has for an answer.
    pub(crate) fn number(&self, sql: &str, values: &[Value<'_>]) -> Result<i64> {
        self.one(sql, values, |row| row.get(0))?.ok_or(StoreError::Damaged)
    }

    /// Tells whether a question has an answer.
    pub(crate) fn exists(&self, sql: &str, values: &[Value<'_>]) -> Result<bool> {
        Ok(self.one(sql, values, |_| Ok(()))?.is_some())
    }

    /// Runs a statement. In a transaction it may be run with the next one that has an answer.
    pub(crate) fn run(&self, sql: &str, values: &[Value<'_>]) -> Result<()> {
        match self {
            Self::Sqlite(sqlite) => sqlite.changed(sql, values).map(drop),
        }
    }

    /// Runs a statement, and returns how many rows it changed.
    pub(crate) fn changed(&self, sql: &str, values: &[Value<'_>]) -> Result<usize> {
        match self {
            Self::Sqlite(sqlite) => sqlite.changed(sql, values),
        }
    }

    /// Adds a row to a table whose rows are numbered, and returns its number. The statement begins with
    /// `INSERT INTO table (`.
    pub(crate) fn insert(&self, sql: &str, values: &[Value<'_>]) -> Result<i64> {
        match self {
            Self::Sqlite(sqlite) => sqlite.insert(sql, values),
        }
    }

    /// Runs `work` in one transaction: all of it is kept, or nothing. One at a time writes.
    pub(crate) fn transaction<T>(&self, work: impl FnOnce() -> Result<T>) -> Result<T> {
        match self {
            Self::Sqlite(sqlite) => sqlite.transaction(work),
        }
    }

    /// Tells whether other machines may use it, too.
    pub(crate) fn is_shared(&self) -> bool {
        match self {
            Self::Sqlite(_) => false,
        }
    }

    /// Returns the time by which leases are judged, in seconds since 1970: never that of a run.
    pub(crate) fn now(&self) -> Result<i64> {
        match self {
            Self::Sqlite(_) => Ok(system_time()),
        }
    }

    /// Returns for how many seconds a lease lasts of which nothing is heard.
    pub(crate) fn lease_lasts(&self) -> i64 {
        match self {
            Self::Sqlite(_) => SILENCE,
        }
    }

    /// A lease was taken: it is renewed, and nothing is written without it, until it is let go of.
    pub(crate) fn keep(&self, _name: &str, _number: i64) {
        match self {
            // Its holder is known by the system: nobody takes it away.
            Self::Sqlite(_) => {}
        }
    }

    pub(crate) fn let_go(&self, _name: &str) {
        match self {
            Self::Sqlite(_) => {}
        }
    }

    /// Gives the number of a run to the next one, where none has come since.
    pub(crate) fn give_run_back(&self, run: i64) -> Result<()> {
        match self {
            Self::Sqlite(sqlite) => {
                let sql = "UPDATE sqlite_sequence SET seq = seq - 1 WHERE name = 'run' AND seq = ?";
                sqlite.changed(sql, values![run]).map(drop)
            }
        }
    }

    /// Copies the whole into a new file of SQLite.
    pub(crate) fn copy(&self, to: &Path) -> Result<()> {
        match self {
            Self::Sqlite(sqlite) => sqlite.copy(to),
        }
    }
}
