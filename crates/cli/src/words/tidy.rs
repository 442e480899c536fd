//! Sentences about doubles, and about copies that are cleared away.

use crate::failure::Failure;
use crate::render::{clean, count, typed};

pub(crate) const DELETE_DOUBLES: &str = "Delete what is surplus now?";

pub(crate) fn no_doubles(calendar: &str) -> String {
    format!("{calendar}: no entry stands there twice (same title, time and recurrence)\n")
}

/// Which of several that are alike stay.
pub(crate) fn doubles_stay(kept: usize, number: usize, routes: &[String]) -> String {
    let names: Vec<_> = routes.iter().map(|route| clean(route)).collect();
    let names = names.join(", ");
    match (kept == number, routes) {
        (true, _) => format!("all: {names} made them; tidy what it reads"),
        (false, []) => "the oldest".to_owned(),
        (false, _) => format!("what {names} made"),
    }
}

pub(crate) fn remove_doubles(calendar: &str, number: usize) -> String {
    let number = count(number, "entry is", "entries are");
    format!(
        "  {number} surplus; delete: chestnut calendar doubles {typed} --remove\n",
        typed = typed(calendar)
    )
}

pub(crate) fn no_copies_there(calendar: &str) -> String {
    format!("{calendar}: no such copy stands there\n")
}

/// A route that is configured makes its copies again.
pub(crate) fn made_again(route: &str) -> String {
    format!(
        "  {route} writes this calendar: its next run creates its copies again\n  to end it: chestnut route retire {typed} --remove-copies\n",
        typed = typed(route)
    )
}

/// Nobody can be asked.
pub(crate) fn tidying_asks_first(calendar: &str, number: usize) -> Failure {
    let number = count(number, "entry", "entries");
    Failure::usage(format!("this deletes {number} in {}, and asks first", clean(calendar)))
        .hint("Say --yes to go on.")
}

/// A person said no.
pub(crate) fn nothing_deleted() -> Failure {
    Failure::usage("nothing was deleted")
}

/// A feed has no entries that could be deleted.
pub(crate) fn only_read(calendar: &str) -> Failure {
    Failure::usage(format!("{} can only be read: nothing in it can be deleted", clean(calendar)))
        .hint("Whoever publishes it can tidy it.")
}
