//! Routes that keep two or more calendars alike: survey → group → reconcile → guard → apply → record.
//!
//! Nothing of a run counts before it is recorded entry by entry, and how far the calendars were read is recorded
//! last: a run that is cut off leaves its own writes to be found as changes that are alike everywhere.

mod apply;
mod group;
mod record;

use chestnut_core::{
    Carry, Choice, DeletionLimit, Deletions, Disagree, Held, Kinds, ReplicaDecision, ReplicaPolicy,
    ReplicaRules, RouteKey, Window,
};
use chestnut_store::{Counts, RouteId, RouteSummary, RunId, SideId, SideState, Store};
use jiff::SignedDuration;
use jiff::tz::TimeZone;

use crate::error::RunError;
use crate::frame::Frame;
use crate::held::{DecidedDeletions, decided_deletions, guard};
use crate::observe::{Observer, Phase, Progress};
use crate::preview::{PreviewReport, PreviewedChange};
use crate::route::{CalendarEnd, RunOptions};
use crate::run_sync::RunReport;
use crate::survey::{Look, Survey, Surveyor, accepted_kinds, scheduling};
use apply::{Applier, Outcome};
use group::{Group, Grouper};

/// A two-way route, ready to run.
#[derive(Debug, Clone)]
pub struct TwoWay {
    /// Its name in the configuration.
    pub name: String,
    /// Its calendars, two or more.
    pub ends: Vec<CalendarEnd>,
    /// Which kinds it takes.
    pub kinds: Kinds,
    /// Which entries of these kinds it takes.
    pub choice: Choice,
    /// How far back and ahead it looks.
    pub window: Window,
    /// The zone whose days count, and in which floating times are read.
    pub zone: TimeZone,
    /// Which details are kept alike.
    pub carry: Carry,
    /// Whose word counts where several calendars changed the same thing.
    pub disagree: Disagree,
    /// Whether copies that other routes made are taken like originals.
    pub relay: bool,
    /// What deletions do.
    pub deletions: Deletions,
    /// How much a run may delete unasked.
    pub deletion_limit: DeletionLimit,
    /// Makes UIDs where a server refuses an entry's own.
    pub key: RouteKey,
    /// How often the whole listings are compared.
    pub check_every: SignedDuration,
    /// How long replaced and deleted texts are kept.
    pub keep_history: SignedDuration,
}

impl TwoWay {
    /// A route that says nothing but its calendars: all events, as they are, the newest word counts.
    #[must_use]
    pub fn plain(name: &str, ends: Vec<CalendarEnd>, key: RouteKey) -> Self {
        Self {
            name: name.to_owned(),
            ends,
            kinds: [chestnut_core::Kind::Event].into_iter().collect(),
            choice: Choice::default(),
            window: Window::default(),
            zone: TimeZone::UTC,
            carry: Carry::default(),
            disagree: Disagree::default(),
            relay: false,
            deletions: Deletions::Carry,
            deletion_limit: DeletionLimit::default(),
            key,
            check_every: SignedDuration::from_hours(24),
            keep_history: SignedDuration::from_hours(24 * 90),
        }
    }

    /// What changes the result of a run over unchanged calendars: another text here means reading afresh.
    fn settings(&self) -> String {
        let kinds: Vec<_> = self.kinds.iter().map(|k| k.word()).collect();
        let choice = self.choice.settings();
        let zone = self.zone.iana_name().unwrap_or_default();
        let (carry, window) = (&self.carry.shows, &self.window);
        format!(
            "two-way;{};{carry:?};{:?};{kinds:?};{choice};{window:?};{zone}",
            self.relay, self.carry.people
        )
    }

    fn endpoints(&self) -> String {
        let addresses: Vec<_> = self.ends.iter().map(|end| end.calendar.address()).collect();
        addresses.join(" ↔ ")
    }

    fn policy(&self, states: &[SideState], options: &RunOptions) -> ReplicaPolicy {
        let mut choice = self.choice.clone();
        for state in states {
            choice.add_addresses(state.addresses.as_deref().unwrap_or_default());
        }
        let rules = |state: &SideState| ReplicaRules {
            accepted: accepted_kinds(state),
            max_size: state.max_size,
            scheduling: scheduling(state),
        };
        ReplicaPolicy {
            kinds: self.kinds.clone(),
            choice,
            window: self.window.at(options.now, &self.zone),
            carry: self.carry.clone(),
            disagree: self.disagree,
            relay: self.relay,
            deletions: self.deletions,
            key: self.key.clone(),
            sides: states.iter().map(rules).collect(),
        }
    }
}

fn side_id(side: usize) -> SideId {
    SideId::Replica(u8::try_from(side).unwrap_or(u8::MAX))
}

/// Everything a run will do.
struct Plan {
    policy: ReplicaPolicy,
    surveys: Vec<Survey>,
    groups: Vec<Group>,
    /// Deletions that wait for a person.
    held: Option<Held>,
}

struct Job<'r> {
    route: &'r TwoWay,
    store: &'r Store,
    options: &'r RunOptions,
    observer: &'r dyn Observer,
    id: Option<RouteId>,
}

/// Runs a two-way route once. What fails as a whole is part of the report, and of the history where there is one.
///
/// # Errors
/// The state cannot be used, or another run of the route is going on.
pub async fn run_two_way(
    route: &TwoWay,
    store: &Store,
    options: &RunOptions,
    observer: &dyn Observer,
) -> Result<RunReport, RunError> {
    let frame = Frame::begin(&route.name, route.ends.iter().collect(), store, options)?;
    let job = Job { route, store, options, observer, id: Some(frame.id) };
    let mut outcome = Outcome::new(route.ends.len());
    let error = job.run(frame.id, frame.run, &mut outcome).await.err();
    let (id, troubles) = (frame.id, outcome.failed + outcome.damaged);
    let changes = std::mem::take(&mut outcome.changes);
    frame.close(error, troubles, changes, route.keep_history, || job.summary(id, &outcome))
}

/// Says what a run of a two-way route would do, and writes nothing.
///
/// # Errors
/// A calendar cannot be read, or the state cannot be used.
pub async fn preview_two_way(
    route: &TwoWay,
    store: &Store,
    options: &RunOptions,
    observer: &dyn Observer,
) -> Result<PreviewReport, RunError> {
    let id = store.route(&route.name)?;
    let job = Job { route, store, options, observer, id };
    let plan = job.plan().await?;
    let names: Vec<_> = route.ends.iter().map(|end| end.name.as_str()).collect();
    let mut changes = Vec::new();
    let mut left_out = Vec::new();
    for group in &plan.groups {
        group.preview(&names, &mut changes, &mut left_out);
    }
    if let Some(id) = id {
        for (side, known) in store.left_out(id)? {
            let at = match side {
                SideId::Replica(number) => usize::from(number),
                SideId::Source | SideId::Target | SideId::Underlying => 0,
            };
            let survey = &plan.surveys[at];
            if !survey.items.contains_key(&known.href) && !survey.gone.contains(&known.href) {
                left_out.push(PreviewedChange::left_out(names[at], known));
            }
        }
    }
    let first_run = match id {
        Some(id) => !store.side(id, side_id(0))?.read,
        None => true,
    };
    let report = PreviewReport {
        route: route.name.clone(),
        target: names.join(", "),
        changes,
        left_out,
        strangers: 0,
        held: plan.held.map_or(0, |held| held.deletions),
        first_run,
        warns_of_invitations: first_run && route.carry.people == chestnut_core::People::Invite,
    };
    Ok(report.in_order())
}

impl Job<'_> {
    fn surveyor(&self, side: usize) -> Surveyor<'_> {
        Surveyor { store: self.store, route: self.id, side: side_id(side), end: &self.route.ends[side] }
    }

    async fn plan(&self) -> Result<Plan, RunError> {
        let mut afresh = self.options.afresh;
        if let Some(id) = self.id {
            let (settings, endpoints) = self.store.route_settings(id)?;
            if !endpoints.is_empty() && endpoints != self.route.endpoints() {
                return Err(RunError::OtherCalendars { route: self.route.name.clone(), before: endpoints });
            }
            afresh |= !settings.is_empty() && settings != self.route.settings();
        }
        self.observer.progress(Progress { phase: Phase::Surveying, done: 0, total: 0 });
        let range = self.route.window.at(self.options.now, &self.route.zone).range;
        let look = Look {
            now: self.options.now,
            afresh,
            check_every: self.route.check_every,
            window: (range.start, range.end),
        };
        let surveyors: Vec<_> = (0..self.route.ends.len()).map(|side| self.surveyor(side)).collect();
        let surveys = surveyors.iter().map(|surveyor| surveyor.survey(look, &[]));
        let surveys: Vec<Survey> =
            futures_util::future::join_all(surveys).await.into_iter().collect::<Result<_, _>>()?;
        let fetched = surveys.iter().map(|survey| survey.items.len()).sum();
        self.observer.progress(Progress { phase: Phase::Fetching, done: fetched, total: fetched });
        let states: Vec<_> = surveys.iter().map(|survey| survey.state.clone()).collect();
        let mut policy = self.route.policy(&states, self.options);
        let decided = decided_deletions(self.store, self.id)?;
        policy.deletions = decided.map_or(policy.deletions, |decided| decided.deletions);
        let grouper = Grouper {
            store: self.store,
            id: self.id,
            policy: &policy,
            surveyors: &surveyors,
            ends: &self.route.ends,
            disagree_names: self.route.ends.iter().map(|end| end.name.clone()).collect(),
        };
        let mut surveys = surveys;
        let mut groups = grouper.groups(&mut surveys).await?;
        for group in &mut groups {
            group.decide(&policy, self.options.now);
        }
        let held = self.guard(&groups, decided)?;
        Ok(Plan { policy, surveys, groups, held })
    }

    /// A deletion counts once, in however many calendars it is to be done.
    fn guard(&self, groups: &[Group], decided: Option<DecidedDeletions>) -> Result<Option<Held>, RunError> {
        let Some(id) = self.id else { return Ok(None) };
        if self.options.allow_deletions {
            return Ok(None);
        }
        let deletions = groups.iter().filter(|g| matches!(g.decision, ReplicaDecision::Delete(_))).count();
        Ok(guard(self.route.deletion_limit, (deletions, 0), self.store.link_count(id)?, decided))
    }

    async fn run(&self, id: RouteId, run: RunId, outcome: &mut Outcome) -> Result<(), RunError> {
        let Plan { policy, mut surveys, groups, held } = self.plan().await?;
        let surveyors: Vec<_> = (0..self.route.ends.len()).map(|side| self.surveyor(side)).collect();
        let mut applier = Applier {
            route: self.route,
            store: self.store,
            id,
            run,
            options: self.options,
            policy: &policy,
            surveyors: &surveyors,
            observer: self.observer,
            held_deletions: held.is_some(),
            states: surveys.iter_mut().map(|survey| std::mem::take(&mut survey.state)).collect(),
            outcome: Outcome::new(self.route.ends.len()),
            recorded: 0,
        };
        let applied = applier.apply(groups).await;
        let mut states = applier.states;
        *outcome = applier.outcome;
        applied?;
        let mut foreign = Vec::new();
        for (side, surveyor) in surveyors.iter().enumerate() {
            if !outcome.ours[side].is_empty() {
                let seen = surveyor.look_after_writes(&mut states[side], &outcome.ours[side]).await?;
                foreign.extend(seen.into_iter().map(|href| (side, href)));
            }
        }
        self.store.write(|writer| {
            writer.set_route_settings(id, &self.route.settings(), &self.route.endpoints())?;
            for (side, survey) in surveys.iter().enumerate() {
                record::record_unclaimed(self.store, writer, id, side, survey, outcome)?;
            }
            for (side, href) in outcome.again.iter().chain(&foreign) {
                writer.read_again(id, side_id(*side), href)?;
            }
            for (side, state) in states.iter().enumerate() {
                writer.set_side(id, side_id(side), state)?;
            }
            Ok(())
        })?;
        match outcome.left {
            0 => Ok(()),
            left => Err(RunError::Stopped { left }),
        }
    }

    fn summary(&self, id: RouteId, outcome: &Outcome) -> Result<RouteSummary, RunError> {
        let troubles = self.store.link_troubles(id)?.len();
        let waiting = outcome.held_deletions + outcome.held_disagreements;
        let names = self.route.ends.iter().map(|end| end.name.clone());
        let counts: Vec<Counts> = outcome.counts.clone();
        Ok(RouteSummary {
            calendars: names.zip(counts).collect(),
            linked: outcome.linked,
            in_step: self.store.link_count(id)?.saturating_sub(troubles + waiting + outcome.left),
            left_out: self.store.left_out_counts(id)?,
            held: waiting,
            held_disagreements: outcome.held_disagreements,
            disagreements: outcome.disagreements,
            damaged: outcome.damaged,
            failed: outcome.failed,
            ..RouteSummary::default()
        })
    }
}
