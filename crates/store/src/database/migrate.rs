//! Brings a state file to the present format, step by step.

use std::path::Path;

use rusqlite::{Connection, Transaction, TransactionBehavior};

use super::system_time;
use crate::error::{Damage, StoreError};
use crate::presence::{HOLDERS, Holder, present_holder};

/// One step per format; a step is never changed once it has shipped.
const STEPS: &[&str] = &[
    include_str!("sqlite_schema/1.sql"),
    include_str!("sqlite_schema/2.sql"),
    include_str!("sqlite_schema/3.sql"),
    include_str!("sqlite_schema/4.sql"),
    include_str!("sqlite_schema/5.sql"),
    include_str!("sqlite_schema/6.sql"),
];

/// Says that the file is Chestnut's ("ChS2" as a number, SQLite's application_id).
const APPLICATION_ID: i64 = 0x4368_5332;

/// Takes the steps that are left to take, unless somebody works with the file.
pub(crate) fn migrate(
    connection: &Connection,
    path: &Path,
    at_work: &dyn Fn() -> Option<Holder>,
) -> Result<(), StoreError> {
    let before = steps_taken(connection, path)?;
    if before == STEPS.len() {
        return Ok(());
    }
    check_nobody_works(connection, path, before, at_work)?;
    if before > 0 && connection.path().is_some_and(|path| !path.is_empty()) {
        // What a step does cannot be undone.
        let kept = path.with_added_extension(format!("format-{before}"));
        if !kept.exists() {
            copy(connection, &kept)?;
        }
    }
    // Another process may be about to do the same: whoever comes second finds it done.
    let transaction = Transaction::new_unchecked(connection, TransactionBehavior::Immediate)?;
    let taken = steps_taken(&transaction, path)?;
    check_nobody_works(&transaction, path, taken, at_work)?;
    for (number, step) in (1..).zip(STEPS).skip(taken) {
        transaction.execute_batch(step)?;
        transaction.pragma_update(None, "user_version", number)?;
        transaction.pragma_update(None, "application_id", APPLICATION_ID)?;
    }
    Ok(transaction.commit()?)
}

/// Copies a whole state, as it is at this moment, into a new file.
pub(crate) fn copy(connection: &Connection, to: &Path) -> Result<(), StoreError> {
    new_file(to, || Ok(connection.execute("VACUUM INTO ?", [to.to_string_lossy()]).map(drop)?))
}

/// Makes a file that only its owner may read, has it filled, and takes it away again where that fails.
pub(crate) fn new_file(path: &Path, fill: impl FnOnce() -> Result<(), StoreError>) -> Result<(), StoreError> {
    let open_error = |system: std::io::Error| StoreError::Open {
        place: path.display().to_string(),
        problem: system.to_string(),
    };
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt as _;
        options.mode(0o600);
    }
    options.open(path).map_err(open_error)?;
    // An empty file is taken for none.
    let filled = fill();
    if filled.is_err() {
        drop(std::fs::remove_file(path));
    }
    filled?;
    std::fs::File::open(path).and_then(|file| file.sync_all()).map_err(open_error)
}

/// Refuses a file of an older format, with so many steps behind it, that somebody works with, who would go on in that format.
fn check_nobody_works(
    connection: &Connection,
    path: &Path,
    taken: usize,
    at_work: &dyn Fn() -> Option<Holder>,
) -> Result<(), StoreError> {
    if !(1..STEPS.len()).contains(&taken) {
        return Ok(());
    }
    let mut holders = connection.prepare(HOLDERS)?;
    let held = holders.query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?;
    let held = held.collect::<Result<Vec<_>, _>>()?;
    let holder = held.into_iter().find_map(|held| present_holder(held, system_time(), false));
    match holder.or_else(at_work) {
        Some(holder) => Err(StoreError::AtWork { place: path.display().to_string(), holder }),
        None => Ok(()),
    }
}

/// Refuses a file that another brought to a newer format since it was opened.
pub(crate) fn check_format(connection: &Connection, place: &str) -> Result<(), StoreError> {
    let known = STEPS.len() as i64;
    match connection.pragma_query_value(None, "user_version", |row| row.get(0))? {
        found if found > known => Err(StoreError::Newer { place: place.to_owned(), found, known }),
        _ => Ok(()),
    }
}

/// How many of the steps a file has behind it: none, where there is nothing in it yet.
fn steps_taken(connection: &Connection, path: &Path) -> Result<usize, StoreError> {
    let unreadable = |damage| StoreError::Unreadable { place: path.display().to_string(), damage };
    let number = |sql: &str| -> Result<i64, StoreError> {
        connection.query_row(sql, [], |row| row.get(0)).map_err(|e| match StoreError::from(e) {
            StoreError::Damaged => unreadable(Damage::NoDatabase),
            other => other,
        })
    };
    // In this order: what another process makes meanwhile is taken for nothing, not for somebody else's.
    let has_tables = number("SELECT count(*) FROM sqlite_schema")? > 0;
    let (found, application) = (number("PRAGMA user_version")?, number("PRAGMA application_id")?);
    if !has_tables {
        return Ok(0);
    }
    if application != APPLICATION_ID {
        return Err(unreadable(Damage::OtherProgram));
    }
    let known = STEPS.len();
    match usize::try_from(found) {
        Ok(found) if found <= known => Ok(found),
        _ => Err(StoreError::Newer { place: path.display().to_string(), found, known: known as i64 }),
    }
}
