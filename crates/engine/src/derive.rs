//! A source that is made out of another calendar: single entries for the occurrences of series, or blocks of busy
//! time.
//!
//! The calendar behind it has its own memory ([`SideId::Underlying`]). Where nothing changed there, and no day has
//! passed, nothing is read; otherwise all of it is, since a block may come of any of its entries. What is made is
//! compared with what was made before, so that only what differs goes on to the far side.

use std::collections::{BTreeMap, BTreeSet};

use chestnut_core::{
    Bounds, BusyTime, Carry, ETag, Entry, LeftOut, ObjectHref, PastCopies, RoutePolicy, Unshown, ical,
    refusal, single_entries,
};
use chestnut_store::{SideId, SideState, Store};

use crate::error::RunError;
use crate::route::{Makes, Route};
use crate::survey::{Item, Survey, Surveyor};

/// The calendar behind a source, and which of its entries have no part in it.
#[derive(Debug)]
pub(crate) struct Underlying {
    pub(crate) survey: Survey,
    /// Empty where nothing was read.
    pub(crate) left_out: BTreeMap<ObjectHref, LeftOut>,
    /// Whether it was read.
    pub(crate) is_read: bool,
}

/// Makes the source of one run.
pub(crate) struct Maker<'r> {
    pub(crate) route: &'r Route,
    pub(crate) store: &'r Store,
    pub(crate) policy: &'r RoutePolicy,
    /// Looks at the calendar behind the source.
    pub(crate) surveyor: &'r Surveyor<'r>,
    pub(crate) afresh: bool,
}

impl Maker<'_> {
    pub(crate) async fn make(&self, mut raw: Survey) -> Result<(Survey, Underlying), RunError> {
        let range = (self.policy.window.range.start, self.policy.window.range.end);
        let mut state = match self.surveyor.route {
            Some(route) => self.store.side(route, SideId::Source)?,
            None => SideState::default(),
        };
        let is_first = !state.read;
        let is_same = raw.items.is_empty() && raw.gone.is_empty() && state.made_for == Some(range);
        state.addresses = raw.state.addresses.clone();
        state.read = true;
        if is_same && !self.afresh && !is_first {
            let underlying = Underlying { survey: raw, left_out: BTreeMap::new(), is_read: false };
            return Ok((Survey { state, ..Survey::default() }, underlying));
        }
        self.read_the_rest(&mut raw).await?;
        // What was carried once follows its source, also when the window has gone on.
        let from = match self.policy.past_copies {
            PastCopies::Keep => state.made_from.unwrap_or(range.0).min(range.0),
            PastCopies::Remove => range.0,
        };
        (state.made_for, state.made_from) = (Some(range), Some(from));
        let bounds = Bounds { range: from..range.1, zone: self.policy.window.zone.clone() };
        let (made, left_out) = self.entries(&raw, &bounds);
        let survey = self.compare(state, made)?;
        Ok((survey, Underlying { survey: raw, left_out, is_read: true }))
    }

    /// Reads what the survey did not, since it is as it was.
    async fn read_the_rest(&self, raw: &mut Survey) -> Result<(), RunError> {
        let Some(route) = self.surveyor.route else { return Ok(()) };
        let mut rest = Vec::new();
        self.store.each_known(route, SideId::Underlying, |known| {
            if !raw.items.contains_key(&known.href) && !raw.gone.contains(&known.href) {
                rest.push(known.href);
            }
        })?;
        for (href, item) in self.surveyor.fetch(&rest).await? {
            match item {
                Some(item) => drop(raw.items.insert(href, item)),
                None => drop(raw.gone.insert(href)),
            }
        }
        Ok(())
    }

    fn entries(&self, raw: &Survey, bounds: &Bounds) -> (Vec<Entry>, BTreeMap<ObjectHref, LeftOut>) {
        let (mut made, mut left_out) = (Vec::new(), BTreeMap::new());
        let mut busy = BusyTime::default();
        let carry = Carry { me: self.policy.choice.me.clone(), ..self.route.carry.clone() };
        let mut uids = BTreeSet::new();
        for (href, item) in &raw.items {
            let Some(entry) = item.entry() else {
                left_out.insert(href.clone(), LeftOut::Unreadable);
                continue;
            };
            let refused = refusal(self.policy, entry, true)
                .or_else(|| (!uids.insert(entry.uid())).then_some(LeftOut::SameUid));
            let done = match (refused, self.route.makes) {
                (Some(reason), _) => Err(reason),
                (None, Makes::Blocks) => busy.add(entry, &carry, bounds).map_err(|unshown| match unshown {
                    Unshown::TakesNoTime => LeftOut::TakesNoTime,
                    Unshown::NotUnderstood(_) => LeftOut::TimeNotUnderstood,
                }),
                (None, Makes::Occurrences | Makes::Entries) => single_entries(entry, bounds)
                    .map(|singles| made.extend(singles))
                    .map_err(|_| LeftOut::TimeNotUnderstood),
            };
            if let Err(reason) = done {
                left_out.insert(href.clone(), reason);
            }
        }
        made.extend(busy.blocks());
        (made, left_out)
    }

    /// Finds what differs from what was made before.
    fn compare(&self, state: SideState, made: Vec<Entry>) -> Result<Survey, RunError> {
        let mut survey = Survey { state, ..Survey::default() };
        let mut before: BTreeMap<ObjectHref, Option<ETag>> = BTreeMap::new();
        let mut tidied = BTreeSet::new();
        if let Some(route) = self.surveyor.route {
            self.store
                .each_known(route, SideId::Source, |known| drop(before.insert(known.href, known.etag)))?;
            for known in self.store.known_again(route, SideId::Source)? {
                before.entry(known.href).and_modify(|etag| *etag = None);
            }
            let over = self.store.over_before(route, self.policy.window.range.start)?;
            tidied.extend(over.into_iter().map(|known| known.href));
        }
        let spans: Vec<(String, String)> = made.iter().filter_map(span_of_block).collect();
        for entry in made {
            let href = ObjectHref::from(entry.uid().as_str());
            let etag = ETag::from(format!("{:?}", entry.meaning().fingerprint()));
            let is_known = before.remove(&href);
            // An occurrence that was past before anybody carried it stays where it is.
            let is_block = self.route.makes == Makes::Blocks;
            if is_known.is_none() && !is_block && !self.policy.window.holds(&entry).unwrap_or(true) {
                continue;
            }
            if self.afresh || is_known.flatten().as_ref() != Some(&etag) {
                let text = ical::write(entry.object());
                survey.items.insert(href, Item::Entry { etag: Some(etag), entry: Box::new(entry), text });
            }
        }
        for href in before.into_keys() {
            // A block that became part of another takes no time away.
            let swallowed = self.route.makes == Makes::Blocks
                && start_of_block(href.as_str()).is_some_and(|at| {
                    spans.iter().any(|(start, end)| start.as_str() < at && at < end.as_str())
                });
            if swallowed || tidied.contains(&href) {
                survey.expected_gone.insert(href.clone());
            }
            survey.gone.insert(href);
        }
        Ok(survey)
    }
}

/// Times as iCalendar writes them in UTC: their order is that of time.
fn span_of_block(entry: &Entry) -> Option<(String, String)> {
    let main = entry.main_component();
    Some((main.value("DTSTART")?.to_owned(), main.value("DTEND")?.to_owned()))
}

fn start_of_block(uid: &str) -> Option<&str> {
    uid.split_once('-').map(|(_, start)| start)
}
