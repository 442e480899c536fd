//! `chestnut calendar rename`: another name on the server; the configuration follows where it goes by the name.

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{block_on, load};
use crate::render::clean;
use crate::report::calendar_rename::Report;
use crate::settings::{ConfigurationText, Connections, Place};
use crate::words::dav_hint;

pub(crate) fn run(calendar: &str, new: &str, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let (_, found) = settings.chosen_calendar(calendar)?;
    let by_name = matches!(found.place, Place::Name(_));
    let Some(account) = found.account.as_deref().filter(|_| by_name || matches!(found.place, Place::Path(_)))
    else {
        return Err(Failure::usage(format!(
            "calendar {calendar} is a {}, which has no name on a server",
            found.place.kind()
        ))
        .hint("What it is called here stands in the configuration: [calendar.NAME]."));
    };
    if new.trim().is_empty() {
        return Err(Failure::usage("the new name is empty"));
    }
    let connections = Connections::new(&settings, &io.environment);
    let stands = block_on(async {
        let url = connections.url(calendar).await?;
        let client = connections.client(account)?;
        client.rename_calendar(&url, new).await.map_err(|error| {
            Failure::failed(format!("calendar {calendar} (account {account}): {error}"))
                .hint(dav_hint(&error, account))
        })
    })??;
    if stands.as_deref().map(str::trim) != Some(new.trim()) {
        let stands = stands.map_or_else(|| "nothing".to_owned(), |name| format!("{:?}", clean(&name)));
        return Err(Failure::failed(format!(
            "calendar {calendar} (account {account}): the server agreed, and calls it {stands} all the same"
        ))
        .hint("Rename it where the server's own pages allow it; nothing was changed in the configuration."));
    }
    if by_name {
        let mut text = ConfigurationText::read(&settings.path)?;
        text.set("calendar", calendar, "name", new);
        text.save()?;
    }
    let report =
        Report { calendar: calendar.to_owned(), name: new.to_owned(), configuration_changed: by_name };
    show(common, io, &report, || {
        let also = if by_name { " The configuration names it so now." } else { "" };
        format!("Calendar {calendar} is called {:?} on its server.{also}\n", clean(new))
    })?;
    Ok(ExitCode::Ok)
}
