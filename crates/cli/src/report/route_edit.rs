//! What `route edit` and `route rename` report.

use serde::Serialize;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) route: String,
    /// The file that was changed.
    pub(crate) file: String,
    pub(crate) changed: Vec<Changed>,
    /// Its calendars, or its way between them, were changed although it ran: it waits until it is taken out and begun anew,
    /// or put back.
    pub(crate) has_run: bool,
}

/// A key as it was and as it is.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Changed {
    pub(crate) key: String,
    /// As it is written in the file; nothing where it was not said.
    pub(crate) old: Option<String>,
    pub(crate) new: Option<String>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Renamed {
    pub(crate) old: String,
    pub(crate) new: String,
    /// The file that was changed.
    pub(crate) file: String,
}
