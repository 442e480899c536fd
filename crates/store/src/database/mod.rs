//! Statements, run by the database that holds the state. They are written once, in what the databases have in common.

mod migrate;
#[cfg(feature = "postgres")]
mod postgres;
mod recent;
mod sqlite;
mod value;
mod zones;

pub(crate) use migrate::new_file;
#[cfg(feature = "postgres")]
pub(crate) use postgres::Postgres;
#[cfg(feature = "postgres")]
pub use postgres::PostgresPlace;
pub(crate) use sqlite::Sqlite;
pub(crate) use value::{AsValue, Cell, Row, Value, values};
pub(crate) use zones::Zones;

use recent::Recent;

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
pub(crate) struct Database {
    kind: Kind,
    /// Time zones that were read or kept: nearly every text asks for one. None is ever changed or taken away.
    pub(crate) zones: Zones,
    /// Texts that were kept a moment ago; `None` where each question takes its time.
    recent: Option<Recent>,
}

#[derive(Debug)]
pub(crate) enum Kind {
    Sqlite(Sqlite),
    #[cfg(feature = "postgres")]
    Postgres(Box<Postgres>),
}

/// Statements that are run for many rows in one transaction. In this order they come to the same as in any other in which
/// those about one thing keep theirs: each changes rows of its thing alone, and what counts them counts in any order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Often {
    Text,
    Object,
    ObjectChanged,
    ObjectSame,
    Link,
    LinkChanged,
    Place,
    NoIntent,
    NothingConsidered,
    Intent,
    Considered,
    NotHeld,
    Change,
}

/// What a statement is about, by its number.
#[cfg(feature = "postgres")]
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Thing {
    Text,
    Object,
    Link,
    Change,
}

#[cfg(feature = "postgres")]
impl Often {
    fn thing(self) -> Thing {
        match self {
            Self::Text => Thing::Text,
            Self::Object | Self::ObjectChanged | Self::ObjectSame => Thing::Object,
            Self::Link
            | Self::LinkChanged
            | Self::Place
            | Self::NoIntent
            | Self::NothingConsidered
            | Self::Intent
            | Self::Considered
            | Self::NotHeld => Thing::Link,
            Self::Change => Thing::Change,
        }
    }
}

/// As long as it is there, questions that were asked ahead are answered by what was known then.
#[derive(Debug)]
#[must_use]
pub struct Ahead<'s>(&'s Database);

impl Ahead<'_> {
    /// Asks at once what `questions` asks one by one, and is about to be asked again: where the state is on another
    /// machine, each question costs a way there. Where it is a file, nothing is asked.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn ask(&self, questions: impl FnOnce() -> Result<()>) -> Result<()> {
        match &self.0.kind {
            Kind::Sqlite(_) => {
                drop(questions);
                Ok(())
            }
            #[cfg(feature = "postgres")]
            Kind::Postgres(postgres) => postgres.ask_ahead(questions),
        }
    }

    /// Whether it makes a difference to ask ahead.
    #[must_use]
    pub fn is_of_use(&self) -> bool {
        self.0.is_shared()
    }
}

impl Drop for Ahead<'_> {
    fn drop(&mut self) {
        match &self.0.kind {
            Kind::Sqlite(_) => {}
            #[cfg(feature = "postgres")]
            Kind::Postgres(postgres) => postgres.end_ahead(),
        }
    }
}

/// As long as it is there, what is read from a file is of one moment, and no question locks the file anew.
#[derive(Debug)]
#[must_use]
pub struct Still<'s>(#[expect(dead_code, reason = "it ends when it is dropped")] Option<sqlite::Still<'s>>);

impl Database {
    pub(crate) fn of(kind: Kind) -> Self {
        let recent = matches!(kind, Kind::Sqlite(_)).then(Recent::default);
        Self { kind, zones: Zones::default(), recent }
    }

    /// The file of SQLite, if it is one.
    pub(crate) fn as_sqlite(&self) -> Option<&Sqlite> {
        match &self.kind {
            Kind::Sqlite(sqlite) => Some(sqlite),
            #[cfg(feature = "postgres")]
            Kind::Postgres(_) => None,
        }
    }

    /// Calls `each` for the rows of a question, until it says that it has enough.
    pub(crate) fn each(
        &self,
        sql: &str,
        values: &[Value<'_>],
        mut each: impl FnMut(&dyn Row) -> Result<bool>,
    ) -> Result<()> {
        match &self.kind {
            Kind::Sqlite(sqlite) => sqlite.each(sql, values, &mut each),
            #[cfg(feature = "postgres")]
            Kind::Postgres(postgres) => postgres.each(sql, values, &mut each),
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
        match &self.kind {
            Kind::Sqlite(sqlite) => sqlite.changed(sql, values).map(drop),
            #[cfg(feature = "postgres")]
            Kind::Postgres(postgres) => postgres.run(sql, values),
        }
    }

    /// Runs a statement that many others like it stand beside. `about` is the number of the thing whose rows it changes,
    /// and of the part of it; what is said of one thing keeps its order.
    pub(crate) fn run_often(
        &self,
        often: Often,
        about: (i64, usize),
        sql: &str,
        values: &[Value<'_>],
    ) -> Result<()> {
        match &self.kind {
            Kind::Sqlite(sqlite) => {
                let _ = (often, about);
                sqlite.changed(sql, values).map(drop)
            }
            #[cfg(feature = "postgres")]
            Kind::Postgres(postgres) => postgres.run_often(often, about, sql, values),
        }
    }

    pub(crate) fn ahead(&self) -> Ahead<'_> {
        match &self.kind {
            Kind::Sqlite(_) => {}
            #[cfg(feature = "postgres")]
            Kind::Postgres(postgres) => postgres.begin_ahead(),
        }
        Ahead(self)
    }

    /// Runs a statement, and returns how many rows it changed.
    pub(crate) fn changed(&self, sql: &str, values: &[Value<'_>]) -> Result<usize> {
        match &self.kind {
            Kind::Sqlite(sqlite) => sqlite.changed(sql, values),
            #[cfg(feature = "postgres")]
            Kind::Postgres(postgres) => postgres.changed(sql, values),
        }
    }

    /// Adds a row to a table whose rows are numbered, and returns its number. The statement begins with
    /// `INSERT INTO table (`.
    pub(crate) fn insert(&self, sql: &str, values: &[Value<'_>]) -> Result<i64> {
        match &self.kind {
            Kind::Sqlite(sqlite) => sqlite.insert(sql, values),
            #[cfg(feature = "postgres")]
            Kind::Postgres(postgres) => postgres.insert(None, sql, values),
        }
    }

    /// Adds a row that many others are added beside, and returns its number.
    pub(crate) fn insert_often(&self, often: Often, sql: &str, values: &[Value<'_>]) -> Result<i64> {
        match &self.kind {
            Kind::Sqlite(sqlite) => {
                let _ = often;
                sqlite.insert(sql, values)
            }
            #[cfg(feature = "postgres")]
            Kind::Postgres(postgres) => postgres.insert(Some(often), sql, values),
        }
    }

    /// Runs `work` in one transaction: all of it is kept, or nothing. One at a time writes.
    pub(crate) fn transaction<T>(&self, work: impl FnOnce() -> Result<T>) -> Result<T> {
        let result = match &self.kind {
            Kind::Sqlite(sqlite) => sqlite.transaction(work),
            #[cfg(feature = "postgres")]
            Kind::Postgres(postgres) => postgres.transaction(work),
        };
        if result.is_err() {
            // A number that was not kept is given to another.
            self.zones.forget();
        }
        result
    }

    pub(crate) fn hold_still(&self) -> Result<Still<'_>> {
        match &self.kind {
            Kind::Sqlite(sqlite) => sqlite.hold_still().map(|held| Still(Some(held))),
            #[cfg(feature = "postgres")]
            Kind::Postgres(_) => Ok(Still(None)),
        }
    }

    /// Notes that a text was kept.
    pub(crate) fn note_recent(&self, text: &str, number: i64) {
        if let Some(recent) = &self.recent {
            recent.note(text, number);
        }
    }

    /// Returns the number under which a text was perhaps kept a moment ago: whether it is there still, and says the same,
    /// is to be seen.
    pub(crate) fn recent(&self, text: &str) -> Option<i64> {
        self.recent.as_ref()?.number(text)
    }

    /// Tells whether other machines may use it, too.
    pub(crate) fn is_shared(&self) -> bool {
        match &self.kind {
            Kind::Sqlite(_) => false,
            #[cfg(feature = "postgres")]
            Kind::Postgres(_) => true,
        }
    }

    /// Refuses a state that another brought to a newer format since it was opened.
    pub(crate) fn check_format(&self, place: &str) -> Result<()> {
        match &self.kind {
            Kind::Sqlite(sqlite) => sqlite.check_format(place),
            #[cfg(feature = "postgres")]
            Kind::Postgres(postgres) => postgres.check_format(place),
        }
    }

    /// Returns the time by which leases are judged, in seconds since 1970: never that of a run.
    pub(crate) fn now(&self) -> Result<i64> {
        match &self.kind {
            Kind::Sqlite(_) => Ok(system_time()),
            #[cfg(feature = "postgres")]
            Kind::Postgres(postgres) => postgres.now(),
        }
    }

    /// Returns for how many seconds a lease lasts of which nothing is heard.
    pub(crate) fn lease_lasts(&self) -> i64 {
        match &self.kind {
            Kind::Sqlite(_) => SILENCE,
            #[cfg(feature = "postgres")]
            Kind::Postgres(postgres) => postgres.lease_lasts(),
        }
    }

    /// A lease was taken: it is renewed, and nothing is written without it, until it is let go of.
    pub(crate) fn keep(&self, name: &str, number: i64) {
        match &self.kind {
            // Its holder is known by the system: nobody takes it away.
            Kind::Sqlite(_) => {
                let _ = (name, number);
            }
            #[cfg(feature = "postgres")]
            Kind::Postgres(postgres) => postgres.keep(name, number),
        }
    }

    pub(crate) fn let_go(&self, name: &str) {
        match &self.kind {
            Kind::Sqlite(_) => {
                let _ = name;
            }
            #[cfg(feature = "postgres")]
            Kind::Postgres(postgres) => postgres.let_go(name),
        }
    }

    /// Gives the number of a run to the next one, where none has come since.
    pub(crate) fn give_run_back(&self, run: i64) -> Result<()> {
        match &self.kind {
            Kind::Sqlite(sqlite) => {
                let sql = "UPDATE sqlite_sequence SET seq = seq - 1 WHERE name = 'run' AND seq = ?";
                sqlite.changed(sql, values![run]).map(drop)
            }
            // Its sequences give no number twice.
            #[cfg(feature = "postgres")]
            Kind::Postgres(_) => Ok(()),
        }
    }

    /// Returns the highest number that a row of a table ever had.
    pub(crate) fn highest_number(&self, table: &str) -> Result<i64> {
        let sql = format!("SELECT coalesce(max(id), 0) FROM {table}");
        let present = self.number(&sql, &[])?;
        let ever = match &self.kind {
            Kind::Sqlite(_) => format!("SELECT seq FROM sqlite_sequence WHERE name = '{table}'"),
            #[cfg(feature = "postgres")]
            Kind::Postgres(_) => format!("SELECT last_value FROM {table}_id WHERE is_called"),
        };
        Ok(self.one(&ever, &[], |row| row.get(0))?.unwrap_or(0).max(present))
    }

    /// Has rows that are added to a table numbered after the highest number that there ever was.
    pub(crate) fn begin_numbers_after(&self, table: &str, highest: i64) -> Result<()> {
        match &self.kind {
            Kind::Sqlite(_) => {
                // Only of these tables no number is given again.
                let known = "UPDATE sqlite_sequence SET seq = max(seq, ?1) WHERE name = ?2";
                self.run(known, values![highest, table])
            }
            #[cfg(feature = "postgres")]
            Kind::Postgres(_) => {
                let sql = format!("SELECT setval('{table}_id', ?)");
                if highest > 0 { self.number(&sql, values![highest]).map(drop) } else { Ok(()) }
            }
        }
    }

    /// Says that the transaction that was just begun moves or forgets very much.
    pub(crate) fn takes_long(&self) {
        match &self.kind {
            Kind::Sqlite(_) => {}
            #[cfg(feature = "postgres")]
            Kind::Postgres(postgres) => postgres.takes_long(),
        }
    }
}
