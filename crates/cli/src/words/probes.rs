//! How a test entry fares, and what helps.

use chestnut_engine::{CannotProbe, ProbeFault, ProbeSkip, ProbeStep};

use super::errors::InWords as _;
use super::left_out::left_out_why;
use super::told::told_words;
use crate::failure::Failure;
use crate::render::typed;

/// The title of test entries, where nothing else is said.
pub(crate) const PROBE_TITLE: &str = "Chestnut test entry";

/// The stable word for a step.
pub(crate) fn step_word(step: ProbeStep) -> &'static str {
    match step {
        ProbeStep::Create => "create",
        ProbeStep::Rename => "rename",
        ProbeStep::Move => "move",
        ProbeStep::Repeat => "repeat",
        ProbeStep::MoveOne => "move-one",
        ProbeStep::Delete => "delete",
    }
}

/// Says why a route cannot show a step.
pub(crate) fn skip_words(skip: ProbeSkip) -> String {
    match skip {
        ProbeSkip::NoTitles => "joined blocks have no titles",
        ProbeSkip::TasksAlone => "the route takes tasks alone, which are tried as single ones",
        ProbeSkip::WholeDays => "the route takes whole days alone",
        ProbeSkip::Window => "that day lies outside the window",
    }
    .to_owned()
}

/// Says why a route cannot be tried.
pub(crate) fn cannot_probe_words(cannot: &CannotProbe) -> String {
    match cannot {
        CannotProbe::Key(key) => {
            let words = left_out_why(key);
            format!("cannot be probed: {key} ({words}); name a title that the route takes with --title")
        }
        CannotProbe::Kinds => "cannot be probed: it takes neither events nor tasks".to_owned(),
        CannotProbe::Window => {
            "cannot be probed: no free quarter of an hour of the next year is inside its window".to_owned()
        }
    }
}

/// Says why a step did not arrive.
pub(crate) fn fault_words(fault: &ProbeFault, from: &str, to: &str) -> String {
    match fault {
        ProbeFault::NotTaken(told) => format!("{from} did not take it: {}", told_words(told)),
        ProbeFault::NotStored => format!("{from} said that it was stored, and keeps nothing"),
        ProbeFault::NotListed { calendar } => {
            format!("it stands in {calendar}, whose listing does not name it: the listing is out of date")
        }
        ProbeFault::Unnoticed { calendar } => {
            format!(
                "{calendar} lists it, but says that nothing has changed: its change mark (sync token or ctag) did not move"
            )
        }
        ProbeFault::LeftOut(key) => format!("the route leaves it out: {}", left_out_why(key)),
        ProbeFault::Told(told) => format!("writing to {to}: {}", told_words(told)),
        ProbeFault::Run(error) => error.in_words(),
        ProbeFault::NothingCame => format!("nothing came to {to}"),
        ProbeFault::Differs(fields) => {
            format!("what stands in {to} says something else: {}", fields.join(", "))
        }
        ProbeFault::Shifted(seconds) => {
            let (way, minutes) =
                if *seconds > 0 { ("later", seconds / 60) } else { ("earlier", -seconds / 60) };
            format!("it stands in {to} {} {way}", time_words(minutes))
        }
        ProbeFault::ShowsMore(_) => format!("{to} shows the title, which the route does not carry"),
        ProbeFault::StillThere => format!("it still stands in {to}"),
        ProbeFault::Stopped => "stopped; what stood was taken away".to_owned(),
    }
}

fn time_words(minutes: i64) -> String {
    match (minutes / 60, minutes % 60) {
        (0, minutes) => format!("{minutes} minutes"),
        (1, 0) => "an hour".to_owned(),
        (hours, 0) => format!("{hours} hours"),
        (hours, minutes) => format!("{hours}:{minutes:02} hours"),
    }
}

/// Says what helps.
pub(crate) fn fault_advice(fault: &ProbeFault, from: &str, to: &str, route: &str) -> Option<String> {
    Some(match fault {
        ProbeFault::NotTaken(_) => format!("see the rights of {from}: chestnut calendar list"),
        ProbeFault::NotStored | ProbeFault::NotListed { .. } => {
            "the fault is the server's: tell whoever runs it, and show them this".to_owned()
        }
        ProbeFault::Unnoticed { .. } => {
            format!(
                "a sync that reads everything finds it: chestnut sync {} --afresh; once a day the whole listing is compared anyway",
                typed(route)
            )
        }
        ProbeFault::LeftOut(_) => {
            format!("see what the route takes: chestnut route show {}", typed(route))
        }
        ProbeFault::Told(_) => format!("see the rights and the room of {to}: chestnut calendar list"),
        ProbeFault::Run(_) => "check its accounts step by step: `chestnut account test`".to_owned(),
        ProbeFault::NothingCame | ProbeFault::StillThere => {
            format!(
                "does anything sync this route? chestnut status; or try it at once: chestnut probe {}",
                typed(route)
            )
        }
        ProbeFault::Differs(_) | ProbeFault::Shifted(_) => {
            format!("compare what stands there now: chestnut compare {}", typed(route))
        }
        ProbeFault::ShowsMore(_) => {
            format!("pause the route, and see what it wrote: chestnut route pause {}", typed(route))
        }
        ProbeFault::Stopped => return None,
    })
}

/// A route that is paused would not carry a test entry.
pub(crate) fn probe_while_paused(name: &str) -> Failure {
    Failure::failed(format!("route {name} is paused; no test entry was written"))
        .hint(format!("Let it go on with `chestnut route resume {}`.", typed(name)))
}
