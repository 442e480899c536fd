//! Tries whether a calendar can be written: a test entry is created, changed and deleted, each on a condition.

use std::cell::Cell;
use std::collections::BTreeSet;

use chestnut_caldav::protocol::Condition;
use chestnut_core::{ETag, Entry, Kind, Kinds, ObjectHref, Probe, RouteKey};
use jiff::{SignedDuration, Timestamp};

use super::entries::{Taken, fault_of, read, read_new, take_away};
use super::facts::ProbeFault;
use crate::error::RunError;
use crate::rule::CalendarEnd;
use crate::sender::{Outgoing, Sent, send};

/// A step of such a trial.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WriteStep {
    /// It is created where nothing stands.
    Create,
    /// It is changed, on the condition that something stands there which does not: that must be refused.
    Condition,
    /// It is changed, on the condition that it stands there as it was.
    Change,
    /// It is deleted, on that condition.
    Delete,
}

/// What came of trying to write.
#[derive(Debug)]
pub struct WriteTrial {
    /// The steps that were tried, and what went wrong.
    pub steps: Vec<(WriteStep, Option<ProbeFault>)>,
    /// Whether conditions are kept; a server that does not is written to after a look each time.
    pub keeps_conditions: Option<bool>,
    /// Whether the test entry still stands there.
    pub is_left: bool,
}

/// Tries to write into a calendar. What an earlier trial left there is taken away first.
///
/// # Errors
/// The calendar cannot be asked.
pub async fn try_writing(
    end: &CalendarEnd,
    key: &RouteKey,
    title: &str,
    now: Timestamp,
) -> Result<WriteTrial, RunError> {
    let kinds = end.calendar.abilities().await.map_err(|error| end.failed(error))?.kinds;
    let uid = key.probe_uid(0);
    let href = end.calendar.new_href(&uid);
    take_away(end, &href, &key.probe_mark()).await?;
    let probe = Probe::new(uid, kind_of(&kinds), title, now + SignedDuration::from_hours(24));
    let mut trial = WriteTrial { steps: Vec::new(), keeps_conditions: None, is_left: false };
    let mut href = href;
    let gone_wrong = go_through(&mut trial, end, probe, &mut href, now).await.err();
    let taken = take_away(end, &href, &key.probe_mark()).await;
    trial.is_left = !matches!(taken, Ok(Taken::Gone { .. }));
    gone_wrong.map_or(Ok(trial), Err)
}

fn kind_of(kinds: &Kinds) -> Kind {
    if kinds.contains(Kind::Event) { Kind::Event } else { Kind::Task }
}

async fn go_through(
    trial: &mut WriteTrial,
    end: &CalendarEnd,
    mut probe: Probe,
    href: &mut ObjectHref,
    now: Timestamp,
) -> Result<(), RunError> {
    let mut known: Option<ETag> = None;
    for step in [WriteStep::Create, WriteStep::Condition, WriteStep::Change, WriteStep::Delete] {
        let is_there = || known.clone().map_or(Condition::Exists, Condition::Is);
        let condition = match step {
            WriteStep::Create => Condition::Absent,
            WriteStep::Condition => Condition::Is(ETag::from("\"chestnut-no-such-state\"")),
            WriteStep::Change | WriteStep::Delete => is_there(),
        };
        if step == WriteStep::Change {
            probe.sequence += 1;
            probe.start += SignedDuration::from_hours(1);
        }
        let text = probe.entry(now).caldav_text(now);
        let text = (step != WriteStep::Delete).then_some(text.as_str());
        let out = Outgoing { href, text, condition, silently: true };
        let sent = send(end, &out, &Cell::new(false)).await;
        let said = sent.place().cloned();
        let fault = match (step, &sent) {
            (WriteStep::Condition, Sent::Done(..) | Sent::LookAgain) => {
                trial.keeps_conditions = Some(matches!(sent, Sent::LookAgain));
                None
            }
            _ => fault_of(end, sent)?,
        };
        let stands = match step {
            WriteStep::Create if fault.is_none() => {
                read_new(end, href, &probe.uid, said, &BTreeSet::new()).await?
            }
            _ => read(end, href).await?,
        };
        let fault = fault.or_else(|| match (&stands, step) {
            (Some(_), WriteStep::Delete) => Some(ProbeFault::StillThere),
            (None, WriteStep::Delete) => None,
            (None, _) => Some(ProbeFault::NotStored),
            (Some((entry, _)), _) => differs(&probe.entry(now), entry),
        });
        known = stands.and_then(|(_, etag)| etag);
        let is_over = fault.is_some();
        trial.steps.push((step, fault));
        if is_over {
            break;
        }
    }
    Ok(())
}

/// In which fields what stands there is not what was sent.
fn differs(sent: &Entry, stands: &Entry) -> Option<ProbeFault> {
    let differences = sent.meaning().differences(&stands.meaning());
    let mut fields: Vec<_> = differences.into_iter().map(|difference| difference.field).collect();
    fields.dedup();
    (!fields.is_empty()).then_some(ProbeFault::Differs(fields))
}
