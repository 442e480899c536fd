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

/// Takes a line apart as a shell does: at blanks, but not between double quotes.
#[must_use]
pub fn shell_words(line: &str) -> Vec<String> {
    let mut words = vec![String::new()];
    let mut is_quoted = false;
    for c in line.chars() {
        match c {
            '"' => is_quoted = !is_quoted,
            ' ' if !is_quoted => words.push(String::new()),
            c => words.last_mut().expect("a word").push(c),
        }
    }
    words
}
