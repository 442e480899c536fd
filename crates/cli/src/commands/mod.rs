//! One file for each command: resolve, ask, report, show.

mod account_add;
mod account_forget;
mod account_list;
mod account_login;
mod account_test;
mod agenda;
mod calendar_add;
mod calendar_create;
mod calendar_list;
mod calendar_rename;
mod demo;
mod held;
mod history;
mod init;
mod init_ask;
mod preview;
mod route;
mod status;
mod sync;
mod why;

use std::future::Future;
use std::path::PathBuf;

use chestnut_store::Store;

use crate::args::{AccountCommand, CalendarCommand, Cli, ColorWord, Command, Common, RouteCommand};
use crate::error_report::Failure;
use crate::exit_code::ExitCode;
use crate::render;
use crate::run::Io;
use crate::settings::{Settings, find as find_configuration};

pub(crate) fn run(cli: &Cli, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let common = &cli.common;
    match &cli.command {
        Command::Demo { dir, keep } => demo::run(dir.as_deref(), *keep, common, io),
        Command::Init { file, ask } => init::run(file.as_deref(), *ask, common, io),
        Command::Account(command) => account(command, common, io),
        Command::Calendar(command) => calendar(command, common, io),
        Command::Agenda { names, from, to } => {
            let asked = agenda::Asked { names, from: from.as_deref(), to: to.as_deref() };
            agenda::run(&asked, common, io)
        }
        Command::Why { route, entry } => why::run(route, entry, common, io),
        Command::Preview { routes } => preview::run(routes, common, io),
        Command::Route(command) => routes(command, common, io),
        Command::Sync { routes, yes, allow_deletions, afresh } => {
            let how = sync::How { yes: *yes, allow_deletions: *allow_deletions, afresh: *afresh };
            sync::run(routes, &how, common, io)
        }
        Command::Held => held::run(common, io),
        Command::Decide { number, choice } => held::decide(*number, choice, common, io),
        Command::History { run, last } => history::run(*run, *last, common, io),
        Command::Status => status::run(common, io),
    }
}

fn account(command: &AccountCommand, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    match command {
        AccountCommand::List => account_list::run(common, io),
        AccountCommand::Add(args) => account_add::run(args, common, io),
        AccountCommand::Test { names } => account_test::run(names, common, io),
        AccountCommand::Login { account, code, no_browser } => {
            account_login::run(account, *code, *no_browser, common, io)
        }
        AccountCommand::Forget { account } => account_forget::run(account, common, io),
    }
}

fn routes(command: &RouteCommand, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    match command {
        RouteCommand::List => route::list(common, io),
        RouteCommand::Show { route } => route::show_one(route, common, io),
        RouteCommand::Add(args) => route::add(args, common, io),
        RouteCommand::Pause { route } => route::pause(route, true, common, io),
        RouteCommand::Resume { route } => route::pause(route, false, common, io),
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
        CalendarCommand::Create { account, name, kinds, called } => {
            let color = match &common.color {
                ColorWord::Shade(shade) => Some(shade.as_str()),
                ColorWord::When(_) => None,
            };
            let new = calendar_create::Wanted { account, name, color, kinds, called: called.as_deref() };
            calendar_create::run(&new, common, io)
        }
        CalendarCommand::Rename { calendar, name } => calendar_rename::run(calendar, name, common, io),
    }
}

/// Where the configuration is, or would be written.
fn configuration_path(common: &Common, io: &Io<'_>) -> Result<PathBuf, Failure> {
    if let Some(path) = common.config.clone().or_else(|| io.environment.path("CHESTNUT_CONFIG")) {
        return Ok(path);
    }
    Ok(find_configuration(None, &io.environment).unwrap_or_else(|_| PathBuf::from("chestnut.toml")))
}

fn load(common: &Common, io: &Io<'_>) -> Result<Settings, Failure> {
    Settings::load(common.config.as_deref(), &io.environment)
}

fn state_path(common: &Common, settings: &Settings) -> PathBuf {
    common.state.clone().unwrap_or_else(|| settings.path.with_extension("state"))
}

fn open_state(common: &Common, settings: &Settings) -> Result<Store, Failure> {
    Ok(Store::open(&state_path(common, settings))?)
}

/// Opens the state to look at it: where there is none, none is made.
fn look_at_state(common: &Common, settings: &Settings) -> Result<Store, Failure> {
    let path = state_path(common, settings);
    Ok(if path.exists() { Store::open(&path)? } else { Store::in_memory()? })
}

/// Runs asynchronous work on this thread.
fn block_on<T>(work: impl Future<Output = T>) -> Result<T, Failure> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    Ok(runtime.block_on(work))
}

/// Shows a report: as JSON, or as `human` says, or not at all.
fn show(
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
