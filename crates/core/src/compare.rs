//! Whether what stands in one calendar is what it should look like there: told from two texts, whatever is remembered.

use crate::canonical::FieldDifference;
use crate::carry::{Sight, View};
use crate::entry::Entry;
use crate::habits::{Habits, undo_habits};
use crate::reconcile::{LeftOut, RoutePolicy, unshown_reason};

/// Says in which fields a copy is not what its source shows: first what should stand there, second what does. What a
/// server is known to make of texts is no difference. `habits` are those of the far server.
///
/// # Errors
/// Nothing of the source is shown, and why.
pub fn copy_differences(
    policy: &RoutePolicy,
    source: &Entry,
    far: &Entry,
    habits: &Habits,
) -> Result<Vec<FieldDifference>, LeftOut> {
    let shown = policy.carry.show(source).map_err(|unshown| unshown_reason(&unshown))?;
    let differences = differences(&shown, far, habits);
    if differences.is_empty() || policy.max_size.is_none() {
        return Ok(differences);
    }
    // The far server had no room for its attachments.
    let smaller = policy.carry.without_attachments(&shown);
    let fits = smaller.is_some_and(|smaller| self::differences(&smaller, far, habits).is_empty());
    Ok(if fits { Vec::new() } else { differences })
}

/// Says in which fields two replicas differ, as far as both are kept alike: what one says, and what the other one.
#[must_use]
pub fn replica_differences(
    sight: Sight,
    (one, one_habits): (&Entry, &Habits),
    (other, other_habits): (&Entry, &Habits),
) -> Vec<FieldDifference> {
    let differences = differences(&sight.of_far_side(one), other, other_habits);
    let is_rewritten = || self::differences(&sight.of_far_side(other), one, one_habits).is_empty();
    if differences.is_empty() || is_rewritten() { Vec::new() } else { differences }
}

fn differences(view: &View, far: &Entry, habits: &Habits) -> Vec<FieldDifference> {
    let seen = view.sight().of_far_side(far);
    // A property that is missing was perhaps taken out: only where the server is known to do that, it did.
    let habits = Habits { may_cut: false, ..habits.clone() };
    if seen.fingerprint() == view.fingerprint() || !undo_habits(view.entry(), seen.entry(), &habits).is_edited
    {
        return Vec::new();
    }
    view.entry().meaning().differences(&seen.entry().meaning())
}
