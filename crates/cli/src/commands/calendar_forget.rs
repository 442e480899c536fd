//! `chestnut calendar forget`: out of the configuration; what stands in the calendar stays.

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::load;
use crate::report::calendar_forget::Report;
use crate::settings::{ConfigurationText, routes_of};
use crate::words::{calendar_forgotten, calendar_is_needed};

pub(crate) fn run(name: &str, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let (name, _) = settings.chosen_calendar(name)?;
    let mut routes = routes_of(&settings, &[name.to_owned()]);
    for route in &mut routes {
        // A part of a route is called by the name of the whole.
        if let Some(whole) = settings.routes.get(route).and_then(|found| found.part_of.clone()) {
            *route = whole;
        }
    }
    routes.dedup();
    if !routes.is_empty() {
        return Err(calendar_is_needed(name, &routes));
    }
    let mut text = ConfigurationText::holding(&settings, "calendar", name)?;
    text.remove("calendar", name);
    text.save()?;
    let report = Report { calendar: name.to_owned() };
    show(common, io, &report, || calendar_forgotten(&report.calendar))?;
    Ok(ExitCode::Ok)
}
