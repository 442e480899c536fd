//! What the demonstration says between its commands.

use std::path::Path;

pub(crate) const TWO_SERVERS: &str = "\
Two stand-in servers run: the packhouse's, with the bookings of an orchard
co-operative, and a hosted one. Does the sign-in work, and what is there?";
pub(crate) const WHAT_WOULD_HAPPEN: &str =
    "The town publishes its market days. What would a sync do? It writes nothing.";
pub(crate) const FIRST_SYNC: &str =
    "All routes: to the board, the crew's both ways, and busy copies for a kiosk.";
pub(crate) const DOES_IT_ARRIVE: &str =
    "Does a change get there? A test entry goes the way, and nothing of it stays.";
pub(crate) const HERE_AND_THERE: &str = "\
At the packhouse a booking is renamed, one is deleted, and somebody counts
crates; on a phone the title of the same entry changes.";
pub(crate) const TOO_MUCH: &str = "Then both give it another title, and three bookings vanish at once.";
pub(crate) const DECIDED: &str = "The phone is right about the title, and the bookings stay on the board.";
pub(crate) const ARE_THEY_ALIKE: &str = "Do both sides say the same? Both are read afresh, entry by entry.";
pub(crate) const TAKEN_BACK: &str = "The renamed and the deleted booking were a mistake: take that run back.";
pub(crate) const THE_WEEK: &str = "The week. An entry and its copies are one; small letters are copies.";

/// Lines of a command's output that are not shown.
pub(crate) fn more_lines(number: usize) -> String {
    format!("  … and {number} more lines")
}

/// The last words.
pub(crate) fn ending(folder: &Path, keep: bool) -> String {
    if !keep {
        return "\nThat was all. `chestnut demo DIR --keep` leaves the servers running, to explore.\n"
            .to_owned();
    }
    format!(
        "\nThe servers go on running. In another terminal:\n\n  cd {}\n{}\nPress Ctrl-C here to stop them.\n",
        folder.display(),
        TOUR.map(|(command, what)| format!("  {command:34}{what}\n")).concat()
    )
}

/// What to try next.
const TOUR: [(&str, &str); 8] = [
    ("chestnut status", "how every route is"),
    ("chestnut route resume bookings", "let the route go on that was taken back"),
    ("chestnut sync", "nothing to do, and what was taken back stays so"),
    ("chestnut agenda --month", "how much takes place on each day"),
    ("chestnut free --for 2h", "when nobody is booked"),
    ("chestnut why van", "where the van's entries are, and why"),
    ("chestnut history", "every run, and what it changed"),
    ("chestnut report calendars.html", "all of it on one page, for a browser"),
];
