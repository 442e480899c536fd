//! `chestnut completions` and `chestnut manual`: what belongs to the program on a machine.

use std::path::Path;

use clap::CommandFactory as _;
use clap_complete::env::Shells;

use crate::args::{Cli, with_help};
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::Io;
use crate::words::{cannot_be_written, no_such_shell, pages_written};

/// The variable by which a shell asks this program what fits.
pub(crate) const ASKS: &str = "CHESTNUT_COMPLETE";

/// Prints what a shell needs to ask this program for completions.
pub(crate) fn completions(shell: &str, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let shells = Shells::builtins();
    let known: Vec<_> = shells.names().collect();
    let Some(completer) = shells.completer(shell) else { return Err(no_such_shell(shell, &known)) };
    completer.write_registration(ASKS, "chestnut", "chestnut", "chestnut", &mut io.out)?;
    Ok(ExitCode::Ok)
}

/// Writes a page of the manual for each command.
pub(crate) fn manual(folder: &Path, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let failed = |system: std::io::Error| cannot_be_written(folder, &system);
    std::fs::create_dir_all(folder).map_err(failed)?;
    clap_mangen::generate_to(with_help(Cli::command()), folder).map_err(failed)?;
    io.say(&pages_written(folder))?;
    Ok(ExitCode::Ok)
}
