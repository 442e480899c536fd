//! Brings a state file to the present format, step by step.

use std::path::Path;

use rusqlite::Connection;

use crate::error::StoreError;

/// One step per format; a step is never changed once it has shipped.
const STEPS: &[&str] =
    &[include_str!("schema_1.sql"), include_str!("schema_2.sql"), include_str!("schema_3.sql")];

/// Says that the file is Chestnut's ("ChSt" as a number, SQLite's application_id).
const APPLICATION_ID: i64 = 0x4368_5374;

pub(crate) fn migrate(connection: &mut Connection, path: &Path) -> Result<(), StoreError> {
    let unreadable = |e: rusqlite::Error| match e.sqlite_error_code() {
        Some(rusqlite::ErrorCode::NotADatabase | rusqlite::ErrorCode::DatabaseCorrupt) => {
            StoreError::Unreadable { path: path.to_owned(), problem: e.to_string() }
        }
        _ => StoreError::from(e),
    };
    let known = STEPS.len() as i64;
    let found: i64 = connection.query_row("PRAGMA user_version", [], |row| row.get(0)).map_err(unreadable)?;
    let application: i64 = connection.query_row("PRAGMA application_id", [], |row| row.get(0))?;
    let tables: i64 = connection.query_row("SELECT count(*) FROM sqlite_schema", [], |row| row.get(0))?;
    if tables > 0 && application != APPLICATION_ID {
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
