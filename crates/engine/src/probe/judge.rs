//! Whether a step has arrived; where it has not, why.

use std::collections::BTreeSet;

use chestnut_core::{
    Deletions, Entry, FieldDifference, Kind, ObjectHref, PROBE_LENGTH, Probe, copy_differences,
    replica_differences,
};
use chestnut_store::{LinkState, Store, Told};
use jiff::{SignedDuration, Timestamp};

use super::entries::read;
use super::facts::{LegOutcome, ProbeFault, ProbeStep};
use crate::case::span_of;
use crate::error::RunError;
use crate::rule::{Makes, Policy, Rule};
use crate::session::Session;

/// What stands in a far calendar of the test entry.
pub(super) struct FarLook {
    pub(super) entries: Vec<(ObjectHref, Entry, String)>,
    /// Found at its place, and not in the listing.
    pub(super) is_unlisted: bool,
}

/// A test entry on its way from one calendar.
pub(super) struct Trial<'p> {
    pub(super) rule: &'p Rule,
    pub(super) store: &'p Store,
    pub(super) session: &'p Session<'p>,
    pub(super) now: Timestamp,
    /// The side from which it goes.
    pub(super) from: usize,
    /// The test entry as it is now.
    pub(super) probe: Probe,
    /// Where it stands.
    pub(super) href: ObjectHref,
    /// Every title that it had.
    pub(super) titles: Vec<String>,
    /// Nothing is run: something else brings it, or does not.
    pub(super) waits: bool,
}

/// What the run over the test entry met with.
#[derive(Default)]
pub(super) struct Met {
    /// It failed as a whole.
    pub(super) error: Option<RunError>,
    /// What there is to tell, by the calendar that it is about.
    pub(super) told: Vec<(String, Told)>,
}

impl Met {
    /// What is told of a calendar, or of the run as a whole.
    fn of(&self, calendar: &str) -> Option<ProbeFault> {
        let told = self.told.iter().find(|(of, _)| of == calendar).map(|(_, told)| told.clone());
        let whole = || self.error.clone().map(|error| ProbeFault::Run(Box::new(error)));
        told.map(ProbeFault::Told).or_else(whole)
    }
}

impl Trial<'_> {
    /// Tells whether what stands there is what should after this step.
    pub(super) fn judge(
        &self,
        step: ProbeStep,
        side: usize,
        look: &FarLook,
    ) -> Result<LegOutcome, ProbeFault> {
        let decider = self.session.decider();
        let sent = self.probe.entry(self.now);
        if step == ProbeStep::Delete {
            return match (look.entries.is_empty(), self.rule.deletions) {
                (true, Deletions::Carry) => Ok(LegOutcome::Arrived),
                (false, Deletions::Keep) => Ok(LegOutcome::Stays),
                (true, Deletions::Keep) => Err(ProbeFault::NothingCame),
                (false, Deletions::Carry) => Err(ProbeFault::StillThere),
            };
        }
        if look.is_unlisted {
            return Err(ProbeFault::NotListed { calendar: self.rule.ends[side].name.clone() });
        }
        let shows_title = match &decider.policy {
            Policy::Copies(policy) => {
                policy.carry.show(&sent).is_ok_and(|shown| shown.entry().title().contains(&self.probe.title))
            }
            Policy::Alike(_) => true,
        };
        if !shows_title {
            let texts = look.entries.iter().map(|(_, _, text)| text.replace("\r\n ", "").replace("\n ", ""));
            let code = self.titles[0].rsplit(' ').next().unwrap_or_default().to_owned();
            if texts.into_iter().any(|text| text.lines().any(|l| !l.starts_with("UID") && l.contains(&code)))
            {
                return Err(ProbeFault::ShowsMore(code));
            }
        }
        if self.rule.makes != Makes::Entries {
            // Tasks have no start of their own.
            let length = if self.probe.kind == Kind::Task { PROBE_LENGTH } else { SignedDuration::ZERO };
            let starts = self.probe.starts().into_iter().map(|at| (at + length).as_second());
            let wanted: BTreeSet<i64> = starts.collect();
            let found: BTreeSet<i64> =
                look.entries.iter().filter_map(|(_, entry, _)| Some(span_of(entry)?.0)).collect();
            let is_there = match self.rule.makes {
                Makes::Blocks => wanted.is_subset(&found),
                _ => wanted == found,
            };
            return match (is_there, step) {
                (true, ProbeStep::Rename) if !shows_title => Ok(LegOutcome::Hidden),
                (true, ProbeStep::Rename) => {
                    let is_renamed =
                        look.entries.iter().all(|(_, e, _)| e.title().contains(&self.probe.title));
                    if is_renamed { Ok(LegOutcome::Arrived) } else { Err(ProbeFault::NothingCame) }
                }
                (true, _) => Ok(LegOutcome::Arrived),
                (false, _) if found.is_empty() => Err(ProbeFault::NothingCame),
                (false, _) => Err(ProbeFault::Differs(vec!["DTSTART".to_owned()])),
            };
        }
        let [(_, there, _)] = &look.entries[..] else { return Err(ProbeFault::NothingCame) };
        let habits = &self.session.gatherer.habits;
        let differences = match &decider.policy {
            Policy::Copies(policy) => copy_differences(policy, &sent, there, &habits[side])
                .map_err(|reason| ProbeFault::LeftOut(reason.key().to_owned()))?,
            Policy::Alike(policy) => {
                let sight = policy.sight(self.from).within(policy.sight(side));
                replica_differences(sight, (&sent, &habits[self.from]), (there, &habits[side]))
            }
        };
        match (differences.is_empty(), step) {
            (true, ProbeStep::Rename) if !shows_title => Ok(LegOutcome::Hidden),
            (true, _) => Ok(LegOutcome::Arrived),
            (false, _) => Err(differing(&sent, there, &differences)),
        }
    }

    /// The likely cause of a step that did not arrive.
    pub(super) async fn cause(
        &self,
        step: ProbeStep,
        side: usize,
        fault: ProbeFault,
        look: &FarLook,
        met: &Met,
    ) -> Result<ProbeFault, RunError> {
        if !fault.is_absence() {
            return Ok(fault);
        }
        let (end, far) = (&self.rule.ends[self.from], &self.rule.ends[side]);
        if let Some(met) = met.of(&far.name).or_else(|| met.of(&end.name)) {
            return Ok(met);
        }
        let stands = read(end, &self.href).await?.is_some();
        if step != ProbeStep::Delete && !stands {
            return Ok(ProbeFault::NotStored);
        }
        let listing = end.calendar.listing().await.map_err(|error| end.failed(error))?;
        let is_listed = listing.entries.iter().any(|one| one.href == self.href);
        if step != ProbeStep::Delete && !is_listed {
            return Ok(ProbeFault::NotListed { calendar: end.name.clone() });
        }
        if self.waits {
            return Ok(fault);
        }
        // What the run knows of it: nothing, where the calendar's mark of change did not move.
        let mirror = self.session.calendar(self.from).id;
        let known = self.store.object_at(mirror, &self.href)?;
        let sent = self.probe.entry(self.now).meaning().fingerprint();
        let knows = |object| {
            Ok::<_, RunError>(
                self.session.gatherer.stands(object)?.entry().map(|e| e.meaning().fingerprint()),
            )
        };
        let is_noticed = match (known, step) {
            (None, ProbeStep::Delete) => true,
            (None, _) | (Some(_), ProbeStep::Delete) => false,
            (Some(object), _) => knows(object)? == Some(sent),
        };
        if !is_noticed {
            return Ok(ProbeFault::Unnoticed { calendar: end.name.clone() });
        }
        let route = self.store.route(&self.rule.name)?.map(|route| route.id);
        for (_, link) in self.store.marked(route, mirror, &self.rule.key.probe_mark())? {
            let row = link.map(|link| self.store.link(link)).transpose()?.flatten();
            if let Some(row) = row.filter(|row| row.state == LinkState::LeftOut) {
                return Ok(ProbeFault::LeftOut(row.reason));
            }
        }
        // The route believes that it stands there.
        if step == ProbeStep::Create && look.entries.is_empty() {
            let mirror = self.session.calendar(side).id;
            if !self.store.marked(None, mirror, &self.rule.key.probe_mark())?.is_empty() {
                return Ok(ProbeFault::NotListed { calendar: far.name.clone() });
            }
        }
        Ok(fault)
    }
}

/// In which way what came differs from what was sent.
fn differing(sent: &Entry, there: &Entry, differences: &[FieldDifference]) -> ProbeFault {
    let is_time =
        |one: &FieldDifference| matches!(one.field.as_str(), "DTSTART" | "DTEND" | "DUE" | "DURATION");
    let shift = span_of(sent).zip(span_of(there)).map(|(sent, there)| there.0 - sent.0);
    match shift.filter(|shift| *shift != 0 && differences.iter().any(is_time)) {
        Some(shift) => ProbeFault::Shifted(shift),
        None => {
            let mut fields: Vec<_> = differences.iter().map(|one| one.field.clone()).collect();
            fields.dedup();
            ProbeFault::Differs(fields)
        }
    }
}
