//! One command line, from its words to its exit status.

use std::io::{IsTerminal as _, Write};

use anstream::adapter::StripBytes;
use clap::{ColorChoice, Parser as _};

use crate::args::{Cli, ColorWord};
use crate::commands;
use crate::environment::Environment;
use crate::error_report::Failure;
use crate::exit_code::ExitCode;

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

/// Runs the process's own command line.
#[must_use]
pub fn run_program() -> ExitCode {
    let environment = Environment::of_process();
    let (out, err) = (std::io::stdout(), std::io::stderr());
    let color = out.is_terminal()
        && environment.get("NO_COLOR").is_none()
        && environment.get("TERM").as_deref() != Some("dumb");
    let progress = err.is_terminal();
    let can_ask = progress && std::io::stdin().is_terminal();
    let arguments: Vec<_> = std::env::args_os().collect();
    let (mut out, mut err) = (out.lock(), err.lock());
    run(&arguments, &mut Io { out: &mut out, err: &mut err, color, progress, can_ask, environment })
}

/// Runs one command line. The first argument is the program's name.
pub fn run(arguments: &[impl Clone + Into<std::ffi::OsString>], io: &mut Io<'_>) -> ExitCode {
    // A second call finds it installed already.
    drop(rustls::crypto::ring::default_provider().install_default());
    let cli = match Cli::try_parse_from(arguments.iter().cloned()) {
        Ok(cli) => cli,
        Err(error) => return usage(&error, io),
    };
    log_requests(&cli);
    let color = match cli.common.color {
        ColorWord::When(ColorChoice::Always) => true,
        ColorWord::When(ColorChoice::Never) => false,
        ColorWord::When(ColorChoice::Auto) | ColorWord::Shade(_) => io.color,
    };
    if matches!(cli.common.color, ColorWord::Shade(_)) && !cli.command.makes_calendar() {
        let failure = Failure::usage("--color takes a colour only with `calendar create`");
        return report(&failure.hint("Here it is auto, always or never."), io);
    }
    let mut plain = Plain(StripBytes::new(), &mut *io.out);
    let out: &mut dyn Write = if color { plain.1 } else { &mut plain };
    let (progress, can_ask, environment) = (io.progress, io.can_ask, io.environment.clone());
    let result = commands::run(&cli, &mut Io { out, err: io.err, color, progress, can_ask, environment });
    match result {
        Ok(code) => code,
        Err(failure) => report(&failure, io),
    }
}

fn report(failure: &Failure, io: &mut Io<'_>) -> ExitCode {
    // Nobody is left to be told where standard error is closed.
    drop(io.err.write_all(failure.lines().as_bytes()));
    failure.code
}

fn usage(error: &clap::Error, io: &mut Io<'_>) -> ExitCode {
    let text = error.render();
    if error.use_stderr() {
        drop(write!(io.err, "{text}"));
        return ExitCode::Usage;
    }
    drop(if io.color { write!(io.out, "{}", text.ansi()) } else { write!(io.out, "{text}") });
    ExitCode::Ok
}

fn log_requests(cli: &Cli) {
    if cli.common.verbose >= 2 {
        let filter = tracing_subscriber::EnvFilter::new("chestnut_caldav=debug,chestnut_engine=debug");
        let logging =
            tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).without_time();
        // It is set up once for each process.
        drop(logging.try_init());
    }
}

/// Takes the colours out of what is written.
struct Plain<'w>(StripBytes, &'w mut dyn Write);

impl Write for Plain<'_> {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        for part in self.0.strip_next(bytes) {
            self.1.write_all(part)?;
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.1.flush()
    }
}
