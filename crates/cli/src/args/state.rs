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
}
