//! Taking a route out: its copies, if that is asked for, and what is remembered of it. Its runs stay in the history.

use std::collections::BTreeSet;

use chestnut_core::{Because, Origin};
use chestnut_store::{Lease, LinkId, RunKind, RunResult, Store};

use crate::apply::Work;
use crate::case::Stands;
use crate::decide::{Fate, Step, Verdict};
use crate::error::RunError;
use crate::gather::Found;
use crate::observe::Silent;
use crate::options::RunOptions;
use crate::rule::Rule;
use crate::run::{Batch, Instead, lease, run_through};
use crate::session::{Session, begin};
use crate::story::RunReport;

/// A copy that a route made, and that may be taken away with it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RouteCopy {
    /// Which case it belongs to.
    pub link: LinkId,
    /// The calendar that it stands in.
    pub calendar: String,
    /// Its title; untrusted text.
    pub title: String,
    /// Its start as iCalendar writes it.
    pub start: String,
    /// Its server could write to people because of its deletion, as where somebody invited people to it: it stays.
    pub would_mail: bool,
}

const PAGE: usize = 500;

/// Lists the copies that a route made and that still stand: what was there before it is not among them.
///
/// # Errors
/// A calendar cannot be read, or the state cannot be used.
pub async fn copies_of(rule: &Rule, store: &Store, options: &RunOptions) -> Result<Vec<RouteCopy>, RunError> {
    let known = store.route(&rule.name)?;
    let session = begin(rule, store, options, &Silent, known.clone()).await?;
    let Some(route) = known else { return Ok(Vec::new()) };
    let mut copies = Vec::new();
    let mut after = None;
    loop {
        let page = store.links_of(route.id, after, PAGE)?;
        let _ahead = session.gatherer.ahead(page.iter().map(|link| Found::Link(*link)))?;
        for link in &page {
            let Some(work) = session.linked(*link)? else { continue };
            let taken = taken_away(&session, rule, &work);
            for side in copies_in(rule, &work) {
                copies.push(RouteCopy {
                    would_mail: matches!(taken.steps[side], Step::Hold(_)),
                    link: *link,
                    calendar: rule.ends[side].name.clone(),
                    title: work.case.title(),
                    start: work.case.start(),
                });
            }
        }
        after = page.last().copied();
        if page.len() < PAGE {
            break;
        }
    }
    copies.sort_by(|a, b| (&a.start, &a.title).cmp(&(&b.start, &b.title)));
    Ok(copies)
}

/// Where a case has a copy that the route wrote.
fn copies_in(rule: &Rule, work: &Work) -> Vec<usize> {
    let is_copy = |side: &usize| {
        let place = &work.case.places[*side];
        let end = &rule.ends[*side];
        let stands = matches!(place.stands, Stands::Present(..));
        let released = work.case.row.as_ref().is_some_and(|row| row.agreed.is_none());
        end.takes && !end.gives && place.origin == Origin::Copy && stands && !released
    };
    (0..rule.ends.len()).filter(is_copy).collect()
}

/// The verdict on a case whose copies go.
fn taken_away(session: &Session<'_>, rule: &Rule, work: &Work) -> Verdict {
    let mut steps = vec![Step::Leave; rule.ends.len()];
    for side in copies_in(rule, work) {
        steps[side] = Step::Delete(Because::Gone);
    }
    let verdict = Verdict { agreed: work.case.agreed.clone(), ..Verdict::of_steps(steps, Fate::Keep) };
    session.decider().silenced(&work.case, verdict)
}

/// Takes a route out: what is remembered of it goes, its runs stay. Of its copies go those that were listed and confirmed,
/// and nothing else, before anybody can run it again; where that fails the route stays. Returns how that went, where
/// there was something to delete.
///
/// # Errors
/// The state cannot be used, or a run of the route is going on.
pub async fn retire_route(
    name: &str,
    store: &Store,
    copies: Option<(&Rule, &RunOptions, &[RouteCopy])>,
) -> Result<Option<RunReport>, RunError> {
    let lease = lease(name, store).await?;
    let report = match copies {
        Some((rule, options, confirmed)) if !confirmed.is_empty() => {
            Some(remove_copies(&lease, rule, store, options, confirmed).await?)
        }
        _ => None,
    };
    if report.as_ref().is_none_or(|report| report.result != RunResult::Failed) {
        forget_route(name, store)?;
    }
    Ok(report)
}

async fn remove_copies(
    lease: &Lease<'_>,
    rule: &Rule,
    store: &Store,
    options: &RunOptions,
    confirmed: &[RouteCopy],
) -> Result<RunReport, RunError> {
    let links: BTreeSet<LinkId> = confirmed.iter().map(|copy| copy.link).collect();
    let links: Vec<LinkId> = links.into_iter().collect();
    let batch = |session: &Session<'_>, number: usize| -> Result<Batch, RunError> {
        let Some(batch) = links.chunks(PAGE).nth(number) else { return Ok(None) };
        let _ahead = session.gatherer.ahead(batch.iter().map(|link| Found::Link(*link)))?;
        let mut works = Vec::new();
        for link in batch {
            let Some(mut work) = session.linked(*link)? else { continue };
            work.verdict = taken_away(session, rule, &work);
            if !work.verdict.would_mail() {
                works.push(work);
            }
        }
        Ok(Some(works))
    };
    let instead = Instead { kind: RunKind::Sync, undid: Vec::new(), batch: &batch };
    run_through(lease, rule, store, options, &Silent, Some(&instead)).await
}

/// Forgets what is remembered of a route, for who holds its lease. What it wrote, and its runs, stay.
pub(crate) fn forget_route(name: &str, store: &Store) -> Result<(), RunError> {
    if let Some(route) = store.route(name)? {
        store.write(|writer| writer.forget_route(route.id))?;
    }
    Ok(())
}
