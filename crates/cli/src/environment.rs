//! The one place that reads the environment and the clock.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::path::PathBuf;

use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::failure::Failure;
use crate::render::Clock;
use crate::words::not_a_moment;

/// Environment variables, read once.
#[derive(Debug, Clone, Default)]
pub struct Environment {
    variables: BTreeMap<String, OsString>,
}

impl Environment {
    /// Reads the process's environment.
    #[must_use]
    pub fn of_process() -> Self {
        Self {
            variables: std::env::vars_os().filter_map(|(k, v)| Some((k.into_string().ok()?, v))).collect(),
        }
    }

    /// The same, with one more variable.
    #[must_use]
    pub fn with(mut self, name: &str, value: impl Into<OsString>) -> Self {
        self.variables.insert(name.to_owned(), value.into());
        self
    }

    /// Returns a variable that is set to something.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<String> {
        self.variables.get(name).and_then(|v| v.to_str()).filter(|v| !v.is_empty()).map(str::to_owned)
    }

    /// Returns a variable as a path.
    #[must_use]
    pub fn path(&self, name: &str) -> Option<PathBuf> {
        self.variables.get(name).filter(|v| !v.is_empty()).map(PathBuf::from)
    }

    /// Returns the moment at which a command takes place: `CHESTNUT_NOW` (RFC 3339), else the clock's.
    pub(crate) fn now(&self) -> Result<Timestamp, Failure> {
        let Some(text) = self.get("CHESTNUT_NOW") else { return Ok(clock()) };
        text.parse().map_err(|_| not_a_moment(&text))
    }

    /// The clock by which results are read now.
    pub(crate) fn clock(&self, zone: &TimeZone) -> Result<Clock, Failure> {
        Ok(Clock::at(self.now()?, zone))
    }

    /// Tells whether the clock stands still, so that what is printed must be reproducible.
    pub(crate) fn clock_is_fixed(&self) -> bool {
        self.get("CHESTNUT_NOW").is_some()
    }
}

#[expect(clippy::disallowed_methods, reason = "this is where the clock is read")]
fn clock() -> Timestamp {
    Timestamp::now()
}
