//! `chestnut calendar create`: a new calendar on a server, mostly one to receive copies.

use chestnut_caldav::protocol::NewCalendar;
use chestnut_core::{Kind, Kinds};
use toml_edit::Value;

use crate::args::{Common, KindWord};
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::new_calendar::{free_name, make};
use crate::open::{block_on, load};
use crate::render::human::calendar_create::human;
use crate::report::calendar_create::Report;
use crate::settings::{ConfigurationText, Connections, check_name};
use crate::words::{has_calendar_so_none_was_made, made_differently};

/// What is asked for.
pub(crate) struct Wanted<'w> {
    pub(crate) account: &'w str,
    pub(crate) name: &'w str,
    pub(crate) color: Option<&'w str>,
    pub(crate) kinds: &'w [KindWord],
    pub(crate) called: Option<&'w str>,
}

pub(crate) fn run(wanted: &Wanted<'_>, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let account = settings.chosen_accounts(&[wanted.account.to_owned()])?[0].0.to_owned();
    let mut text = ConfigurationText::read(&settings.path)?;
    let called = wanted.called.map_or_else(|| free_name(&text, "calendar", wanted.name), str::to_owned);
    check_name("calendar", &called)?;
    if text.has("calendar", &called) {
        return Err(has_calendar_so_none_was_made(&called));
    }
    let new = NewCalendar {
        name: wanted.name.to_owned(),
        color: wanted.color.map(str::to_owned),
        kinds: kinds(wanted.kinds),
    };
    let connections = Connections::new(&settings, &io.environment);
    let made = block_on(make(&connections, &account, &new))??;
    let path = made.href.as_str().to_owned();
    let keys = vec![("account", Value::from(account.as_str())), ("path", Value::from(path.as_str()))];
    text.add("calendar", &called, keys)?;
    text.save()?;
    let report = Report {
        differs: made_differently(&new, &made),
        account,
        name: made.name,
        path,
        color: made.color,
        kinds: made.kinds.iter().map(Kind::word).collect(),
        called,
    };
    show(common, io, &report, || human(&report))?;
    Ok(ExitCode::Ok)
}

fn kinds(words: &[KindWord]) -> Kinds {
    let kind = |word: &KindWord| match word {
        KindWord::Events => Kind::Event,
        KindWord::Tasks => Kind::Task,
        KindWord::Journals => Kind::Journal,
    };
    words.iter().map(kind).collect()
}
