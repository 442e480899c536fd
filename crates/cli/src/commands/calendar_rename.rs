//! `chestnut calendar rename`: another name on the server; the configuration follows where it goes by the name.

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{block_on, load};
use crate::questions::Questions;
use crate::report::calendar_rename::Report;
use crate::settings::{ConfigurationText, Connections, Place};
use crate::words::{
    empty_name, has_no_name, keeps_its_name, not_renamed, rename_now, renamed, renames_for_everybody,
    renaming_asks_first, was_not_renamed,
};

/// What a person said besides.
#[derive(Debug, Clone, Copy)]
pub(crate) struct How {
    /// The server's name is meant, which others see.
    pub(crate) on_server: bool,
    pub(crate) yes: bool,
}

pub(crate) fn run(
    calendar: &str,
    new: &str,
    how: How,
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let (_, found) = settings.chosen_calendar(calendar)?;
    let by_name = matches!(found.place, Place::Name(_));
    let Some(account) = found.account.as_deref().filter(|_| by_name || matches!(found.place, Place::Path(_)))
    else {
        return Err(has_no_name(calendar, found.place.kind()));
    };
    if new.trim().is_empty() {
        return Err(empty_name());
    }
    if !how.on_server {
        return Err(renames_for_everybody(calendar, new));
    }
    if !how.yes {
        let mut questions =
            Questions::of_terminal(io.can_ask).ok_or_else(|| renaming_asks_first(calendar))?;
        if !questions.yes(&rename_now(calendar, account, new), false)? {
            return Err(was_not_renamed(calendar));
        }
    }
    let connections = Connections::new(&settings, &io.environment);
    let stands = block_on(async {
        let url = connections.url(calendar).await?;
        let client = connections.client(account)?;
        client.rename_calendar(&url, new).await.map_err(|error| not_renamed(calendar, account, &error))
    })??;
    if stands.as_deref().map(str::trim) != Some(new.trim()) {
        return Err(keeps_its_name(calendar, account, stands.as_deref()));
    }
    if by_name {
        let mut text = ConfigurationText::holding(&settings, "calendar", calendar)?;
        text.set("calendar", calendar, "name", new);
        text.save()?;
    }
    let report =
        Report { calendar: calendar.to_owned(), name: new.to_owned(), configuration_changed: by_name };
    show(common, io, &report, || renamed(calendar, new, by_name))?;
    Ok(ExitCode::Ok)
}
