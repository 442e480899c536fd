//! Where a command reads its surroundings from, and writes to.

use std::io::Write;

use crate::args::Common;
use crate::environment::Environment;
use crate::failure::Failure;
use crate::render;

/// Where a command reads its surroundings from, and writes to.
pub struct Io<'a> {
    /// Results.
    pub out: &'a mut dyn Write,
    /// Errors, hints and progress.
    pub err: &'a mut dyn Write,
    /// Whether results go to a terminal that can show colour.
    pub color: bool,
    /// Whether progress can be drawn.
    pub progress: bool,
    /// Whether a person can be asked.
    pub can_ask: bool,
    /// The environment.
    pub environment: Environment,
}

impl std::fmt::Debug for Io<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Io").field("color", &self.color).finish_non_exhaustive()
    }
}

/// Shows a report: as JSON, or as `human` says, or not at all.
pub(crate) fn show(
    common: &Common,
    io: &mut Io<'_>,
    report: &impl serde::Serialize,
    human: impl FnOnce() -> String,
) -> Result<(), Failure> {
    let text = if common.json {
        render::json(report)
    } else if common.quiet {
        return Ok(());
    } else {
        human()
    };
    match io.out.write_all(text.as_bytes()).and_then(|()| io.out.flush()) {
        // Whoever reads it has seen enough (`| head`).
        Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => Ok(()),
        written => Ok(written?),
    }
}
