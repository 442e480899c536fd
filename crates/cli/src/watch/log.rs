//! Where a running process writes what it does.

use std::fs::File;
use std::io::{self, Write};
use std::path::Path;
use std::sync::Mutex;

use tracing_subscriber::EnvFilter;

use super::placed::Placed;
use crate::failure::Failure;
use crate::words::of_file;

/// How lines are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum LogFormat {
    /// For people.
    Text,
    /// One JSON document a line.
    Json,
}

/// Begins to write: into a file, else to standard error, where a service manager takes it up. `verbose` counts `-v`:
/// one names entries, two tell of every request.
pub(super) fn begin(file: Option<&Path>, format: LogFormat, verbose: u8) -> Result<(), Failure> {
    let level = match verbose {
        0 => "chestnut=info",
        1 => "chestnut=debug",
        _ => "chestnut=debug,chestnut_caldav=debug,chestnut_engine=debug",
    };
    let builder = tracing_subscriber::fmt().with_env_filter(EnvFilter::new(level)).with_ansi(false);
    // On a full disk the complaint about a line that was not written would not be written either, and end the process.
    let builder = builder.log_internal_errors(false);
    // A second watch in one process (as in tests) writes where the first one does.
    let begun = match (file, format) {
        (Some(path), format) => {
            let opened = LogFile::open(path).map_err(|system| of_file(path, &system))?;
            let builder = builder.with_writer(Mutex::new(opened));
            match format {
                LogFormat::Text => builder.with_target(false).try_init(),
                LogFormat::Json => builder.json().flatten_event(true).with_target(false).try_init(),
            }
        }
        (None, LogFormat::Text) => builder.with_target(false).with_writer(std::io::stderr).try_init(),
        (None, LogFormat::Json) => {
            builder.json().flatten_event(true).with_target(false).with_writer(std::io::stderr).try_init()
        }
    };
    drop(begun);
    Ok(())
}

/// A file that somebody may take away or rename from time to time, so that it does not grow for ever: the next line begins
/// a new one.
#[derive(Debug)]
struct LogFile {
    placed: Placed,
    file: File,
}

impl LogFile {
    fn open(path: &Path) -> io::Result<Self> {
        let file = File::options().create(true).append(true).open(path)?;
        Ok(Self { placed: Placed::of(path)?, file })
    }
}

impl Write for LogFile {
    fn write(&mut self, line: &[u8]) -> io::Result<usize> {
        // Where no new one can be made, the old one still takes lines.
        if self.placed.has_left()
            && let Ok(new) = Self::open(&self.placed.path)
        {
            *self = new;
        }
        self.file.write(line)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}
