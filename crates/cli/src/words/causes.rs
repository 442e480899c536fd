//! Why an entry is not in step.

use crate::render::typed;
use chestnut_engine::{Cause, Finding, Standing};

use super::left_out::left_out_why;
use super::told::told_words;

/// Says why an entry stands as it does.
pub(crate) fn cause_words(finding: &Finding, has_run: bool) -> String {
    let words = match (&finding.cause, finding.standing) {
        (Cause::Due, Standing::Extra) => "its source is gone or no longer included; the next sync deletes it",
        (Cause::Due, _) if !has_run => "the route never ran; its first sync brings it",
        (Cause::Due, _) => "changed since the last run; the next sync brings it",
        (Cause::Held, _) => "it needs your decision: chestnut held",
        (Cause::Failed { told: Some(told) }, _) => return told_words(told),
        (Cause::Failed { told: None }, _) => "the last run could not do it",
        (Cause::Refused { told: Some(told) }, _) => return told_words(told),
        (Cause::Refused { told: None }, _) => "the far server refuses it, until it changes",
        (Cause::FarEdit, Standing::Missing) => "deleted on the far side",
        (Cause::FarEdit, Standing::Extra) => "doubled on the far side",
        (Cause::FarEdit, _) => "changed on the far side",
        (Cause::LeftOut { key }, _) => return left_out_why(key),
        (Cause::Lost, _) => "nothing explains it",
    };
    words.to_owned()
}

/// What to do about a cause; nothing where there is nothing to do.
pub(crate) fn cause_advice(cause: &str, standing: Standing, route: &str) -> Option<String> {
    Some(match cause {
        "far-edit" if standing == Standing::Extra => {
            "what was doubled is no longer a copy of the route's: delete it by hand".to_owned()
        }
        "due" => format!("bring what changed: chestnut sync {}", typed(route)),
        "held" => "see what waits for you: chestnut held".to_owned(),
        "failed" | "refused" => {
            format!("what the last run met with: chestnut status; try again: chestnut sync {}", typed(route))
        }
        "far-edit" | "lost" => {
            format!("put these entries right, and no others: chestnut compare {} --then-sync", typed(route))
        }
        _ => return None,
    })
}
