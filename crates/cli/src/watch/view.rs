//! The live table: drawn on a terminal when something happens, and once a minute.

use std::collections::BTreeMap;
use std::io::Write as _;

use dialoguer::console::Term;

use super::rounds::RouteDone;
use crate::render::human::watch::{Live, table};
use crate::words::{RESTS, outcome_words};

/// Draws, where there is a terminal.
pub(super) struct View {
    term: Option<Term>,
    color: bool,
    /// What the last round of each route came to.
    outcomes: BTreeMap<String, String>,
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
            self.outcomes.insert(route.to_owned(), words);
        }
    }

    pub(super) fn draw(&mut self, live: impl FnOnce() -> Live) {
        let Some(term) = &self.term else { return };
        let (height, width) = term.size();
        let text = table(&live(), &self.outcomes, usize::from(width), usize::from(height));
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
