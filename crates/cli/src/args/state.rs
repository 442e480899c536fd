//! `state …`

use std::path::PathBuf;

use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub(crate) enum StateCommand {
    /// Read all of it, and say whether it is whole and belongs to the key
    Check,
    /// Copy it, also while routes run
    Backup {
        /// A file that is not there yet
        #[arg(value_name = "FILE")]
        file: PathBuf,
    },
    /// Move it from a file to PostgreSQL, or back: history, links and mirrors, nothing is left behind
    ///
    /// No route may run meanwhile. The old state is kept as it is, and says from then on where it went.
    #[command(
        after_help = "Example:\n  chestnut state move chestnut.state postgres://chestnut@db.packhouse.example/chestnut"
    )]
    Move {
        /// Where it is: a file, or the database that the configuration names
        #[arg(value_name = "FROM")]
        from: String,
        /// Where it goes: a file that is not there yet, or the database that the configuration names
        #[arg(value_name = "TO")]
        to: String,
    },
}
