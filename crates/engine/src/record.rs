//! What is remembered of an entry: rows for the state, and lines for the history.

use chestnut_core::{
    ContentKey, ETag, Entry, FieldDifference, Fingerprint, LeftOut, LinkFacts, ObjectHref, PastCopies,
    RoutePolicy,
};
use chestnut_store::{
    Agreed, Change, ChangeAction, Known, LinkRow, Recheck, RouteId, RunId, SideId, StoreError, Writer,
};

use crate::apply::Write;
use crate::plan::{Planned, Seen};

/// A view that no entry has: nothing was ever agreed.
pub(crate) const NEVER: Fingerprint = Fingerprint([0; 16]);

pub(crate) fn facts(view: Fingerprint, far: Option<Fingerprint>) -> LinkFacts {
    LinkFacts { view, far, refused: None }
}

/// What is remembered of one write that was read back.
pub(crate) struct Record {
    pub(crate) done: ChangeAction,
    pub(crate) write: Write,
    /// What is remembered of the source.
    pub(crate) source: Known,
    pub(crate) row: LinkRow,
    /// `None` where the server kept nothing.
    pub(crate) target: Option<Known>,
    pub(crate) agreed: Option<Agreed>,
    pub(crate) change: Change,
}

impl Record {
    pub(crate) fn write(&self, writer: &Writer<'_>, id: RouteId, run: RunId) -> Result<(), StoreError> {
        let link = writer.put_link(id, self.write.link.as_ref().map(|(id, _)| *id), &self.row)?;
        let left_out = self.target.is_none().then(|| LeftOut::Refused.key().to_owned());
        let source = Known { left_out, ..self.source.clone() };
        writer.put_linked(id, SideId::Source, link, &source)?;
        match &self.target {
            Some(target) => writer.put_linked(id, SideId::Target, link, target)?,
            None => writer.forget_place(SideId::Target, link)?,
        }
        if let Some(agreed) = &self.agreed {
            writer.put_agreed(link, agreed)?;
        }
        writer.add_change(run, &self.change)?;
        writer.done(id, &self.write.href)
    }
}

/// Remembers a pair that is alike. Returns a line for the story where it was not linked before.
pub(crate) fn record_agreement(
    writer: &Writer<'_>,
    id: RouteId,
    policy: &RoutePolicy,
    planned: &Planned,
    facts: LinkFacts,
    calendar: String,
) -> Result<Option<Change>, StoreError> {
    let (Some(source), Some(target)) = (&planned.source, &planned.target) else { return Ok(None) };
    let (Some(from), Some(to)) = (&source.entry, &target.entry) else { return Ok(None) };
    let before = planned.link.as_ref().map(|(_, row)| row);
    let row = LinkRow {
        source_uid: from.uid().clone(),
        target_uid: to.uid().clone(),
        facts,
        words: None,
        partly: before.map(|row| row.partly).unwrap_or_default(),
    };
    let link = writer.put_link(id, planned.link.as_ref().map(|(id, _)| *id), &row)?;
    writer.put_linked(id, SideId::Source, link, &source_known(policy, source))?;
    writer.put_linked(id, SideId::Target, link, &seen_known(target))?;
    writer.put_agreed(link, &Agreed { source: source.text.clone(), target: target.text.clone() })?;
    let new = planned.link.is_none();
    Ok(new.then(|| Change {
        calendar,
        action: ChangeAction::Linked,
        href: target.href.clone(),
        uid: to.uid().clone(),
        title: to.title(),
        start: start_text(from),
        words: None,
        before: None,
    }))
}

pub(crate) fn known_row(
    href: &ObjectHref,
    etag: Option<ETag>,
    entry: Option<&Entry>,
    write: &Write,
) -> Known {
    Known {
        href: href.clone(),
        etag,
        uid: Some(entry.map_or_else(|| write.entry.uid().clone(), |e| e.uid().clone())),
        content: entry.map(ContentKey::of),
        title: write.entry.title(),
        left_out: None,
        recheck: Recheck::No,
        link: None,
        next: None,
        over: None,
    }
}

/// A row for an entry as it was seen, belonging to nothing yet.
pub(crate) fn seen_known(seen: &Seen) -> Known {
    Known {
        href: seen.href.clone(),
        etag: seen.etag.clone(),
        uid: seen.entry.as_ref().map(|e| e.uid().clone()),
        content: seen.entry.as_ref().map(ContentKey::of),
        title: title_of(seen),
        left_out: None,
        recheck: Recheck::No,
        link: None,
        next: None,
        over: None,
    }
}

/// A row for an entry of the source, with the moment at which its copy is tidied away.
pub(crate) fn source_known(policy: &RoutePolicy, seen: &Seen) -> Known {
    let tidies = policy.past_copies == PastCopies::Remove;
    let over = || policy.window.over_at(seen.entry.as_ref()?).ok().flatten();
    Known { over: if tidies { over() } else { None }, ..seen_known(seen) }
}

/// The title, or the file name of an entry that cannot be read.
pub(crate) fn title_of(seen: &Seen) -> String {
    let file_name = || seen.href.as_str().rsplit('/').next().unwrap_or_default().to_owned();
    seen.entry.as_ref().map_or_else(file_name, Entry::title)
}

/// The start as iCalendar writes it, the zone behind it.
pub(crate) fn start_text(entry: &Entry) -> String {
    match entry.start() {
        Some((time, Some(zone))) => format!("{time} {zone}"),
        Some((time, None)) => time.to_string(),
        None => String::new(),
    }
}

pub(crate) fn field_names(differences: &[FieldDifference]) -> String {
    let mut names: Vec<_> = differences.iter().map(|d| d.field.as_str()).collect();
    names.sort_unstable();
    names.dedup();
    names.join(", ")
}
