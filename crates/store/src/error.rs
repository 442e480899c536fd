//! What can go wrong with the state file.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

/// Why the state cannot be read or written. Its display form is for developers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[error("{self:?}")]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum StoreError {
    /// The file was written by a newer Chestnut.
    Newer {
        /// The file.
        path: PathBuf,
        /// Its format.
        found: i64,
        /// The newest format this program knows.
        known: i64,
    },
    /// The file is no state of Chestnut, or is damaged.
    Unreadable {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        damage: Damage,
    },
    /// The folder or the file cannot be opened or made.
    Open {
        /// The file.
        path: PathBuf,
        /// The system's words.
        problem: String,
    },
    /// No room is left on the disk.
    Full,
    /// Somebody else holds a lease.
    Busy {
        /// Which.
        name: String,
        /// Who holds it, where that is known.
        holder: Option<crate::Holder>,
    },
    /// Something in the state is not what it was when it was written.
    Damaged,
    /// The run was cut off here by a test.
    CutOff,
    /// Anything else that SQLite reports, in its words.
    Sqlite(String),
}

/// What is wrong with a state file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Damage {
    /// It is no database, or its beginning is damaged.
    NoDatabase,
    /// It is a database of another program.
    OtherProgram,
    /// Some of it is damaged.
    Somewhere,
}

impl From<rusqlite::Error> for StoreError {
    fn from(error: rusqlite::Error) -> Self {
        use rusqlite::Error;
        // What was written as one type, and is read as another, was changed since.
        let is_other = matches!(
            error,
            Error::FromSqlConversionFailure(..)
                | Error::IntegralValueOutOfRange(..)
                | Error::InvalidColumnType(..)
                | Error::Utf8Error(..)
        );
        match error.sqlite_error_code() {
            _ if is_other => Self::Damaged,
            Some(rusqlite::ErrorCode::DiskFull) => Self::Full,
            Some(rusqlite::ErrorCode::DatabaseCorrupt | rusqlite::ErrorCode::NotADatabase) => Self::Damaged,
            _ => Self::Sqlite(error.to_string()),
        }
    }
}
