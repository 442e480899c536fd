//! `chestnut-standin`: a simulated calendar server on a port of this machine.

use std::io::Write as _;
use std::process::ExitCode;

use chestnut_standin::{Habit, SignInService, Temper, orchard_server, serve};
use clap::Parser;

/// Runs a simulated CalDAV server for tries and tests. Users: office/office-pw and crews/crews-pw.
#[derive(Debug, Parser)]
#[command(version)]
struct Args {
    /// The port on 127.0.0.1; 0 takes a free one.
    #[arg(long, default_value_t = 0)]
    port: u16,
    /// A named set of habits.
    #[arg(long)]
    temper: Option<Temper>,
    /// A single habit, by name; may be given several times.
    #[arg(long = "habit", value_name = "NAME")]
    habits: Vec<String>,
    /// Entries in office's calendar "presses".
    #[arg(long, default_value_t = 150)]
    entries: usize,
    /// Lets nobody in without a token, and gives them out at /sign-in/ to the program with this client-id.
    #[arg(long, value_name = "CLIENT_ID")]
    sign_in: Option<String>,
    /// Lists the habits and ends.
    #[arg(long)]
    list_habits: bool,
}

fn main() -> ExitCode {
    let args = Args::parse();
    let mut out = std::io::stdout().lock();
    let told = if args.list_habits {
        Habit::ALL.iter().try_for_each(|habit| writeln!(out, "{}", habit.name()))
    } else {
        run(&args, &mut out)
    };
    match told {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            drop(writeln!(std::io::stderr(), "Error: {error}"));
            ExitCode::from(1)
        }
    }
}

fn run(args: &Args, out: &mut impl std::io::Write) -> std::io::Result<()> {
    let mut habits = args.temper.map(Temper::habits).unwrap_or_default();
    for name in &args.habits {
        let habit = Habit::ALL.iter().find(|h| h.name() == *name);
        let unknown =
            || std::io::Error::other(format!("there is no habit {name}; --list-habits names them all"));
        habits.insert(*habit.ok_or_else(unknown)?);
    }
    let mut server = orchard_server(args.entries, now_ms());
    server.habits = habits;
    server.sign_in = args.sign_in.as_deref().map(SignInService::new);
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    runtime.block_on(async {
        let running = serve(server, args.port, std::sync::Arc::new(now_ms)).await?;
        writeln!(out, "{}", running.url())?;
        out.flush()?;
        std::future::pending::<()>().await;
        Ok(())
    })
}

#[expect(clippy::disallowed_methods, reason = "a program of its own, whose clock this is")]
fn now_ms() -> i64 {
    jiff::Timestamp::now().as_millisecond()
}
