//! SQLite: one file, on one machine.

use std::path::Path;
use std::time::Duration;

use rusqlite::config::DbConfig;
use rusqlite::types::{ToSqlOutput, ValueRef};
use rusqlite::{CachedStatement, Connection, ErrorCode, ToSql, TransactionBehavior, params_from_iter};

use super::migrate::{check_format, copy, migrate};
use super::value::{Cell, Row, Value};
use crate::error::{Damage, StoreError};
use crate::presence::Holder;

type Result<T> = std::result::Result<T, StoreError>;

/// How often, and after which pauses, a file that others prepare is tried again.
const TRIES: usize = 400;
const LOOKS: Duration = Duration::from_millis(25);
/// How long another process may be writing.
const PATIENCE: Duration = Duration::from_secs(20);

#[derive(Debug)]
pub(crate) struct Sqlite {
    connection: Connection,
    /// Whether it is read at one moment.
    is_still: std::cell::Cell<bool>,
}

/// Reads at one moment as long as it is there.
#[derive(Debug)]
pub(crate) struct Still<'s>(&'s Sqlite);

impl Drop for Still<'_> {
    fn drop(&mut self) {
        // Nothing was written that could be lost.
        drop(self.0.move_on());
    }
}

impl Sqlite {
    /// Opens a file, making it where there is none, and brings it to the present format.
    pub(crate) fn open(path: &Path, at_work: &dyn Fn() -> Option<Holder>) -> Result<Self> {
        let open_error = |problem: String| StoreError::Open { place: path.display().to_string(), problem };
        let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
        if let Some(folder) = folder {
            std::fs::create_dir_all(folder).map_err(|e| open_error(e.to_string()))?;
        }
        keep_private(path);
        let connection = Connection::open(path).map_err(|e| open_error(e.to_string()))?;
        connection.busy_timeout(PATIENCE)?;
        let unreadable = |damage| StoreError::Unreadable { place: path.display().to_string(), damage };
        write_ahead(&connection).map_err(|e| match StoreError::from(e) {
            StoreError::Damaged => unreadable(Damage::NoDatabase),
            other => other,
        })?;
        // A run that is cut off by a power cut is found again by reading back; WAL keeps the file whole.
        connection.pragma_update(None, "synchronous", "NORMAL")?;
        Self::prepare(connection, path, at_work).map_err(|e| match e {
            StoreError::Damaged => unreadable(Damage::Somewhere),
            other => other,
        })
    }

    /// A database that is kept nowhere.
    pub(crate) fn in_memory() -> Result<Self> {
        Self::prepare(Connection::open_in_memory()?, Path::new(":memory:"), &|| None)
    }

    pub(crate) fn check_format(&self, place: &str) -> Result<()> {
        check_format(&self.connection, place)
    }

    fn prepare(connection: Connection, path: &Path, at_work: &dyn Fn() -> Option<Holder>) -> Result<Self> {
        connection.set_prepared_statement_cache_capacity(256);
        // Else statements are prepared again for each value that is bound to them.
        connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true)?;
        connection.pragma_update(None, "foreign_keys", true)?;
        migrate(&connection, path, at_work)?;
        Ok(Self { connection, is_still: std::cell::Cell::new(false) })
    }

    /// Holds less of the file in memory than usual, for good: the system holds it, too.
    pub(crate) fn hold_little(&self) -> Result<()> {
        // In KiB, below zero; 2,000 where nothing is said.
        Ok(self.connection.pragma_update(None, "cache_size", -800)?)
    }

    fn statement(&self, sql: &str, values: &[Value<'_>]) -> Result<CachedStatement<'_>> {
        let mut statement = self.connection.prepare_cached(sql)?;
        for (number, value) in (1..).zip(values) {
            statement.raw_bind_parameter(number, value)?;
        }
        Ok(statement)
    }

    pub(crate) fn each(
        &self,
        sql: &str,
        values: &[Value<'_>],
        each: &mut dyn FnMut(&dyn Row) -> Result<bool>,
    ) -> Result<()> {
        let mut statement = self.connection.prepare_cached(sql)?;
        let mut rows = statement.query(params_from_iter(values))?;
        while let Some(row) = rows.next()? {
            if !each(row)? {
                break;
            }
        }
        Ok(())
    }

    /// Returns how many rows were changed.
    pub(crate) fn changed(&self, sql: &str, values: &[Value<'_>]) -> Result<usize> {
        Ok(self.statement(sql, values)?.raw_execute()?)
    }

    /// Returns the number of the row that was added.
    pub(crate) fn insert(&self, sql: &str, values: &[Value<'_>]) -> Result<i64> {
        self.changed(sql, values)?;
        Ok(self.connection.last_insert_rowid())
    }

    pub(crate) fn transaction<T>(&self, work: impl FnOnce() -> Result<T>) -> Result<T> {
        // Who writes while it is still goes on at the moment that this makes.
        let was_still = self.move_on()?;
        let result = self.transact(work);
        if was_still {
            // Where that fails, each question reads the moment at which it is asked; what was written stays written.
            drop(self.stop_here());
        }
        result
    }

    fn transact<T>(&self, work: impl FnOnce() -> Result<T>) -> Result<T> {
        let transaction =
            rusqlite::Transaction::new_unchecked(&self.connection, TransactionBehavior::Immediate)?;
        let result = work()?;
        transaction.commit()?;
        Ok(result)
    }

    /// Begins to read at one moment; its end is the end of that.
    pub(crate) fn hold_still(&self) -> Result<Still<'_>> {
        self.stop_here()?;
        Ok(Still(self))
    }

    fn stop_here(&self) -> Result<()> {
        self.connection.execute_batch("BEGIN DEFERRED")?;
        self.is_still.set(true);
        Ok(())
    }

    /// Ends what [`Self::stop_here`] began. Returns whether there was anything to end.
    fn move_on(&self) -> Result<bool> {
        let was_still = self.is_still.replace(false);
        if was_still {
            self.connection.execute_batch("COMMIT")?;
        }
        Ok(was_still)
    }

    /// Copies the whole into a new file, as it is at this moment: also while others work with it.
    pub(crate) fn copy(&self, to: &Path) -> Result<()> {
        copy(&self.connection, to)
    }
}

impl ToSql for Value<'_> {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(ToSqlOutput::Borrowed(match *self {
            Value::Null => ValueRef::Null,
            Value::Number(number) => ValueRef::Integer(number),
            Value::Text(text) => ValueRef::Text(text.as_bytes()),
            Value::Bytes(bytes) => ValueRef::Blob(bytes),
        }))
    }
}

impl Row for rusqlite::Row<'_> {
    fn cell(&self, column: usize) -> Result<Cell<'_>> {
        Ok(match self.get_ref(column)? {
            ValueRef::Null => Cell::Null,
            ValueRef::Integer(number) => Cell::Number(number),
            ValueRef::Text(bytes) | ValueRef::Blob(bytes) => Cell::Bytes(bytes),
            ValueRef::Real(_) => return Err(StoreError::Damaged),
        })
    }
}

/// Has changes written ahead. While another process does the same to a new file, SQLite does not wait by itself.
fn write_ahead(connection: &Connection) -> rusqlite::Result<()> {
    let mut tries = 0;
    loop {
        match connection.pragma_update(None, "journal_mode", "WAL") {
            Err(error) if error.sqlite_error_code() == Some(ErrorCode::DatabaseBusy) && tries < TRIES => {
                tries += 1;
                std::thread::sleep(LOOKS);
            }
            done => return done,
        }
    }
}

/// Makes the file before SQLite does, so that nobody else can read it.
fn keep_private(path: &Path) {
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt as _;
        // Where this fails, opening the database fails too, and says why.
        drop(std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path));
    }
    #[cfg(not(unix))]
    {
        let _ = path;
    }
}

impl From<rusqlite::Error> for StoreError {
    fn from(error: rusqlite::Error) -> Self {
        match error.sqlite_error_code() {
            Some(ErrorCode::DiskFull) => Self::Full,
            Some(ErrorCode::DatabaseCorrupt | ErrorCode::NotADatabase) => Self::Damaged,
            _ => Self::Database(error.to_string()),
        }
    }
}
