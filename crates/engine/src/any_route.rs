//! A route of either kind, for those who run them all alike.

use chestnut_store::Store;

use crate::error::RunError;
use crate::observe::Observer;
use crate::preview::PreviewReport;
use crate::route::{CalendarEnd, Route, RunOptions};
use crate::run_sync::{RunReport, preview_route, run_route};
use crate::two_way::{TwoWay, preview_two_way, run_two_way};

/// A route, ready to run.
#[derive(Debug, Clone)]
pub enum AnyRoute {
    /// From one calendar to another.
    OneWay(Box<Route>),
    /// Between two or more.
    TwoWay(Box<TwoWay>),
}

impl AnyRoute {
    /// Returns its name in the configuration.
    #[must_use]
    pub fn name(&self) -> &str {
        match self {
            Self::OneWay(route) => &route.name,
            Self::TwoWay(route) => &route.name,
        }
    }

    /// Returns its calendars.
    #[must_use]
    pub fn ends(&self) -> Vec<&CalendarEnd> {
        match self {
            Self::OneWay(route) => vec![&route.source, &route.target],
            Self::TwoWay(route) => route.ends.iter().collect(),
        }
    }

    /// Runs it once. What fails as a whole is part of the report.
    ///
    /// # Errors
    /// The state cannot be used, or another run of the route is going on.
    pub async fn run(
        &self,
        store: &Store,
        options: &RunOptions,
        observer: &dyn Observer,
    ) -> Result<RunReport, RunError> {
        match self {
            Self::OneWay(route) => run_route(route, store, options, observer).await,
            Self::TwoWay(route) => run_two_way(route, store, options, observer).await,
        }
    }

    /// Says what a run would do, and writes nothing.
    ///
    /// # Errors
    /// A calendar cannot be read, or the state cannot be used.
    pub async fn preview(
        &self,
        store: &Store,
        options: &RunOptions,
        observer: &dyn Observer,
    ) -> Result<PreviewReport, RunError> {
        match self {
            Self::OneWay(route) => preview_route(route, store, options, observer).await,
            Self::TwoWay(route) => preview_two_way(route, store, options, observer).await,
        }
    }
}
