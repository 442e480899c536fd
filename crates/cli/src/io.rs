//! Where a command reads its surroundings from, and writes to.

use std::collections::BTreeSet;
use std::io::Write;
use std::path::Path;

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
    /// How many columns and lines the terminal has that results go to; `None` where there is none.
    pub screen: Option<(usize, usize)>,
    /// The environment.
    pub environment: Environment,
    /// What a quiet command kept to itself: it is told where not all is well.
    pub unsaid: String,
}

impl std::fmt::Debug for Io<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Io").field("color", &self.color).finish_non_exhaustive()
    }
}

impl Io<'_> {
    /// Tells people what is no result: what goes wrong, what would be done, what is asked about.
    pub(crate) fn say(&mut self, text: &str) -> std::io::Result<()> {
        let fitted = render::fit(text, self.width_of_errors());
        let shown = if self.color && self.progress { fitted } else { render::text::plain(&fitted) };
        self.err.write_all(shown.as_bytes())
    }

    /// How wide what is told beside results may be; `None` where it goes into a file or a pipe.
    pub(crate) fn width_of_errors(&self) -> Option<usize> {
        self.progress.then(|| self.screen.map_or(80, |(width, _)| width))
    }
}

/// Tells people what failed, last, so that it is not passed over; machines have it in the document. A sign-in that was
/// refused is told once for all that needed it.
pub(crate) fn tell<'f>(
    common: &Common,
    io: &mut Io<'_>,
    failures: impl IntoIterator<Item = &'f Failure>,
) -> Result<(), Failure> {
    if common.json {
        return Ok(());
    }
    let mut told = BTreeSet::new();
    for failure in failures {
        if failure.sign_in_of().is_none_or(|account| told.insert(account)) {
            io.say(&failure.lines())?;
        }
    }
    Ok(())
}

/// Writes a file that is not there yet.
pub(crate) fn write_new(path: &Path, text: &str) -> std::io::Result<()> {
    let mut file = std::fs::OpenOptions::new().write(true).create_new(true).open(path)?;
    file.write_all(text.as_bytes())
}

/// Shows a report: as JSON, or as `human` says; quietly, only where the command's exit status says that not all is well.
pub(crate) fn show(
    common: &Common,
    io: &mut Io<'_>,
    report: &impl serde::Serialize,
    human: impl FnOnce() -> String,
) -> Result<(), Failure> {
    let text = if common.json {
        render::json(report)
    } else if common.quiet {
        io.unsaid += &human();
        return Ok(());
    } else {
        render::fit(&human(), io.screen.map(|(width, _)| width))
    };
    match io.out.write_all(text.as_bytes()).and_then(|()| io.out.flush()) {
        // Whoever reads it has seen enough (`| head`).
        Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => Ok(()),
        written => Ok(written?),
    }
}
