//! The story of single entries: which rule of a route lets them through or stops them, and where their copies are.

use chestnut_core::{Because, Entry, LeftOut, refusal};
use chestnut_store::{Store, Told};

use crate::case::{Kept, start_text};
use crate::decide::Fate;
use crate::error::RunError;
use crate::observe::Silent;
use crate::options::RunOptions;
use crate::rule::{Makes, Rule};
use crate::run::begin;

/// What is known of one entry of a calendar that a route takes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Explained {
    /// Its UID there.
    pub uid: String,
    /// Its title; untrusted text.
    pub title: String,
    /// Its start as iCalendar writes it.
    pub start: String,
    /// Why the route does not take it; `None` where it does.
    pub stopped: Option<LeftOut>,
    /// Where its copy stands, and under which UID, if the route has made or found one.
    pub copy: Option<(String, String)>,
    /// What an earlier run met with it: refused, damaged, left out.
    pub trouble: Option<Told>,
}

/// Looks at the calendars, and explains the entries that `wanted` picks.
///
/// # Errors
/// One of the calendars cannot be read, or the state cannot be used.
pub async fn explain(
    rule: &Rule,
    store: &Store,
    options: &RunOptions,
    wanted: &dyn Fn(&Entry) -> bool,
) -> Result<Vec<Explained>, RunError> {
    let known = store.route(&rule.name)?;
    // Made entries are explained by the entries that they are made of.
    let plain = Rule { makes: Makes::Entries, ..rule.clone() };
    let is_made = rule.makes != Makes::Entries;
    let known = if is_made { None } else { known };
    let session = begin(&plain, store, options, &Silent, known.clone()).await?;
    let at_source = plain.policy_of_source(&session.decider.borrow().facts, options.now);
    let stopped_at_source =
        |entry: &Entry| at_source.as_ref().and_then(|policy| refusal(policy, entry, false));
    let mut explained = Vec::new();
    for (side, end) in rule.ends.iter().enumerate().filter(|(_, end)| end.gives) {
        for object in store.all_objects(session.gatherer.mirrors[side])? {
            let text = object.body.map(|body| store.text(body)).transpose()?.flatten();
            let Some(kept) = text.and_then(|text| Kept::of(object.body, text)) else { continue };
            if !wanted(&kept.entry) {
                continue;
            }
            let entry = &kept.entry;
            let link = match &known {
                Some(route) => store.link_of(route.id, object.id)?,
                None => None,
            };
            let work = match link {
                Some(link) => session.linked(link)?,
                None => session.free(side, object.id)?,
            };
            let mut one = Explained {
                uid: entry.uid().to_string(),
                title: entry.title(),
                start: start_text(entry),
                stopped: None,
                copy: None,
                trouble: None,
            };
            if let Some(work) = work {
                one.stopped = match (&work.verdict.fate, work.verdict.deletes()) {
                    (Fate::LeaveOut(reason), _) => Some(*reason),
                    (_, Some(Because::NotTaken(reason))) => Some(reason),
                    // What stays without being taken, as `deletions = "keep"` says.
                    (Fate::Release, _) => stopped_at_source(entry),
                    _ => None,
                };
                let row = work.case.row.as_ref();
                let was_agreed = row.is_some_and(|row| row.agreed.is_some());
                let far = (0..rule.ends.len()).find(|other| *other != side);
                let far = far.filter(|_| was_agreed);
                one.copy = far.and_then(|far| {
                    let uid = work.case.uid(far)?.to_string();
                    Some((work.case.href(far)?.to_string(), uid))
                });
                one.trouble = row.and_then(|row| row.told.clone());
            }
            if is_made {
                one.stopped = stopped_at_source(entry);
            }
            debug_assert!(end.gives);
            explained.push(one);
        }
        if rule.ends.iter().all(|end| end.takes) {
            break;
        }
    }
    explained.sort_by(|a, b| (&a.start, &a.title, &a.uid).cmp(&(&b.start, &b.title, &b.uid)));
    Ok(explained)
}
