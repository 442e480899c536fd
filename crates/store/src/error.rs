//! What can go wrong with the state file.

use serde::{Deserialize, Serialize};

/// Why the state cannot be read or written. Its display form is for developers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[error("{self:?}")]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum StoreError {
    /// The file was written by a newer Chestnut.
    Newer {
        /// Where it is.
        place: String,
        /// Its format.
        found: i64,
        /// The newest format this program knows.
        known: i64,
    },
    /// An older Chestnut is at work with it: it would not understand the format that this one brings it to.
    AtWork {
        /// Where it is.
        place: String,
        /// Who.
        holder: crate::Holder,
    },
    /// The file is no state of Chestnut, or is damaged.
    Unreadable {
        /// Where it is.
        place: String,
        /// What is wrong with it.
        damage: Damage,
    },
    /// The folder or the file cannot be opened or made.
    Open {
        /// Where it is.
        place: String,
        /// The system's words.
        problem: String,
    },
    /// The state was moved, and is not worked with here any more.
    Moved {
        /// Where it was.
        place: String,
        /// Where it is.
        to: String,
    },
    /// A state cannot be moved to where there is one already.
    NotEmpty {
        /// Where.
        place: String,
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
    /// The database cannot be reached, or was lost; in its words. What was being written then was not kept.
    Away(String),
    /// Something in the state is not what it was when it was written.
    Damaged,
    /// The run was cut off here by a test.
    CutOff,
    /// Anything else that the database reports, in its words.
    Database(String),
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
