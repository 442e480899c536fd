//! `chestnut history`: the last runs, or every change of one.

use chestnut_store::{RunId, Store};
use jiff::tz::TimeZone;

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{load, look_at_state};
use crate::render::human::changes::change_lines;
use crate::render::human::history::list;
use crate::report::history::{Report, run_of};
use crate::words::no_such_run;

pub(crate) fn run(
    number: Option<i64>,
    last: usize,
    all: bool,
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = look_at_state(common, &settings)?;
    let zone = settings.zone.clone();
    match number {
        None => {
            let records = store.runs_of(None, last, all)?;
            let report = Report { runs: records.iter().map(|r| run_of(r, None)).collect() };
            show(common, io, &report, || list(&records, &zone))?;
        }
        Some(number) => one(&store, RunId(number), &zone, common, io)?,
    }
    Ok(ExitCode::Ok)
}

fn one(store: &Store, id: RunId, zone: &TimeZone, common: &Common, io: &mut Io<'_>) -> Result<(), Failure> {
    let record = store.run(id)?.ok_or_else(|| no_such_run(id.0))?;
    let changes = store.changes(id)?;
    let report = Report { runs: vec![run_of(&record, Some(&changes))] };
    show(common, io, &report, || {
        let mut out = list(std::slice::from_ref(&record), zone);
        out.push('\n');
        out += &change_lines(&changes, zone);
        if changes.is_empty() {
            out += "  nothing was changed\n";
        }
        out
    })
}
