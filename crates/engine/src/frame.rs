//! The frame of every run: begun in the history, measured, and closed there.

use chestnut_store::{Change, Lease, RouteId, RouteSummary, RunId, RunResult, Store, StoreError};
use jiff::SignedDuration;

use crate::error::RunError;
use crate::route::{CalendarEnd, RunOptions};
use crate::run_sync::RunReport;

/// A run that was begun. Nobody else runs the route as long as this lives.
pub(crate) struct Frame<'r> {
    pub(crate) id: RouteId,
    pub(crate) run: RunId,
    route: &'r str,
    ends: Vec<&'r CalendarEnd>,
    store: &'r Store,
    options: &'r RunOptions,
    before: (u64, u64),
    started: Option<tokio::time::Instant>,
    _lease: Lease,
}

impl<'r> Frame<'r> {
    pub(crate) fn begin(
        route: &'r str,
        ends: Vec<&'r CalendarEnd>,
        store: &'r Store,
        options: &'r RunOptions,
    ) -> Result<Self, RunError> {
        let lease = Lease::take(store.path(), route, &options.now.to_string())?;
        let (id, run) = store.write(|writer| {
            let id = writer.route(route)?;
            Ok((id, writer.begin_run(id, options.now)?))
        })?;
        ends.iter().for_each(|end| end.calendar.stop_writes_on(std::rc::Rc::clone(&options.stop)));
        let before = requests(&ends);
        let started = options.measure.then(tokio::time::Instant::now);
        Ok(Self { id, run, route, ends, store, options, before, started, _lease: lease })
    }

    /// Ends the run in the history. `troubles` are entries that failed or were damaged; `tell` makes the summary.
    pub(crate) fn close(
        self,
        error: Option<RunError>,
        troubles: usize,
        changes: Vec<Change>,
        keep_history: SignedDuration,
        tell: impl FnOnce() -> Result<RouteSummary, RunError>,
    ) -> Result<RunReport, RunError> {
        if let Some(RunError::Store(StoreError::CutOff)) = error {
            return Err(RunError::Store(StoreError::CutOff));
        }
        let mut summary = tell()?;
        let after = requests(&self.ends);
        (summary.requests, summary.writes) = (after.0 - self.before.0, after.1 - self.before.1);
        summary.milliseconds = self.started.map_or(0, |at| at.elapsed().as_millis() as u64);
        summary.error = error.as_ref().map(ToString::to_string);
        let result = match (&error, troubles, summary.held) {
            (Some(_), ..) => RunResult::Failed,
            (None, 0, 0) => RunResult::Ok,
            (None, 0, _) => RunResult::Held,
            (None, ..) => RunResult::Failed,
        };
        let now = self.options.now;
        self.store.write(|writer| {
            writer.finish_run(self.run, now, result, &summary)?;
            writer.prune_history(now.saturating_sub(keep_history).unwrap_or(now))
        })?;
        Ok(RunReport { route: self.route.to_owned(), run: Some(self.run), result, summary, changes, error })
    }
}

/// Requests sent so far, and those of them that write.
fn requests(ends: &[&CalendarEnd]) -> (u64, u64) {
    let all = ends.iter().map(|end| end.calendar.counts());
    all.fold((0, 0), |sum, one| (sum.0 + one.all, sum.1 + one.writes))
}
