//! Brings a state file to the present format, step by step.

use std::path::Path;

use rusqlite::Connection;

use crate::error::StoreError;

/// One step per format; a step is never changed once it has shipped.
const STEPS: &[&str] = &[include_str!("schema_1.sql")];

/// Says that the file is Chestnut's ("ChS2" as a number, SQLite's application_id).
const APPLICATION_ID: i64 = 0x4368_5332;

pub(crate) fn migrate(connection: &mut Connection, path: &Path) -> Result<(), StoreError> {
    let unreadable = |e: rusqlite::Error| match e.sqlite_error_code() {
        Some(rusqlite::ErrorCode::NotADatabase | rusqlite::ErrorCode::DatabaseCorrupt) => {
            StoreError::Unreadable { path: path.to_owned(), problem: e.to_string() }
        }
        _ => StoreError::from(e),
    };
    let known = STEPS.len() as i64;
    let number = |sql: &str| -> Result<i64, StoreError> {
        connection.query_row(sql, [], |row| row.get(0)).map_err(unreadable)
    };
    let (found, application) = (number("PRAGMA user_version")?, number("PRAGMA application_id")?);
    if number("SELECT count(*) FROM sqlite_schema")? > 0 && application != APPLICATION_ID {
        let problem = "it is a database of another program".to_owned();
        return Err(StoreError::Unreadable { path: path.to_owned(), problem });
    }
    if found > known {
        return Err(StoreError::Newer { path: path.to_owned(), found, known });
    }
    for (number, step) in (1..).zip(STEPS).skip(usize::try_from(found).unwrap_or(0)) {
        let transaction = connection.transaction()?;
        transaction.execute_batch(step)?;
        transaction.pragma_update(None, "user_version", number)?;
        transaction.pragma_update(None, "application_id", APPLICATION_ID)?;
        transaction.commit()?;
    }
    Ok(())
}
