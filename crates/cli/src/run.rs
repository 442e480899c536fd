//! One command line, from its words to its exit status.

use std::io::{IsTerminal as _, Write};

use anstream::adapter::StripBytes;
use clap::{ColorChoice, CommandFactory as _, Parser as _};

use crate::args::{
    AccountCommand, CalendarCommand, Cli, Command, Common, RouteCommand, StateCommand, mistyped, with_help,
};
use crate::commands::{
    account_add, account_forget, account_list, account_login, account_move, account_password, account_pause,
    account_test, agenda, calendar_add, calendar_create, calendar_forget, calendar_list, calendar_rename,
    calendar_tidy, check, compare, demo, free, held, history, init, init_ask, preview, preview_text, probe,
    report as report_command, route, route_edit, shell, snapshot, state, status, sync, undo, why,
};
use crate::environment::Environment;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::Io;
use crate::render::fit;
use crate::render::text::plain;
use crate::watch;
use crate::words::use_preview;

/// Runs the process's own command line.
#[must_use]
pub fn run_program() -> ExitCode {
    // A shell that asks what fits is answered, and nothing else is done.
    clap_complete::CompleteEnv::with_factory(Cli::command).var(shell::ASKS).complete();
    let environment = Environment::of_process();
    let (out, err) = (std::io::stdout(), std::io::stderr());
    let color = out.is_terminal()
        && environment.get("NO_COLOR").is_none()
        && environment.get("TERM").as_deref() != Some("dumb");
    let progress = err.is_terminal();
    let can_ask = progress && std::io::stdin().is_terminal();
    let screen = out.is_terminal().then(|| dialoguer::console::Term::stdout().size());
    let screen = screen.map(|(height, width)| (usize::from(width), usize::from(height)));
    let arguments: Vec<_> = std::env::args_os().collect();
    let (mut out, mut err) = (out.lock(), err.lock());
    let (out, err) = (&mut out, &mut err);
    let unsaid = String::new();
    run(&arguments, &mut Io { out, err, color, progress, can_ask, screen, environment, unsaid })
}

/// Runs one command line. The first argument is the program's name.
pub fn run(arguments: &[impl Clone + Into<std::ffi::OsString>], io: &mut Io<'_>) -> ExitCode {
    // A second call finds it installed already.
    drop(rustls::crypto::ring::default_provider().install_default());
    let cli = match Cli::try_parse_from(arguments.iter().cloned()) {
        Ok(cli) => cli,
        // Groups and examples are put together for who asks for help, and for nobody else.
        Err(error) => {
            let words: Vec<std::ffi::OsString> = arguments.iter().cloned().map(Into::into).collect();
            // Whoever asks for help mistyped nothing.
            if error.use_stderr()
                && let Some(failure) = mistyped(&error, &mut Cli::command(), &words)
            {
                return report(&failure, io);
            }
            let helped = with_help(Cli::command()).try_get_matches_from(words);
            return usage(&helped.err().unwrap_or(error), io);
        }
    };
    log_requests(&cli);
    let color = match cli.common.color {
        ColorChoice::Always => true,
        ColorChoice::Never => false,
        ColorChoice::Auto => io.color,
    };
    let mut plain = Plain(StripBytes::new(), &mut *io.out);
    let out: &mut dyn Write = if color { plain.1 } else { &mut plain };
    let (progress, can_ask, screen) = (io.progress, io.can_ask, io.screen);
    let environment = io.environment.clone();
    let unsaid = String::new();
    let mut inner = Io { out, err: io.err, color, progress, can_ask, screen, environment, unsaid };
    let result = command(&cli, &mut inner);
    if result.as_ref().is_ok_and(|code| *code != ExitCode::Ok) {
        let unsaid = std::mem::take(&mut inner.unsaid);
        // Nobody reads it any more, as with `| head`.
        drop(inner.say(&unsaid));
    }
    match result {
        Ok(code) => code,
        Err(failure) => report(&failure, io),
    }
}

fn command(cli: &Cli, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let common = &cli.common;
    match &cli.command {
        Command::Demo { dir, keep } => {
            demo::run(dir.as_deref(), *keep, |words, io| run(words, io), common, io)
        }
        Command::Init { file, ask: true } => init_ask::run(file.as_deref(), common, io),
        Command::Init { file, ask: false } => init::run(file.as_deref(), common, io),
        Command::Account(command) => account(command, common, io),
        Command::Calendar(command) => calendar(command, common, io),
        Command::Agenda { names, from, to, days, week, month, beside, list, grid, offline } => {
            let asked = agenda::Asked {
                names,
                from: from.as_deref(),
                to: to.as_deref(),
                days: *days,
                week: week.as_deref(),
                month: month.as_deref(),
                beside: *beside,
                form: match (list, grid) {
                    (true, _) => agenda::Form::List,
                    (false, true) => agenda::Form::Picture,
                    (false, false) => agenda::Form::AsFits,
                },
                offline: *offline,
            };
            agenda::run(&asked, common, io)
        }
        Command::Free { names, at_least, hours, weekdays, from, to, ics, offline } => {
            let asked = free::Asked {
                names,
                at_least,
                hours,
                weekdays,
                from: from.as_deref(),
                to: to.as_deref(),
                ics: ics.as_ref(),
                offline: *offline,
            };
            free::run(&asked, common, io)
        }
        Command::Check { offline, bundle } => check::run(*offline, bundle.as_deref(), common, io),
        Command::Compare { routes, settled, then_sync } => {
            let asked = compare::Asked { routes, settled: settled.as_deref(), then_sync: *then_sync };
            compare::run(&asked, common, io)
        }
        Command::Probe { routes, title, wait, sweep } => {
            let asked =
                probe::Asked { routes, title: title.as_deref(), wait: wait.as_deref(), sweep: *sweep };
            probe::run(&asked, common, io)
        }
        Command::Why { words } => why::run(words, common, io),
        Command::Preview { routes, text: Some(words) } => preview_text::run(routes, words, common, io),
        Command::Preview { routes, text: None } => preview::run(routes, common, io),
        Command::Route(command) => routes(command, common, io),
        Command::Sync { routes, dry_run: true, .. } => Err(use_preview(routes)),
        Command::Sync { routes, yes, allow_deletions, afresh, only_due, entries, dry_run: false } => {
            let how = sync::How {
                yes: *yes,
                allow_deletions: *allow_deletions,
                afresh: *afresh,
                only_due: *only_due,
                entries,
            };
            sync::run(routes, &how, common, io)
        }
        Command::Watch { print_unit: true, .. } => watch::print_unit(common, io),
        Command::Watch { log, log_format, print_unit: false } => {
            watch::run(&watch::Asked { log: log.as_deref(), format: *log_format }, common, io)
        }
        Command::Held => held::run(common, io),
        Command::Decide { number, choice } => held::decide(*number, choice.as_deref(), common, io),
        Command::History { run, entries, since, route, last, all, text, ics } => {
            // Whoever types a name means a route.
            let number = run.as_deref().and_then(|typed| typed.parse().ok());
            let named = run.as_deref().filter(|_| number.is_none());
            let asked = history::Asked {
                run: number,
                entries,
                since: since.as_deref(),
                route: named.or(route.as_deref()),
                last: *last,
                all: *all,
                text: *text,
                ics: ics.as_deref(),
            };
            history::run(&asked, common, io)
        }
        Command::Undo { run, entries, yes } => {
            undo::run(&undo::Asked { run, entries, yes: *yes }, common, io)
        }
        Command::Snapshot { calendar, file, before } => {
            snapshot::take(calendar, file, before.as_deref(), common, io)
        }
        Command::Restore { file, into, exact, yes } => {
            let asked = snapshot::Asked { file, into: into.as_deref(), exact: *exact, yes: *yes };
            snapshot::put_back(&asked, common, io)
        }
        Command::Report { file, since, compare, text } => {
            let asked =
                report_command::Asked { file: file.as_deref(), since, compare: *compare, text: *text };
            report_command::run(&asked, common, io)
        }
        Command::Completions { shell } => shell::completions(shell, io),
        Command::Manual { dir } => shell::manual(dir, io),
        Command::State(StateCommand::Check) => state::check(common, io),
        Command::State(StateCommand::Move { from, to }) => state::move_to(from, to, common, io),
        Command::State(StateCommand::Backup { file }) => state::backup(file, common, io),
        Command::Status { stale_after } => status::run(stale_after.as_deref(), common, io),
    }
}

fn account(command: &AccountCommand, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    match command {
        AccountCommand::List => account_list::run(common, io),
        AccountCommand::Add(args) => account_add::run(args, common, io),
        AccountCommand::Test { names, sign_in_also_at, write } => {
            account_test::run(names, sign_in_also_at, write, common, io)
        }
        AccountCommand::Login { account, code, no_browser } => {
            account_login::run(account, *code, *no_browser, common, io)
        }
        AccountCommand::Pause { account, until } => {
            account_pause::pause(account, until.as_deref(), common, io)
        }
        AccountCommand::Move { account, url, yes } => account_move::run(account, url, *yes, common, io),
        AccountCommand::Password { account } => account_password::run(account, common, io),
        AccountCommand::Resume { account } => account_pause::resume(account, common, io),
        AccountCommand::Forget { account } => account_forget::run(account, common, io),
    }
}

fn routes(command: &RouteCommand, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    match command {
        RouteCommand::List => route::list(common, io),
        RouteCommand::Show { route } => route::show_one(route, common, io),
        RouteCommand::Add(args) => route::add(args, common, io),
        RouteCommand::Edit { route, settings } => route_edit::edit(route, settings, common, io),
        RouteCommand::Rename { route, new } => route_edit::rename(route, new, common, io),
        RouteCommand::Pause { route, until } => {
            route::pause(route, route::Pause::Begin(until.as_deref()), common, io)
        }
        RouteCommand::Resume { route } => route::pause(route, route::Pause::End, common, io),
        RouteCommand::Retire { route, remove_copies, yes } => {
            let how = route::Retiring { remove_copies: *remove_copies, yes: *yes };
            route::retire(route, how, common, io)
        }
    }
}

fn calendar(command: &CalendarCommand, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    match command {
        CalendarCommand::List { names } => calendar_list::run(names, common, io),
        CalendarCommand::Add(args) => calendar_add::run(args, common, io),
        CalendarCommand::Create { account, name, kinds, calendar_color, called } => {
            let color = calendar_color.as_deref();
            let new = calendar_create::Wanted { account, name, color, kinds, called: called.as_deref() };
            calendar_create::run(&new, common, io)
        }
        CalendarCommand::Doubles { calendar, remove, yes } => {
            calendar_tidy::find(calendar, *remove, *yes, common, io)
        }
        CalendarCommand::ClearCopies { calendar, of, yes } => {
            calendar_tidy::clear_copies(calendar, of.as_deref(), *yes, common, io)
        }
        CalendarCommand::Forget { calendar } => calendar_forget::run(calendar, common, io),
        CalendarCommand::Rename { calendar, name, on_server, yes } => {
            let how = calendar_rename::How { on_server: *on_server, yes: *yes };
            calendar_rename::run(calendar, name, how, common, io)
        }
    }
}

fn report(failure: &Failure, io: &mut Io<'_>) -> ExitCode {
    // Nobody is left to be told where standard error is closed.
    drop(io.say(&failure.lines()));
    failure.code
}

fn usage(error: &clap::Error, io: &mut Io<'_>) -> ExitCode {
    let text = error.render();
    if error.use_stderr() {
        drop(io.say(&text.to_string()));
        return ExitCode::Usage;
    }
    let shown = fit(&text.ansi().to_string(), io.screen.map(|(width, _)| width));
    drop(if io.color { write!(io.out, "{shown}") } else { write!(io.out, "{}", plain(&shown)) });
    ExitCode::Ok
}

fn log_requests(cli: &Cli) {
    // A watch has a log of its own.
    if cli.common.verbose >= 2 && !matches!(cli.command, Command::Watch { .. }) {
        let filter = tracing_subscriber::EnvFilter::new("chestnut_caldav=debug,chestnut_engine=debug");
        let logging =
            tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).without_time();
        let logging = logging.log_internal_errors(false);
        // It is set up once for each process.
        drop(logging.try_init());
    }
}

/// Takes the colours out of what is written.
struct Plain<'w>(StripBytes, &'w mut dyn Write);

impl Write for Plain<'_> {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        // In one piece: a part ends wherever a colour did.
        let parts: Vec<&[u8]> = self.0.strip_next(bytes).collect();
        self.1.write_all(&parts.concat())?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.1.flush()
    }
}
