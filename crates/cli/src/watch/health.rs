//! How the process is, for whoever asks it.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use jiff::{SignedDuration, Timestamp};

use crate::words::{hangs_words, never_began_words, stale_words, state_words_for_health};

/// The loop turns at least once a minute; after so long without a turn something holds it up.
const HANGS_AFTER: Duration = Duration::from_secs(300);
/// Bounds of what a round takes, in seconds.
const BOUNDS: [f64; 8] = [0.1, 0.5, 1.0, 5.0, 15.0, 60.0, 300.0, 1800.0];

/// How one route is.
#[derive(Debug, Clone, Default)]
pub(super) struct RouteHealth {
    pub(super) well_at: Option<Timestamp>,
    /// The same by a clock that nobody sets: one that jumps makes nothing stale.
    pub(super) well: Option<Instant>,
    pub(super) is_stale: bool,
}

impl RouteHealth {
    /// Judges whether it is stale, by how long it may go without a run that went well.
    pub(super) fn is_older_than(&self, after: SignedDuration) -> bool {
        let age = self.well.map(|at| SignedDuration::try_from(at.elapsed()).unwrap_or(SignedDuration::MAX));
        age.is_some_and(|age| age > after)
    }
}

#[derive(Debug, Default)]
pub(super) struct Facts {
    pub(super) routes: BTreeMap<String, RouteHealth>,
    /// How many troubles of each kind last.
    pub(super) troubles: BTreeMap<&'static str, usize>,
    /// Runs by their result.
    pub(super) runs: BTreeMap<&'static str, u64>,
    pub(super) changes: BTreeMap<&'static str, u64>,
    pub(super) requests: u64,
    pub(super) rounds: u64,
    pub(super) seconds: f64,
    counts: [u64; BOUNDS.len()],
    /// Why the state could not be used.
    pub(super) state: Option<String>,
    pub(super) turned: Option<Instant>,
}

/// How the process is; shared with the thread that answers.
#[derive(Debug, Default)]
pub(super) struct Health(Mutex<Facts>);

impl Health {
    pub(super) fn change(&self, change: impl FnOnce(&mut Facts)) {
        change(&mut self.0.lock().unwrap_or_else(PoisonError::into_inner));
    }

    /// Notes how long a round took.
    pub(super) fn round(&self, took: Duration) {
        self.change(|facts| {
            facts.rounds += 1;
            facts.seconds += took.as_secs_f64();
            for (bound, count) in BOUNDS.iter().zip(&mut facts.counts) {
                *count += u64::from(took.as_secs_f64() <= *bound);
            }
        });
    }

    /// Why it is not well; `None` where it is.
    pub(super) fn problem(&self) -> Option<String> {
        let facts = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(turned) = facts.turned else { return Some(never_began_words()) };
        if turned.elapsed() > HANGS_AFTER {
            return Some(hangs_words(turned.elapsed()));
        }
        if let Some(state) = &facts.state {
            return Some(state_words_for_health(state));
        }
        let stale: Vec<_> =
            facts.routes.iter().filter(|(_, route)| route.is_stale).map(|(name, _)| name.as_str()).collect();
        (!stale.is_empty()).then(|| stale_words(&stale))
    }

    /// The figures, as Prometheus reads them (text format 0.0.4).
    pub(super) fn metrics(&self) -> String {
        let is_well = self.problem().is_none();
        let facts = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let mut out = String::new();
        let mut family = |name: &str, kind: &str, help: &str, lines: &[(String, String)]| {
            write!(out, "# HELP chestnut_{name} {help}\n# TYPE chestnut_{name} {kind}\n").expect("a string");
            for (labels, value) in lines {
                writeln!(out, "chestnut_{name}{labels} {value}").expect("a string");
            }
        };
        let plain = |value: String| vec![(String::new(), value)];
        family("healthy", "gauge", "Whether /healthz answers 200.", &plain(u8::from(is_well).to_string()));
        let of_route = |of: &dyn Fn(&RouteHealth) -> Option<String>| -> Vec<(String, String)> {
            let line = |(name, route): (&String, &RouteHealth)| {
                Some((format!("{{route=\"{}\"}}", escaped(name)), of(route)?))
            };
            facts.routes.iter().filter_map(line).collect()
        };
        let good = of_route(&|route| route.well_at.map(|at| at.as_second().to_string()));
        let help = "When a run of the route last went well, in seconds since 1970.";
        family("route_last_good_run_timestamp_seconds", "gauge", help, &good);
        let stale = of_route(&|route| Some(u8::from(route.is_stale).to_string()));
        family("route_stale", "gauge", "Whether no run of the route went well for too long.", &stale);
        let by = |label: &str, counts: &BTreeMap<&'static str, u64>| -> Vec<(String, String)> {
            counts.iter().map(|(word, n)| (format!("{{{label}=\"{word}\"}}"), n.to_string())).collect()
        };
        let open = facts.troubles.iter().map(|(word, n)| (*word, *n as u64)).collect();
        family("troubles", "gauge", "Troubles that last, by kind.", &by("kind", &open));
        family("runs_total", "counter", "Runs, by result.", &by("result", &facts.runs));
        family(
            "changes_total",
            "counter",
            "Entries written, by what was done.",
            &by("action", &facts.changes),
        );
        let help = "Requests sent to the servers of calendars, by looks and runs.";
        family("requests_total", "counter", help, &plain(facts.requests.to_string()));
        let name = "round_duration_seconds";
        write!(out, "# HELP chestnut_{name} How long rounds take.\n# TYPE chestnut_{name} histogram\n")
            .expect("a string");
        for (bound, count) in BOUNDS.iter().zip(facts.counts) {
            writeln!(out, "chestnut_{name}_bucket{{le=\"{bound}\"}} {count}").expect("a string");
        }
        writeln!(out, "chestnut_{name}_bucket{{le=\"+Inf\"}} {}", facts.rounds).expect("a string");
        write!(out, "chestnut_{name}_sum {}\nchestnut_{name}_count {}\n", facts.seconds, facts.rounds)
            .expect("a string");
        out
    }
}

/// A label's value.
fn escaped(text: &str) -> String {
    text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n")
}
