//! What `check` reports: whether everything that the configuration names is there, and does what it seems to.

use serde::Serialize;

use crate::failure::Failure;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) file: String,
    /// No server was asked.
    pub(crate) offline: bool,
    /// Nothing is wrong; there may be remarks.
    pub(crate) ok: bool,
    pub(crate) accounts: usize,
    pub(crate) calendars: usize,
    pub(crate) routes: usize,
    pub(crate) lines: Vec<Line>,
}

#[derive(Debug, Clone, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Line {
    /// `account`, `calendar` or `route`.
    pub(crate) about: &'static str,
    pub(crate) name: String,
    pub(crate) standing: Standing,
    pub(crate) says: String,
    /// What to do.
    pub(crate) fix: Option<String>,
}

/// How something in the configuration stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Standing {
    Ok,
    /// It works, and should be known.
    Remark,
    /// It does not work.
    Wrong,
    /// Nobody asked: what it needs does not work, or nobody was to be asked.
    NotAsked,
}

impl Line {
    pub(crate) fn new(about: &'static str, name: &str, standing: Standing, says: impl Into<String>) -> Self {
        Self { about, name: name.to_owned(), standing, says: says.into(), fix: None }
    }

    pub(crate) fn fix(mut self, fix: impl Into<String>) -> Self {
        self.fix = Some(fix.into());
        self
    }

    /// What does not work, in the words of its failure.
    pub(crate) fn wrong(about: &'static str, name: &str, failure: &Failure) -> Self {
        // The line names it already.
        let says = failure.message.strip_prefix(&format!("{about} {name}: ")).unwrap_or(&failure.message);
        Self { fix: failure.hint.clone(), ..Self::new(about, name, Standing::Wrong, says) }
    }
}
