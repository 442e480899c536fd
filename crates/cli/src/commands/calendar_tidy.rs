//! `chestnut calendar doubles` and `calendar clear-copies`: what earlier attempts left is listed, asked about, and deleted
//! as a run that can be taken back.

use std::collections::BTreeSet;

use chestnut_core::{ObjectHref, RouteKey, RouteTag};
use chestnut_engine::{
    CalendarEnd, FoundCopy, Goes, RunOptions, ToRestore, UndoPlan, find_copies, find_doubles, plan_restore,
    restore,
};
use chestnut_store::Store;

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{block_on, load, open_state};
use crate::progress::Bars;
use crate::questions::ask_first;
use crate::render::human::tidy::{copies, doubles, tidied};
use crate::report::tidy::{Doubles, Report};
use crate::report::undo::{Left, Put, Taken};
use crate::settings::{Connections, Settings, route_key};
use crate::words::{DELETE_COPIES, DELETE_DOUBLES, nothing_deleted, only_read, tidying_asks_first};

/// Entries that stand there several times.
pub(crate) fn find(
    name: &str,
    removes: bool,
    yes: bool,
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let (name, _) = settings.chosen_calendar(name)?;
    let tidier = Tidier::new(&settings, common, io)?;
    let (end, found, plan) = tidier.plan(name, async |end, tidier| {
        let found = find_doubles(end, &tidier.store, &tidier.options, &tidier.bars.route(name)).await?;
        let surplus = found.iter().flat_map(|one| one.surplus.iter().cloned()).collect();
        Ok((found, surplus))
    })?;
    let doubled = found.into_iter().map(|one| Doubles {
        number: one.kept + one.surplus.len(),
        kept: one.kept,
        title: one.title,
        start: one.start,
        routes: one.routes,
    });
    let mut report = report(name, &plan);
    report.doubles = doubled.collect();
    let clock = io.environment.clock(&settings.zone)?;
    let all = common.verbose > 0;
    if !removes || plan.undone.is_empty() {
        show(common, io, &report, || doubles(&report, &clock, all))?;
        return Ok(ExitCode::Ok);
    }
    let planned = |report: &Report| doubles(report, &clock, all);
    tidier.tidy(&end, &plan, report, &planned, DELETE_DOUBLES, yes, common, io)
}

/// The copies in a calendar, of one route or of all.
pub(crate) fn clear_copies(
    name: &str,
    of: Option<&str>,
    yes: bool,
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let (name, _) = settings.chosen_calendar(name)?;
    let tidier = Tidier::new(&settings, common, io)?;
    let key = route_key(&settings, &tidier.store, false)?;
    let tag = |route: &str| {
        let first = settings.routes.get(route).map_or(route, |found| found.first_name(route));
        RouteKey::new(&key, first).tag().clone()
    };
    let wanted: Vec<RouteTag> = match of {
        None => Vec::new(),
        Some(of) => {
            // A route that became several is all of them; one that was retired is known by its name.
            let parts = settings.chosen_routes(&[of.to_owned()]).unwrap_or_default();
            let names: Vec<&str> =
                if parts.is_empty() { vec![of] } else { parts.iter().map(|(name, _)| *name).collect() };
            names.into_iter().map(tag).collect()
        }
    };
    let (end, found, plan) = tidier.plan(name, async |end, tidier| {
        let mut found: Vec<FoundCopy> =
            find_copies(end, &tidier.store, &tidier.options, &tidier.bars.route(name)).await?;
        found.retain(|copy| wanted.is_empty() || wanted.contains(&copy.tag));
        let surplus = found.iter().map(|copy| copy.href.clone()).collect();
        Ok((found, surplus))
    })?;
    let mut report = report(name, &plan);
    let makes = |(route, of): &(&String, &crate::settings::RouteSettings)| {
        of.writes().contains(&name.to_owned()) && found.iter().any(|copy| copy.tag == tag(route))
    };
    report.made_again_by = settings.routes.iter().filter(makes).map(|(route, _)| route.clone()).collect();
    let clock = io.environment.clock(&settings.zone)?;
    let all = common.verbose > 0;
    if plan.undone.is_empty() {
        show(common, io, &report, || copies(&report, &clock, all))?;
        return Ok(if plan.left.is_empty() { ExitCode::Ok } else { ExitCode::Waiting });
    }
    let planned = |report: &Report| copies(report, &clock, all);
    tidier.tidy(&end, &plan, report, &planned, DELETE_COPIES, yes, common, io)
}

fn report(name: &str, plan: &UndoPlan) -> Report {
    Report {
        calendar: name.to_owned(),
        doubles: Vec::new(),
        deletes: plan.undone.iter().map(Put::of).collect(),
        left: plan.left.iter().map(|left| Left::of(left, 0)).collect(),
        made_again_by: Vec::new(),
        taken: None,
    }
}

/// What a look at a calendar, and a deletion in it, work with.
struct Tidier<'s> {
    settings: &'s Settings,
    store: Store,
    options: RunOptions,
    environment: crate::environment::Environment,
    bars: Bars,
}

impl<'s> Tidier<'s> {
    fn new(settings: &'s Settings, common: &Common, io: &Io<'_>) -> Result<Self, Failure> {
        let options = RunOptions {
            measure: !io.environment.clock_is_fixed(),
            names_all: true,
            ..RunOptions::at(io.environment.now()?)
        };
        Ok(Self {
            settings,
            store: open_state(common, settings, &io.environment)?,
            options,
            environment: io.environment.clone(),
            bars: Bars::new(io.progress && !common.quiet),
        })
    }

    /// Finds what may go, and says what deleting it would do.
    fn plan<F>(
        &self,
        name: &str,
        find: impl AsyncFnOnce(&CalendarEnd, &Self) -> Result<(F, BTreeSet<ObjectHref>), Failure>,
    ) -> Result<(CalendarEnd, F, UndoPlan), Failure> {
        let connections =
            Connections::new(self.settings, &self.environment).keeping(&self.store, self.options.now);
        block_on(self.bars.meanwhile(|| connections.waits_for(), async {
            let end = connections.calendar(name).await?;
            if self.settings.calendars[name].place.is_read_only() {
                return Err(only_read(name));
            }
            let (found, surplus) = find(&end, self).await?;
            let what = ToRestore { entries: Vec::new(), goes: Goes::These(surplus) };
            let plan = plan_restore(&end, &self.store, &self.options, &self.bars.route(name), &what).await?;
            Ok((end, found, plan))
        }))?
    }

    /// Asks, unless that was said already, and deletes what was listed.
    #[expect(clippy::too_many_arguments, reason = "what was found, how it is told, and whom to ask")]
    fn tidy(
        &self,
        end: &CalendarEnd,
        plan: &UndoPlan,
        mut report: Report,
        planned: &dyn Fn(&Report) -> String,
        question: &str,
        yes: bool,
        common: &Common,
        io: &mut Io<'_>,
    ) -> Result<ExitCode, Failure> {
        if !yes {
            let failures = [tidying_asks_first(&report.calendar, plan.undone.len()), nothing_deleted()];
            ask_first(&report, || planned(&report), question, failures, common, io)?;
        }
        let taken = self.delete(end, plan)?;
        let code = taken.code(&report.left);
        report.taken = Some(taken);
        let before = if yes { planned(&report) } else { String::new() };
        show(common, io, &report, || before + &tidied(&report))?;
        Ok(code)
    }

    /// Deletes what was listed, and nothing else.
    fn delete(&self, end: &CalendarEnd, plan: &UndoPlan) -> Result<Taken, Failure> {
        let surplus = plan.undone.iter().map(|undone| undone.href.clone()).collect();
        let what = ToRestore { entries: Vec::new(), goes: Goes::These(surplus) };
        let bar = self.bars.route(&end.name);
        let run = block_on(restore(end, &self.store, &self.options, &bar, &what, plan))??;
        Ok(Taken::of(&run, false))
    }
}
