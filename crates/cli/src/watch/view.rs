//! The live table: drawn on a terminal when something happens, and once a minute.

use std::collections::BTreeMap;
use std::io::Write as _;
use std::time::Duration;

use dialoguer::console::Term;
use jiff::Timestamp;
use jiff::tz::TimeZone;

use super::rounds::RouteDone;
use crate::render::human::watch::{Live, table};
use crate::report::trouble::OpenTrouble;
use crate::words::{RESTS, outcome_words};

/// What is shown.
pub(super) struct Frame {
    pub(super) troubles: Vec<OpenTrouble>,
    /// Routes that run, and from where to where.
    pub(super) running: Vec<(String, String)>,
    /// Routes that wait, and how long.
    pub(super) due: Vec<(String, String, Duration)>,
    pub(super) now: Timestamp,
    pub(super) zone: TimeZone,
}

/// Draws, where there is a terminal.
pub(super) struct View {
    term: Option<Term>,
    color: bool,
    /// What the last round of each route came to.
    outcomes: BTreeMap<String, (String, Timestamp)>,
    drawn: String,
}

impl View {
    pub(super) fn new(is_live: bool, screen: Option<(usize, usize)>, color: bool) -> Self {
        let term = screen.filter(|_| is_live).map(|_| Term::stdout());
        if let Some(term) = &term {
            drop(term.hide_cursor());
        }
        Self { term, color, outcomes: BTreeMap::new(), drawn: String::new() }
    }

    /// Whether a person looks on.
    pub(super) fn is_live(&self) -> bool {
        self.term.is_some()
    }

    /// Notes what a round came to.
    pub(super) fn note(&mut self, route: &str, done: &RouteDone) {
        if self.term.is_some() {
            let words = match done.went.rested {
                true => RESTS.to_owned(),
                false => outcome_words(done.report.as_ref(), done.failure.as_ref()),
            };
            #[expect(clippy::disallowed_methods, reason = "what is shown to a person happens now")]
            let now = Timestamp::now();
            self.outcomes.insert(route.to_owned(), (words, now));
        }
    }

    /// Something is to be seen that was not before.
    pub(super) fn changed(&mut self) {
        self.drawn.clear();
    }

    pub(super) fn draw(&mut self, frame: impl FnOnce() -> Frame) {
        let Some(term) = &self.term else { return };
        let (height, width) = term.size();
        let frame = frame();
        let live = Live {
            troubles: &frame.troubles,
            running: &frame.running,
            due: &frame.due,
            outcomes: &self.outcomes,
            now: frame.now,
            zone: &frame.zone,
        };
        let text = table(&live, usize::from(width), usize::from(height));
        if text == self.drawn {
            return;
        }
        let shown = if self.color { text.clone() } else { anstream::adapter::strip_str(&text).to_string() };
        // A terminal that is gone shows nothing, and keeps nothing from its work.
        let mut out = term;
        let drawn = term.clear_screen().and_then(|()| out.write_all(shown.as_bytes()));
        drop(drawn);
        self.drawn = text;
    }

    /// Leaves the terminal as it was found.
    pub(super) fn close(&self) {
        if let Some(term) = &self.term {
            drop(term.show_cursor());
        }
    }
}
