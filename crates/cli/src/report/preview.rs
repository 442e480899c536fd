//! What `preview` reports: what the next sync would do.

use chestnut_engine::{PreviewReport, PreviewedChange, Why};
use serde::Serialize;

use super::fields::{FieldChange, field_changes};
use super::held::{Field, disagreement};
use crate::failure::Failure;
use crate::settings::RouteSettings;
use crate::words::{preview_warning, why_words};

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) previews: Vec<RoutePreview>,
}

#[derive(Debug, Default, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct RoutePreview {
    pub(crate) route: String,
    pub(crate) calendars: Vec<String>,
    pub(crate) two_way: bool,
    pub(crate) first_run: bool,
    pub(crate) create: usize,
    pub(crate) update: usize,
    pub(crate) delete: usize,
    pub(crate) link: usize,
    /// Of what stands there before the first run and is the same as a source: what follows it and stays its owner's, ...
    pub(crate) matched: usize,
    /// ... and what is the route's from now on.
    pub(crate) owned: usize,
    /// What stands on the far side alone, and is left alone.
    pub(crate) strangers: usize,
    pub(crate) held: usize,
    /// Changes that wait for a person, since a server could write to people because of them.
    pub(crate) would_mail: usize,
    pub(crate) changes: Vec<Line>,
    pub(crate) left_out: Vec<Line>,
    /// Why it cannot run.
    pub(crate) error: Option<String>,
    #[serde(skip)]
    pub(crate) failure: Option<Failure>,
    #[serde(skip)]
    pub(crate) way: String,
    /// What a person should know before the first run.
    #[serde(skip)]
    pub(crate) warning: Option<String>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Line {
    pub(crate) action: &'static str,
    /// Where it is done; nothing for what concerns all calendars.
    pub(crate) calendar: Option<String>,
    pub(crate) title: String,
    pub(crate) start: String,
    pub(crate) why: String,
    /// The number of the question whose answer does it.
    pub(crate) decision: Option<i64>,
    /// What will be changed there, field by field.
    pub(crate) fields: Vec<FieldChange>,
    /// Of a disagreement: what the calendars say differently.
    pub(crate) disagreement: Vec<Field>,
}

impl Line {
    fn of(change: PreviewedChange) -> Self {
        let disagreement = match change.sides.is_empty() {
            true => Vec::new(),
            false => disagreement(change.before.as_deref(), &change.sides),
        };
        Self {
            fields: field_changes(change.before.as_deref(), change.after.as_deref()),
            disagreement,
            decision: change.decision,
            why: why_words(&change.why),
            action: change.action,
            calendar: change.calendar,
            title: change.title,
            start: change.start,
        }
    }
}

impl RoutePreview {
    /// A route that cannot run.
    pub(crate) fn failed(name: &str, route: &RouteSettings, failure: Failure) -> Self {
        Self {
            route: name.to_owned(),
            calendars: route.ends.clone(),
            two_way: route.is_two_way,
            way: route.way(),
            error: Some(failure.message.clone()),
            failure: Some(failure),
            ..Self::default()
        }
    }

    pub(crate) fn of(route: &RouteSettings, preview: PreviewReport) -> Self {
        let warning = preview_warning(&preview, &route.to(), route.carry.people);
        let number = |action: &str| preview.changes.iter().filter(|c| c.action == action).count();
        Self {
            route: preview.route.clone(),
            calendars: route.ends.clone(),
            two_way: route.is_two_way,
            way: route.way(),
            first_run: preview.first_run,
            create: number("create"),
            update: number("update"),
            delete: number("delete"),
            link: number("link"),
            matched: preview.matched,
            owned: preview.owned,
            strangers: preview.strangers,
            held: preview.held,
            would_mail: preview.changes.iter().filter(|c| matches!(c.why, Why::WouldMail { .. })).count(),
            changes: preview.changes.into_iter().map(Line::of).collect(),
            left_out: preview.left_out.into_iter().map(Line::of).collect(),
            warning,
            error: None,
            failure: None,
        }
    }
}
