//! Tries a route with an entry of its own: written on one side, looked for on the other, changed, moved, repeated and
//! deleted; then back. What arrived is judged by requests that no run has a part in.

mod entries;
mod facts;
mod judge;
mod plan;
mod prober;
mod writing;

use std::collections::BTreeSet;

use chestnut_core::{ObjectHref, last_changed};
use chestnut_store::Store;
use jiff::Timestamp;

use crate::calendar::Calendar;
use crate::case::span_of;
use crate::compare::{Comparer, Finding};
use crate::error::RunError;
use crate::observe::Silent;
use crate::options::RunOptions;
use crate::rule::Rule;
use crate::run::run_route;
use crate::session::{Session, begin};
use entries::{Taken, may_have_been, noted, over_test_entries, take_away};
use plan::plan;
use prober::Prober;

pub use facts::{
    CannotProbe, Leftover, Leg, LegOutcome, NewestCompared, ProbeFault, ProbeHow, ProbeReport, ProbeSkip,
    ProbeStep,
};
pub use writing::{WriteStep, WriteTrial, try_writing};

/// Entries of a calendar that can only be read that are compared.
const NEWEST: usize = 5;

/// Tries a route in every direction that it has.
///
/// # Errors
/// A calendar cannot be read, or the state cannot be used; what was written is cleaned up as far as that goes.
pub async fn probe_route(
    rule: &Rule,
    store: &Store,
    options: &RunOptions,
    how: &ProbeHow,
) -> Result<ProbeReport, RunError> {
    let known = store.route(&rule.name)?;
    let session = begin(rule, store, options, &Silent, known.clone()).await?;
    let mut report = ProbeReport::default();
    let is_read_only = |side: usize| {
        matches!(rule.ends[side].calendar, Calendar::Feed(_) | Calendar::FreeBusy(_))
            || session.facts(side).writable == Some(false)
    };
    for from in (0..rule.ends.len()).filter(|side| rule.ends[*side].gives) {
        if is_read_only(from) {
            let comparer = Comparer::of(rule, store, &session, known.as_ref(), options.now);
            report.compared = Some(newest(&session, &comparer, from)?);
            continue;
        }
        let probe = match plan(&session, rule, options, how, from)? {
            Ok(probe) => probe,
            Err(cannot) => {
                report.cannot = Some(cannot);
                break;
            }
        };
        let mut prober = Prober::of(rule, store, options, how, &session, from, probe);
        let gone_wrong = prober.way().await.err();
        // Whatever happened, nothing of it may stay.
        report.leftovers.extend(prober.clean_up().await?);
        report.legs.append(&mut prober.legs);
        if let Some(error) = gone_wrong {
            return Err(error);
        }
        if how.stop.get() {
            break;
        }
    }
    Ok(report)
}

/// Takes away every test entry of a route, and every copy of one, also where nothing is remembered of them.
///
/// # Errors
/// A calendar cannot be read, or the state cannot be used.
pub async fn sweep_route(
    rule: &Rule,
    store: &Store,
    options: &RunOptions,
) -> Result<(usize, Vec<Leftover>), RunError> {
    let known = store.route(&rule.name)?;
    let session = begin(rule, store, options, &Silent, known).await?;
    let mut found: Vec<BTreeSet<ObjectHref>> = vec![BTreeSet::new(); rule.ends.len()];
    let mut spans = Vec::new();
    for (side, end) in rule.ends.iter().enumerate() {
        let mirror = session.calendar(side);
        for (object, _) in store.marked(None, mirror.id, &rule.key.probe_mark())? {
            let Some(object) = store.object(object)? else { continue };
            found[side].insert(object.href.clone());
            spans.extend(session.gatherer.stands(object)?.entry().and_then(span_of).map(|(start, _)| start));
        }
        for row in noted(rule, store, end)? {
            spans.push(row.starts.as_second());
            found[side].insert(row.href);
        }
    }
    let spans: Vec<_> = spans.into_iter().flat_map(may_have_been).collect();
    let mut swept = 0;
    let mut leftovers = Vec::new();
    // What a run may still take away goes first; then whatever stands.
    for gives in [true, false] {
        for (side, end) in rule.ends.iter().enumerate().filter(|(_, end)| end.gives == gives) {
            for href in &found[side] {
                match take_away(end, href, &rule.key.probe_mark()).await? {
                    Taken::Gone { was_there } => {
                        swept += usize::from(was_there);
                        store.write(|writer| writer.forget_probe(&rule.name, &end.name, href))?;
                    }
                    Taken::Stands => {
                        leftovers.push(Leftover { calendar: end.name.clone(), href: href.to_string() });
                    }
                }
            }
        }
        run_route(rule, store, &over_test_entries(options, &spans), &Silent).await?;
    }
    Ok((swept, leftovers))
}

/// The newest entries of a calendar that can only be read, compared with what stands on the far side.
fn newest(
    session: &Session<'_>,
    comparer: &Comparer<'_, '_>,
    from: usize,
) -> Result<NewestCompared, RunError> {
    let mut entries: Vec<(Option<jiff::civil::DateTime>, Vec<Finding>)> = Vec::new();
    let mut newest = None;
    for found in comparer.all(session.gatherer.route)? {
        let Some(Ok(work)) = session.work(found)? else { continue };
        let Some(entry) = work.case.places[from].stands.entry() else { continue };
        let changed = last_changed(entry).0;
        newest = newest.max(changed);
        let findings = comparer.compare_case(found, &work).findings;
        if findings.iter().all(|finding| finding.cause.is_trouble()) {
            entries.push((changed, findings));
        }
    }
    entries.sort_by_key(|(changed, _)| std::cmp::Reverse(*changed));
    entries.truncate(NEWEST);
    let said = newest.and_then(|at| at.to_zoned(jiff::tz::TimeZone::UTC).ok()).map(|at| at.timestamp());
    let seen = session.facts(from).changed_at.and_then(|at| Timestamp::from_second(at).ok());
    let number = entries.len();
    let findings = entries.into_iter().flat_map(|(_, findings)| findings).collect();
    Ok(NewestCompared { entries: number, findings, changed_at: said.max(seen) })
}
