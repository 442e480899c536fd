//! `chestnut calendar create`: a new calendar on a server, mostly one to receive copies.

use chestnut_caldav::Client;
use chestnut_caldav::protocol::{CalendarInfo, Found, NewCalendar};
use chestnut_core::{Kind, Kinds};
use serde::Serialize;
use toml_edit::Value;
use url::Url;

use super::init_ask::slug;
use super::{block_on, load, show};
use crate::args::{Common, KindWord};
use crate::error_report::{Failure, dav_hint};
use crate::exit_code::ExitCode;
use crate::render::clean;
use crate::run::Io;
use crate::settings::{ConfigurationText, Connections, check_name};

/// What is asked for.
pub(super) struct Wanted<'w> {
    pub(super) account: &'w str,
    pub(super) name: &'w str,
    pub(super) color: Option<&'w str>,
    pub(super) kinds: &'w [KindWord],
    pub(super) called: Option<&'w str>,
}

#[derive(Debug, Serialize)]
struct Report {
    account: String,
    name: String,
    path: String,
    color: Option<String>,
    kinds: Vec<&'static str>,
    called: Option<String>,
    /// What the server made otherwise than it was asked.
    differs: Vec<String>,
}

pub(super) fn run(wanted: &Wanted<'_>, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
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

pub(super) async fn make(
    connections: &Connections<'_>,
    account: &str,
    new: &NewCalendar,
) -> Result<CalendarInfo, Failure> {
    let found = connections.discover(account).await?;
    let client = connections.client(account)?;
    if found.calendars.iter().any(|c| c.name == new.name) {
        let message = format!("account {account} has a calendar named {:?} already", new.name);
        return Err(Failure::usage(message).hint(format!(
            "Use that one (`chestnut calendar list {account}` shows its path), or choose another name."
        )));
    }
    let url = free_place(&found, &new.name).ok_or_else(|| {
        Failure::failed(format!("account {account}: the server names no home for new calendars"))
            .hint("Make the calendar in the server's own pages, then `chestnut calendar list` finds it.")
    })?;
    let failed = |error: &chestnut_caldav::DavError| {
        let hint = match error.class() {
            chestnut_caldav::Class::Credentials => dav_hint(error, account),
            _ => "This server does not let calendars be made from outside, or not by this user. Make it in the server's own pages, then `chestnut calendar list` finds it.".to_owned(),
        };
        Failure::failed(format!("account {account}: {error}")).hint(hint)
    };
    let answered = client.make_calendar(&url, new).await;
    // Whether it stands there counts more than the answer.
    match look(&client, &url).await {
        Some(info) => Ok(info),
        None => Err(match answered {
            Err(error) => failed(&error),
            Ok(()) => Failure::failed(format!(
                "account {account}: the server said that the calendar was made, and it is not there"
            ))
            .hint("Make it in the server's own pages, then `chestnut calendar list` finds it."),
        }),
    }
}

async fn look(client: &Client, url: &Url) -> Option<CalendarInfo> {
    client.capabilities(url).await.ok().map(|found| found.info)
}

/// A place in the first home whose name says what it is: letters, digits and hyphens, which every server takes.
fn free_place(found: &Found, name: &str) -> Option<Url> {
    let home = found.homes.first()?;
    let slug = slug(name, "calendar");
    let base = home.path().trim_end_matches('/');
    let taken = |path: &str| found.calendars.iter().any(|c| c.url.path().trim_end_matches('/') == path);
    let numbered = std::iter::once(slug.clone()).chain((2..1000).map(|n| format!("{slug}-{n}")));
    let free = numbered.map(|name| format!("{base}/{name}")).find(|path| !taken(path))?;
    let mut url = home.clone();
    url.set_path(&format!("{free}/"));
    Some(url)
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

fn human(report: &Report) -> String {
    let Report { account, name, path, called, differs, .. } = report;
    let mut out = format!("Made {:?} at account {account}: {}\n", clean(name), clean(path));
    for difference in differs {
        out += &format!("The server made it otherwise than it was asked: {}.\n", clean(difference));
    }
    match called {
        Some(called) => out += &format!("The configuration calls it {called}.\n"),
        None => {
            out += &format!("Next: chestnut calendar add NAME --account {account} --path {}\n", clean(path));
        }
    }
    out
}
