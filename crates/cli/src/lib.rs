//! The program `chestnut`: arguments, configuration, commands, and words for people.
//!
//! [`run()`] runs one command line against given streams and an environment, and can be called as often as one
//! likes: the demonstration does. Everything that knows about terminals, TOML or exit statuses is here; what is
//! below takes values.

mod args;
mod bundle;
mod check_account;
mod check_calendars;
mod commands;
mod days;
mod environment;
mod exit_code;
mod failure;
mod io;
mod new_account;
mod new_calendar;
mod new_route;
mod occurring;
mod open;
mod overview;
mod progress;
mod questions;
mod render;
mod report;
mod run;
mod running;
mod settings;
mod troubles;
mod wanted;
mod watch;
mod words;

pub use environment::Environment;
pub use exit_code::ExitCode;
pub use io::Io;
pub use run::{run, run_program};
pub use settings::check_configuration;
