//! `chestnut agenda`: what takes place in calendars and files, as a picture or a list.

use std::path::Path;

use jiff::Span;
use jiff::civil::{Date, Weekday};

use crate::args::Common;
use crate::days::{day, week_of};
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::occurring::Agenda;
use crate::open::{block_on, load, look_at_state};
use crate::progress::Bars;
use crate::render::Clock;
use crate::render::human::agenda::human;
use crate::render::human::grid::{Grid, Room, days_that_fit};
use crate::render::human::month::month;
use crate::settings::{Connections, Settings};
use crate::words::{ends_before_it_begins, fewer_days};

/// What was asked for.
pub(crate) struct Asked<'a> {
    pub(crate) names: &'a [String],
    pub(crate) from: Option<&'a str>,
    pub(crate) to: Option<&'a str>,
    pub(crate) days: Option<u16>,
    pub(crate) week: Option<&'a str>,
    pub(crate) month: Option<&'a str>,
    pub(crate) beside: bool,
    pub(crate) form: Form,
    pub(crate) offline: bool,
}

/// In which form.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Form {
    /// A picture on a terminal, else a list.
    AsFits,
    List,
    Picture,
}

/// Days that are shown where nothing is said.
const DAYS: i32 = 7;
/// A picture that goes to no terminal.
const PAPER: (usize, usize) = (80, 60);

pub(crate) fn run(asked: &Asked<'_>, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = settings(asked, common, io)?;
    let zone = settings.zone.clone();
    let now = io.environment.now()?;
    let today = now.to_zoned(zone.clone()).date();
    let (from, to) = days(asked, today, settings.week_starts)?;
    let store = look_at_state(common, &settings, &io.environment)?;
    let mut agenda = Agenda::new((from, to), &zone, now, asked.offline);
    let bars = Bars::new(io.progress && !common.quiet);
    let connections = Connections::new(&settings, &io.environment).keeping(&store, now);
    block_on(
        bars.meanwhile(|| connections.waits_for(), agenda.read(asked.names, &settings, &store, &connections)),
    )??;
    let screen = match asked.form {
        Form::AsFits => io.screen,
        Form::List => None,
        Form::Picture => Some(io.screen.unwrap_or_else(|| paper(io))),
    };
    show(common, io, &agenda.lines, || match screen {
        Some((width, height)) => {
            let room = Room { width, height, zone: zone.clone(), today, beside: asked.beside };
            agenda.as_of.clone() + &picture(&agenda, asked.month.is_some(), (from, to), &room, &settings)
        }
        None => agenda.as_of.clone() + &human(&agenda.lines, &Clock::at(now, &zone), from, to),
    })?;
    for trouble in &agenda.troubles {
        io.say(&trouble.lines())?;
    }
    Ok(if agenda.troubles.is_empty() { ExitCode::Ok } else { ExitCode::Failed })
}

/// Width and height of what is no terminal, as the environment has it.
fn paper(io: &Io<'_>) -> (usize, usize) {
    let number = |name: &str, default: usize| {
        io.environment.get(name).and_then(|text| text.parse().ok()).unwrap_or(default)
    };
    (number("COLUMNS", PAPER.0), number("LINES", PAPER.1))
}

fn picture(
    agenda: &Agenda,
    is_month: bool,
    (from, to): (Date, Date),
    room: &Room,
    settings: &Settings,
) -> String {
    let all: Vec<Date> = from.series(Span::new().days(1)).take_while(|day| *day <= to).collect();
    if is_month {
        let first = week_of(from, settings.week_starts);
        let last = week_of(to, settings.week_starts).saturating_add(Span::new().days(6));
        let whole: Vec<Date> = first.series(Span::new().days(1)).take_while(|day| *day <= last).collect();
        let head = from.strftime("%B %Y\n").to_string();
        return head + &month(&agenda.lines, &whole, from, &agenda.names, room);
    }
    let beside = if room.beside { agenda.names.len() } else { 1 };
    let shown = all.len().min(days_that_fit(room.width, beside));
    let grid = Grid::of(&agenda.lines, &all[..shown], agenda.names.len(), room);
    let fewer = if shown < all.len() { fewer_days(shown, all.len()) } else { String::new() };
    grid.draw(&agenda.names, room) + &fewer
}

/// Files need no configuration; where there is one, its zone counts.
fn settings(asked: &Asked<'_>, common: &Common, io: &Io<'_>) -> Result<Settings, Failure> {
    let files_alone = !asked.names.is_empty() && asked.names.iter().all(|name| Path::new(name).exists());
    match load(common, io) {
        Err(_) if files_alone && common.config.is_none() => Ok(Settings::empty(Path::new("chestnut.toml"))),
        loaded => loaded,
    }
}

/// The first and the last day.
fn days(asked: &Asked<'_>, today: Date, week_starts: Weekday) -> Result<(Date, Date), Failure> {
    let later = |from: Date, days: i32| from.saturating_add(Span::new().days(days - 1));
    if let Some(text) = asked.week {
        let first = week_of(day("--week", text, today)?, week_starts);
        return Ok((first, later(first, DAYS)));
    }
    if let Some(text) = asked.month {
        let day = day("--month", text, today)?;
        return Ok((day.first_of_month(), day.last_of_month()));
    }
    let from = asked.from.map_or(Ok(today), |text| day("--from", text, today))?;
    let to = match (asked.to, asked.days) {
        (Some(text), _) => day("--to", text, today)?,
        (None, Some(number)) => later(from, i32::from(number)),
        (None, None) => later(from, DAYS),
    };
    if to < from { Err(ends_before_it_begins(from, to)) } else { Ok((from, to)) }
}
