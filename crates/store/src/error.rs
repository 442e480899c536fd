//! What can go wrong with the state file.

use std::path::PathBuf;

/// Why the state cannot be read or written.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StoreError {
    /// The file was written by a newer Chestnut.
    #[error(
        "the state {path} was written by a newer Chestnut (format {found}; this one knows up to {known})"
    )]
    Newer {
        /// The file.
        path: PathBuf,
        /// Its format.
        found: i64,
        /// The newest format this program knows.
        known: i64,
    },
    /// The file is no state of Chestnut, or is damaged.
    #[error("the state {path} cannot be read: {problem}")]
    Unreadable {
        /// The file.
        path: PathBuf,
        /// SQLite's words.
        problem: String,
    },
    /// The folder or the file cannot be opened or made.
    #[error("the state {path} cannot be opened: {problem}")]
    Open {
        /// The file.
        path: PathBuf,
        /// The system's words.
        problem: String,
    },
    /// No room is left on the disk.
    #[error("the disk under the state is full")]
    Full,
    /// Somebody else holds a lease.
    #[error("{name} is in use{}", holder.as_ref().map(ToString::to_string).unwrap_or_default())]
    Busy {
        /// Which.
        name: String,
        /// Who holds it, where that is known.
        holder: Option<crate::Holder>,
    },
    /// Something in the state is not what it was when it was written.
    #[error("the state is damaged")]
    Damaged,
    /// The run was cut off here by a test.
    #[error("cut off")]
    CutOff,
    /// Anything else that SQLite reports.
    #[error("the state could not be used: {0}")]
    Sqlite(rusqlite::Error),
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
            _ => Self::Sqlite(error),
        }
    }
}
