//! Runs one route, for whoever asks: `sync`, `watch`.

use chestnut_caldav::DavError;
use chestnut_engine::{CalendarError, Observer, Rule, RunError, RunOptions, RunReport, run_route};
use chestnut_store::{Store, StoreError};
use jiff::Timestamp;

use crate::failure::Failure;
use crate::settings::{Connections, RouteSettings, Settings};

/// A route, and what it takes to run it.
pub(crate) struct Runner<'r> {
    pub(crate) name: &'r str,
    pub(crate) route: &'r RouteSettings,
    pub(crate) key: &'r [u8],
    pub(crate) connections: &'r Connections<'r>,
    pub(crate) store: &'r Store,
}

impl Runner<'_> {
    /// Finds its calendars.
    pub(crate) async fn rule(&self) -> Result<Rule, Failure> {
        self.connections.route(self.name, self.route, self.key).await
    }

    /// Runs it; once more, where a calendar was not found at the place that was known of it. `prepared` makes the
    /// options ready for its calendars; `None` where there is nothing to run.
    pub(crate) async fn run(
        &self,
        prepared: impl AsyncFn(&Rule) -> Result<Option<RunOptions>, Failure>,
        observer: &dyn Observer,
    ) -> Result<Option<RunReport>, Failure> {
        let once = async || -> Result<Option<RunReport>, Failure> {
            let rule = self.rule().await?;
            let Some(options) = prepared(&rule).await? else { return Ok(None) };
            Ok(Some(run_route(&rule, self.store, &options, observer).await?))
        };
        match once().await? {
            Some(report) if self.has_moved(&report)? => once().await,
            report => Ok(report),
        }
    }

    /// Whether a calendar was not found where it was known to stand, or is known to stand elsewhere since: that is
    /// forgotten, and the next rule seeks it.
    pub(crate) fn has_moved(&self, report: &RunReport) -> Result<bool, Failure> {
        let sought: &[String] = match &report.error {
            Some(RunError::OtherCalendars { .. }) => &self.route.ends,
            Some(RunError::Calendar { calendar, error, .. }) if is_not_there(error) => {
                std::slice::from_ref(calendar)
            }
            _ => &[],
        };
        let mut was_known = false;
        for calendar in sought {
            was_known |= self.connections.forget(calendar)?;
        }
        Ok(was_known)
    }
}

/// Tells whether a server has no calendar where one stood.
fn is_not_there(error: &CalendarError) -> bool {
    let CalendarError::Dav(error) = error else { return false };
    matches!(error, DavError::NotFound { .. } | DavError::Status { status: 300..=399, .. })
}

/// Whether a route rests, and until when.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Rest {
    /// The account that rests, where it is not the route alone.
    pub(crate) account: Option<String>,
    /// In seconds since 1970; `None`: until somebody lets it go on.
    pub(crate) until: Option<i64>,
}

/// Why a route is to be left alone now: it rests, or one of its accounts does.
pub(crate) fn rest_of(
    settings: &Settings,
    store: &Store,
    (name, route): (&str, &RouteSettings),
    now: Timestamp,
) -> Result<Option<Rest>, StoreError> {
    let now = now.as_second();
    if let Some(known) = store.route(name)?.filter(|known| known.rests(now)) {
        return Ok(Some(Rest { account: None, until: known.paused_until }));
    }
    let mut resting = store.paused_accounts()?;
    resting.retain(|(_, until)| until.is_none_or(|until| now < until));
    let uses = |account: &String| {
        let calendars = route.ends.iter().filter_map(|end| settings.calendars.get(end));
        calendars.filter_map(|calendar| calendar.account.as_ref()).any(|used| used == account)
    };
    let found = resting.into_iter().find(|(account, _)| uses(account));
    Ok(found.map(|(account, until)| Rest { account: Some(account), until }))
}
