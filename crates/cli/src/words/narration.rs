//! What the demonstration says between its commands.

use std::path::Path;

pub(crate) const TWO_SERVERS: &str =
    "Two stand-in servers are running: the packhouse's, with the bookings of an orchard co-operative,";
pub(crate) const FIRST_LOOK: &str =
    "and a hosted one with an empty notice board. First: does the sign-in work, and what is there?";
pub(crate) const ITS_CONFIGURATION: &str =
    "The configuration names three of these calendars, and two routes into the notice board.";
pub(crate) const A_TOWN_FEED: &str =
    "The town publishes its market days as a feed. A look at it, and it is a calendar like the others.";
pub(crate) const WHAT_WOULD_HAPPEN: &str = "What would a sync do? A preview writes nothing.";
pub(crate) const DOES_IT_ARRIVE: &str =
    "Does a change really get there? A test entry goes the way, and nothing of it stays.";
pub(crate) const A_CHANGE: &str = "Now somebody at the packhouse changes a booking.";
pub(crate) const A_DELETION: &str = "A booking is deleted there. It must go on the notice board too.";
pub(crate) const NOTHING_NEW: &str = "Nothing happened since: both are asked, and nothing is written.";
pub(crate) const A_KIOSK: &str = "A kiosk in the yard shows when the presses are taken, and nothing else.";
pub(crate) const BOTH_WAYS: &str =
    "The market crew has its bookings on phones, and may change them there: both ways.";
pub(crate) const TWO_EDITS: &str =
    "Somebody renames a booking on the phone, and somebody else counts its crates at the packhouse.";
pub(crate) const ARE_THEY_ALIKE: &str = "Do both sides say the same, entry by entry? And where is the van?";

/// The last words.
pub(crate) fn ending(folder: &Path, keep: bool) -> String {
    if !keep {
        return "\nThat was all. `chestnut demo DIR --keep` leaves the servers running, to explore.\n"
            .to_owned();
    }
    format!(
        "\nThe servers go on running. In another terminal:\n\n  cd {}\n  chestnut status\n\nPress Ctrl-C here to stop them.\n",
        folder.display()
    )
}
