//! Calendars that are made out of others for one route alone: single entries for the occurrences of series, or blocks
//! of busy time. Made anew only as far as the calendar behind changed, or a day passed.

use chestnut_core::{
    Bounds, BusyTime, ContentKey, ETag, Entry, EventUid, Identity, LeftOut, ObjectHref, Position,
    RoutePolicy, SeriesError, Sight, Unshown, refusal, single_entries,
};
use chestnut_store::{CalendarId, Made, NewObject, Object, ObjectId, ObjectState, Store, StoreError, Writer};
use jiff::Timestamp;

use crate::ahead;
use crate::case::Kept;
use crate::error::RunError;
use crate::mirror::{Mirror, bare};
use crate::rule::{Makes, Rule};

const PAGE: usize = 500;
/// Objects whose entries are made, and noted, together.
const TOGETHER: usize = 50;
/// Nothing is looked for beyond the end of the year 9998, in seconds since 1970.
const LAST: i64 = 253_370_764_800;

/// Makes a calendar.
pub(crate) struct Maker<'r> {
    pub(crate) rule: &'r Rule,
    pub(crate) store: &'r Store,
    /// The calendar behind it.
    pub(crate) behind: CalendarId,
    pub(crate) made: &'r Mirror<'r>,
    /// What the entries behind are asked by.
    pub(crate) policy: &'r RoutePolicy,
    pub(crate) now: Timestamp,
    /// All of it, not only what changed.
    pub(crate) afresh: bool,
}

/// What an object behind came to.
enum Part {
    /// These entries.
    Entries(Vec<Entry>),
    /// This time.
    Spans(Vec<(i64, i64, bool)>),
    /// Nothing, and what was made of it goes.
    None(LeftOut),
    /// It cannot be told: what was made of it stays.
    Unknown(LeftOut),
}

impl Maker<'_> {
    pub(crate) fn make(&self, seq: i64) -> Result<(), RunError> {
        let range = (self.policy.window.range.start, self.policy.window.range.end);
        let rule = format!("{}{}", self.rule.settings(), self.rule.places());
        let before = self.made.facts().made;
        let known = before.as_ref().filter(|made| made.rule == rule && !self.afresh);
        let from = before.as_ref().map_or(range.0, |made| made.from.min(range.0));
        let bounds = Bounds { range: from..range.1, zone: self.policy.window.zone.clone() };
        let mut after = known.map_or(0, |made| made.seen);
        let mut changed =
            before.is_none() || known.is_none_or(|made| made.window != range || made.is_half_made);
        let now = self.now.as_second();
        if known.is_some() {
            for parents in self.store.parts_due(self.made.id, now)?.chunks(TOGETHER) {
                let ahead = ahead::objects(self.store, parents)?;
                let objects = parents.iter().map(|parent| self.store.object(*parent));
                let objects: Vec<_> = objects.filter_map(Result::transpose).collect::<Result<_, _>>()?;
                drop(ahead);
                changed |= self.some(&objects, &bounds)?;
            }
        }
        loop {
            let page = self.store.changed_after(self.behind, after, PAGE)?;
            let Some(last) = page.last() else { break };
            after = last.seq;
            for objects in page.chunks(TOGETHER) {
                changed |= self.some(objects, &bounds)?;
            }
        }
        if self.rule.makes == Makes::Blocks && changed {
            self.blocks()?;
        }
        self.made.note(|facts| {
            facts.read = true;
            facts.made = Some(Made { seen: seq, window: range, from, rule, is_half_made: false });
        })
    }

    /// Makes what some objects come to; says whether that can have changed anything.
    fn some(&self, objects: &[Object], bounds: &Bounds) -> Result<bool, RunError> {
        let ahead = ahead::parts(self.store, objects)?;
        let mut parts = Vec::with_capacity(objects.len());
        for object in objects {
            let kept = match object.body.filter(|_| object.state == ObjectState::Present) {
                Some(body) => self.store.text(body)?.and_then(|text| Kept::of(Some(body), text)),
                None => None,
            };
            let entry = kept.as_ref().map(|kept| &kept.entry);
            parts.push((object, self.part(object, entry, bounds)?, self.due(object, entry)));
        }
        drop(ahead);
        if self.rule.makes == Makes::Blocks && !parts.is_empty() {
            // What is gone leaves no trace among the parts: should this end here, the blocks still want to know.
            self.made.note(|facts| facts.made.iter_mut().for_each(|made| made.is_half_made = true))?;
        }
        Ok(self.store.write(|writer| {
            let mut changed = false;
            for (object, part, due) in parts {
                changed |= self.put_part(writer, object, part, due)?;
            }
            Ok(changed)
        })?)
    }

    fn put_part(
        &self,
        writer: &Writer<'_>,
        object: &Object,
        part: Part,
        due: Option<i64>,
    ) -> Result<bool, StoreError> {
        let calendar = self.made.id;
        match part {
            Part::Unknown(reason) => {
                writer.mark_part(calendar, object.id, reason.key(), due)?;
                return Ok(false);
            }
            Part::None(reason) => {
                self.bring(writer, object.id, Vec::new())?;
                writer.put_part(calendar, object.id, reason.key(), due, "[]")?;
            }
            Part::Entries(entries) => {
                self.bring(writer, object.id, entries)?;
                writer.put_part(calendar, object.id, "", due, "[]")?;
            }
            Part::Spans(spans) => {
                let text = serde_json::to_string(&spans).expect("numbers turn into JSON");
                writer.put_part(calendar, object.id, "", due, &text)?;
            }
        }
        if object.state == ObjectState::Gone {
            writer.forget_part(calendar, object.id)?;
        }
        Ok(true)
    }

    fn part(&self, object: &Object, entry: Option<&Entry>, bounds: &Bounds) -> Result<Part, RunError> {
        if matches!(object.state, ObjectState::Gone | ObjectState::Unread) {
            return Ok(Part::None(LeftOut::OutsideWindow));
        }
        let Some(entry) = entry else { return Ok(Part::Unknown(LeftOut::Unreadable)) };
        if entry.uid().is_probe_of_another(&self.rule.key) {
            return Ok(Part::Entries(Vec::new()));
        }
        if let Some(reason) = refusal(self.policy, entry, true) {
            return Ok(match reason {
                LeftOut::TimeNotUnderstood => Part::Unknown(reason),
                _ => Part::None(reason),
            });
        }
        let twins = self.store.objects_by_uid(self.behind, entry.uid())?;
        if twins.iter().any(|twin| twin.state == ObjectState::Present && twin.href < object.href) {
            return Ok(Part::None(LeftOut::SameUid));
        }
        let not_understood = |_: SeriesError| Part::Unknown(LeftOut::TimeNotUnderstood);
        Ok(match self.rule.makes {
            Makes::Blocks => {
                let mut busy = BusyTime::default();
                match busy.add(entry, &self.policy.carry, bounds) {
                    Ok(()) => Part::Spans(busy.spans().to_vec()),
                    Err(Unshown::TakesNoTime) => Part::None(LeftOut::TakesNoTime),
                    Err(Unshown::NotUnderstood) => Part::Unknown(LeftOut::TimeNotUnderstood),
                }
            }
            Makes::Occurrences | Makes::Entries => {
                let taken = self.policy.taken_of(entry);
                single_entries(&taken, bounds).map_or_else(not_understood, Part::Entries)
            }
        })
    }

    /// The next day, where something of it is still to come in.
    fn due(&self, object: &Object, entry: Option<&Entry>) -> Option<i64> {
        let Some(entry) = entry else { return (object.state == ObjectState::ToFetch).then_some(0) };
        let window = &self.policy.window;
        let ahead = Bounds { range: window.range.end..LAST, zone: window.zone.clone() };
        let comes_in = match ahead.position(entry) {
            Ok(Position::Inside) => true,
            Ok(Position::Ahead(_) | Position::Behind) => false,
            Err(_) => true,
        };
        let tomorrow = self.now.to_zoned(window.zone.clone()).date().tomorrow();
        let midnight = tomorrow.ok().and_then(|day| day.to_zoned(window.zone.clone()).ok());
        midnight.filter(|_| comes_in).map(|at| at.timestamp().as_second())
    }

    /// Brings what was made of one object to what it comes to now. What says the same is the same, then what has the
    /// same UID; what goes and what comes otherwise is paired in its order: a pair is a change.
    fn bring(&self, writer: &Writer<'_>, parent: ObjectId, entries: Vec<Entry>) -> Result<(), StoreError> {
        let mut rows = self.store.objects_of(parent, self.made.id)?;
        let mut new: Vec<Entry> = entries;
        new.sort_by(|a, b| a.uid().cmp(b.uid()));
        new.retain(|entry| {
            let etag = etag_of(entry);
            let same = rows.iter().position(|row| row.etag.as_ref() == Some(&etag));
            same.map(|at| rows.remove(at)).is_none()
        });
        let mut left = Vec::new();
        for entry in new {
            match rows.iter().position(|row| row.uid.as_ref() == Some(entry.uid())) {
                Some(at) => self.put(writer, Some(&rows.remove(at)), &entry, Some(parent))?,
                None => left.push(entry),
            }
        }
        // What was past before anybody carried it is not carried.
        left.retain(|entry| self.policy.window.holds(entry).unwrap_or(true));
        let mut gone = rows.into_iter();
        for entry in left {
            self.put(writer, gone.next().as_ref(), &entry, Some(parent))?;
        }
        gone.try_for_each(|row| writer.bury(self.made.id, row.id))
    }

    /// Notes a made entry, in the place of another where there is one: that keeps its UID, under which its copy was
    /// written. No two have one UID.
    fn put(
        &self,
        writer: &Writer<'_>,
        row: Option<&Object>,
        entry: &Entry,
        parent: Option<ObjectId>,
    ) -> Result<(), StoreError> {
        let mut uid = row.and_then(|row| row.uid.clone()).unwrap_or_else(|| entry.uid().clone());
        let mut number = 1;
        while row.is_none() && !self.store.objects_by_uid(self.made.id, &uid)?.is_empty() {
            number += 1;
            uid = EventUid::from(format!("{}-{number}", entry.uid()));
        }
        let entry = Sight::ALL.of_far_side(entry).put(&Identity::New(uid));
        let (etag, text) = (etag_of(&entry), entry.text());
        let href = row.map_or_else(|| ObjectHref::from(entry.uid().as_str()), |row| row.href.clone());
        let new = NewObject {
            etag: Some(&etag),
            uid: Some(entry.uid()),
            content: Some(ContentKey::of(&entry)),
            text: Some(&text),
            parent,
            ..bare(&href, ObjectState::Present)
        };
        match row {
            Some(row) => writer.change_object(self.made.id, row.id, &new),
            None => writer.add_object(self.made.id, &new).map(drop),
        }
    }

    /// Joins all time that is taken, and brings the blocks to it.
    fn blocks(&self) -> Result<(), RunError> {
        let mut busy = BusyTime::default();
        for spans in self.store.spans(self.made.id)? {
            let spans: Vec<(i64, i64, bool)> = serde_json::from_str(&spans).unwrap_or_default();
            busy.add_spans(&spans);
        }
        let mut new: Vec<(Span, Entry)> =
            busy.blocks().into_iter().filter_map(|entry| Some((span_of(&entry)?, entry))).collect();
        let mut gone: Vec<(Span, Object)> = Vec::new();
        for row in self.store.all_objects(self.made.id)? {
            let kept = row.body.map(|body| self.store.text(body)).transpose()?.flatten();
            let kept = kept.and_then(|text| Kept::of(row.body, text));
            let Some(span) = kept.as_ref().and_then(|kept| span_of(&kept.entry)) else { continue };
            match new.iter().position(|(own, _)| *own == span) {
                Some(at) => drop(new.swap_remove(at)),
                None => gone.push((span, row)),
            }
        }
        new.sort_by(|a, b| a.0.cmp(&b.0));
        gone.sort_by(|a, b| a.0.cmp(&b.0));
        Ok(self.store.write(|writer| {
            // One that grew, shrank or moved is the same; then in their order.
            let mut left = Vec::new();
            for (span, entry) in new {
                let overlaps =
                    |(own, _): &(Span, Object)| own.2 == span.2 && own.0 < span.1 && span.0 < own.1;
                match gone.iter().position(overlaps) {
                    Some(at) => {
                        let (_, row) = gone.remove(at);
                        self.put(writer, Some(&row), &entry, None)?;
                    }
                    None => left.push(entry),
                }
            }
            let mut gone = gone.into_iter();
            for entry in left {
                let row = gone.next().map(|(_, row)| row);
                self.put(writer, row.as_ref(), &entry, None)?;
            }
            gone.try_for_each(|(_, row)| writer.bury(self.made.id, row.id))
        })?)
    }
}

/// Start and end as iCalendar writes them in UTC, whose order is that of time; and whether it is not certain.
type Span = (String, String, bool);

fn span_of(entry: &Entry) -> Option<Span> {
    let main = entry.main_component();
    let is_tentative = main.property("STATUS").is_some();
    Some((main.value("DTSTART")?.to_owned(), main.value("DTEND")?.to_owned(), is_tentative))
}

/// Made entries are compared by what they mean.
fn etag_of(entry: &Entry) -> ETag {
    ETag::from(format!("{:?}", entry.meaning().fingerprint()))
}
