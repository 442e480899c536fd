//! The built program in a cleared environment.

use std::path::Path;
use std::process::Command;

/// Prepares a program with nothing of this machine's environment: a fixed clock, width and home.
#[must_use]
pub fn hermetic(program: &Path, folder: &Path) -> Command {
    let mut command = Command::new(program);
    command
        .env_clear()
        .env("HOME", folder)
        .env("COLUMNS", "110")
        .env("CHESTNUT_NOW", "2026-10-05T08:00:00Z")
        .env("NO_COLOR", "1")
        .current_dir(folder);
    command
}

/// The clock of servers in tests that run the program: the moment of `CHESTNUT_NOW` and a little more.
#[must_use]
pub fn standin_now() -> i64 {
    1_791_187_200_000
}
