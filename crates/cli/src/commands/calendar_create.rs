//! `chestnut calendar create`: a new calendar on a server, mostly one to receive copies.

use chestnut_caldav::protocol::{CalendarInfo, NewCalendar};
use chestnut_core::{Kind, Kinds};
use toml_edit::Value;

use crate::args::{Common, KindWord};
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::new_calendar::make;
use crate::open::{block_on, load};
use crate::render::human::calendar_create::human;
use crate::report::calendar_create::Report;
use crate::settings::{ConfigurationText, Connections, check_name};

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
    if let Some(called) = wanted.called {
        check_name("calendar", called)?;
        if text.has("calendar", called) {
            return Err(Failure::usage(format!(
                "there is a calendar `{called}` already in the configuration"
            ))
            .hint("Nothing was made. Choose another name with --as."));
        }
    }
    let new = NewCalendar {
        name: wanted.name.to_owned(),
        color: wanted.color.map(str::to_owned),
        kinds: kinds(wanted.kinds),
    };
    let connections = Connections::new(&settings, &io.environment);
    let made = block_on(make(&connections, &account, &new))??;
    let path = made.href.as_str().to_owned();
    if let Some(called) = wanted.called {
        let keys = vec![("account", Value::from(account.as_str())), ("path", Value::from(path.as_str()))];
        text.add("calendar", called, keys)?;
        text.save()?;
    }
    let report = Report {
        differs: differences(&new, &made),
        account,
        name: made.name,
        path,
        color: made.color,
        kinds: made.kinds.iter().map(Kind::word).collect(),
        called: wanted.called.map(str::to_owned),
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

fn differences(new: &NewCalendar, made: &CalendarInfo) -> Vec<String> {
    let mut told = Vec::new();
    if made.name != new.name {
        told.push(format!("its name is {:?}", made.name));
    }
    if new.color.is_some() && made.color != new.color {
        told.push(
            made.color
                .as_ref()
                .map_or_else(|| "it has no colour".to_owned(), |c| format!("its colour is {c}")),
        );
    }
    if made.kinds != new.kinds {
        let takes: Vec<_> = made.kinds.iter().map(Kind::word).collect();
        told.push(format!("it takes {}", takes.join(", ")));
    }
    told
}
