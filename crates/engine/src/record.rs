//! Records what was decided and done: the only writer of places, agreements and the story of a run.

use std::rc::Rc;

use chestnut_core::{EntryError, EventUid, LeftOut, ObjectHref, Origin, Partly};
use chestnut_store::{
    BodyId, Change, ChangeAction, HeldItem, LinkId, LinkRow, LinkState, PlaceRow, StoreError, Text, Told,
    Writer,
};
use serde_json::json;

use crate::apply::{Applier, Done, Work, new_row, no_place};
use crate::case::{Case, Kept, Question, Stands};
use crate::decide::{Fate, Step, Withheld};
use crate::error::RunError;
use crate::mail::MailQuestion;

impl Applier<'_> {
    /// Records some cases, in one transaction.
    pub(crate) fn record(&self, works: &mut [Work]) -> Result<(), RunError> {
        let mut changes = Vec::new();
        for work in works.iter_mut() {
            self.story(work, &mut changes);
        }
        let (store, run) = (self.store, self.run);
        store.write(|writer| {
            let _ahead = self.records_ahead(works)?;
            for work in works.iter_mut() {
                if work.case.link.is_some_and(|link| self.outcome.borrow().taken_over.contains(&link)) {
                    // Its entry is another case's since: what it did, if anything, is a case of its own.
                    work.case.link = None;
                    if work.done.iter().all(Option::is_none) {
                        continue;
                    }
                }
                work.case.link = self.record_one(writer, work)?;
            }
            changes.iter().try_for_each(|change| writer.add_change(run, change))
        })?;
        self.report(changes);
        Ok(())
    }

    /// Lines for the story, and the counts.
    fn story(&self, work: &Work, changes: &mut Vec<Change>) {
        let case = &work.case;
        changes.extend(self.found_done(case));
        for (side, done) in work.done.iter().enumerate() {
            let Some(done) = done else { continue };
            self.outcome.borrow_mut().damaged += usize::from(done.action == ChangeAction::Damaged);
            changes.push(self.done_line(work, side, done));
        }
        if let Some(trouble) = &work.trouble {
            let keeps_nothing = trouble.told == Told::KeepsNothing;
            self.outcome.borrow_mut().failed += usize::from(!keeps_nothing);
            self.outcome.borrow_mut().damaged += usize::from(keeps_nothing);
            let action = if keeps_nothing { ChangeAction::Damaged } else { ChangeAction::Failed };
            changes.push(self.line(work, trouble.side, action, Some(trouble.told.clone()), None));
        }
        if work.trouble.is_none() && !work.left {
            let lines = self.overruled(work);
            self.outcome.borrow_mut().disagreements += usize::from(work.told == 0 && !lines.is_empty());
            changes.extend(lines);
        }
        match &work.verdict.fate {
            Fate::Keep => {
                for (side, step) in work.verdict.steps.iter().enumerate() {
                    let Step::Hold(withheld) = step else { continue };
                    let deletes = matches!(withheld, Withheld::Delete);
                    let told = Some(Told::WouldMail { deletes });
                    changes.push(self.line(work, side, ChangeAction::Held, told, None));
                }
                let was_nobodys = case.row.as_ref().is_none_or(|row| row.state == LinkState::Released);
                let is_new = was_nobodys && work.done.iter().all(Option::is_none);
                if is_new && work.trouble.is_none() && !work.left && case.standing() > 1 {
                    self.outcome.borrow_mut().linked += 1;
                    let far = self.rule.ends.iter().position(|end| !end.gives).unwrap_or(0);
                    let matched = case.places.iter().any(|place| place.origin == Origin::Match);
                    let told = matched.then_some(Told::Matched);
                    changes.push(self.line(work, far, ChangeAction::Linked, told, None));
                }
            }
            Fate::LeaveOut(LeftOut::OutsideEnds) | Fate::Doubt => {
                let standing =
                    (0..case.places.len()).filter(|side| case.places[*side].stands.object().is_some());
                self.outcome.borrow_mut().open.extend(standing);
            }
            Fate::LeaveOut(reason) if is_news(work, *reason) => {
                let told = match reason {
                    LeftOut::Unreadable => Told::Unreadable { problem: self.problem(work) },
                    _ => Told::LeftOut { reason: reason.key().to_owned() },
                };
                let side = case.places.iter().position(|place| place.stands.object().is_some());
                changes.push(self.line(work, side.unwrap_or(0), ChangeAction::LeftOut, Some(told), None));
            }
            Fate::Hold(collisions) => {
                let mut fields: Vec<_> = collisions.iter().map(|c| c.field.clone()).collect();
                fields.dedup();
                changes.push(self.line(work, 0, ChangeAction::Held, Some(Told::Disagree { fields }), None));
            }
            Fate::LeaveOut(_) | Fate::Release | Fate::Forget | Fate::Wait => {}
        }
    }

    /// Lines for what an earlier run had done and not told.
    fn found_done(&self, case: &Case) -> impl Iterator<Item = Change> {
        case.found_done.iter().map(|found| {
            let action = match (&found.before, &found.after) {
                (_, None) => ChangeAction::Deleted,
                (None, Some(_)) => ChangeAction::Created,
                (Some(_), Some(_)) => ChangeAction::Updated,
            };
            let done = Done {
                action,
                before: found.before.clone(),
                told: None,
                partly: Partly::default(),
                stood: None,
            };
            let change = self.change(case, found.side, &found.href, &done, None);
            Change { after: found.after.clone(), ..change }
        })
    }

    /// Records what was found out about an earlier run's writes, before others are intended that were decided from that:
    /// of two runs' intentions nobody could tell whose agreement is the newer. Returns the lines that tell of it.
    pub(crate) fn record_found(&self, writer: &Writer<'_>, work: &Work) -> Result<Vec<Change>, StoreError> {
        let (case, Some(row)) = (&work.case, &work.case.row) else { return Ok(Vec::new()) };
        if case.found_out.is_empty() {
            return Ok(Vec::new());
        }
        let link = self.remember_places(writer, work, row.clone(), false)?;
        writer.done(link, &case.found_out)?;
        let lines: Vec<_> = self.found_done(case).collect();
        lines.iter().try_for_each(|line| writer.add_change(self.run, line))?;
        Ok(lines)
    }

    /// What is wrong with an entry that cannot be read; nothing is known where the server did not give it.
    fn problem(&self, work: &Work) -> Option<EntryError> {
        let text = work.case.places.iter().find_map(|place| match &place.stands {
            Stands::Unreadable(object) | Stands::Unknown(object) => object.body,
            _ => None,
        });
        let text = text.and_then(|body| self.store.text(body).ok().flatten());
        let limits = chestnut_core::ical::Limits::default();
        chestnut_core::Entry::parse(&text?, &limits).err()
    }

    pub(crate) fn line(
        &self,
        work: &Work,
        side: usize,
        action: ChangeAction,
        told: Option<Told>,
        before: Option<Text>,
    ) -> Change {
        let case = &work.case;
        let written = work.verdict.writing(side).map(|writing| &writing.entry);
        let href = case.href(side).or_else(|| (0..case.places.len()).find_map(|side| case.href(side)));
        let href = href.cloned().unwrap_or_else(|| ObjectHref::from(""));
        let partly = Partly::default();
        let change =
            self.change(case, side, &href, &Done { action, before, told, partly, stood: None }, written);
        let uid = (0..case.places.len()).find_map(|side| case.uid(side)).cloned();
        let uid = if change.uid.as_str().is_empty() { uid } else { None };
        Change { uid: uid.unwrap_or_else(|| EventUid::from(change.uid.as_str())), after: None, ..change }
    }

    /// Records one case; returns its number, where it has one.
    fn record_one(&self, writer: &Writer<'_>, work: &Work) -> Result<Option<LinkId>, StoreError> {
        let (route, case, verdict) = (self.route, &work.case, &work.verdict);
        let old = case.row.clone();
        if work.left {
            // Nothing of it is decided: it comes again.
            return self.remember_open(writer, work);
        }
        let left_out = |reason: LeftOut| {
            let kept = old.clone().unwrap_or_else(|| new_row(LinkState::LeftOut));
            LinkRow { state: LinkState::LeftOut, reason: reason.key().to_owned(), due: verdict.due, ..kept }
        };
        let link = match &verdict.fate {
            _ if work.trouble.is_some() => {
                let row = self.troubled(work, old);
                self.remember(writer, work, row, false)?
            }
            Fate::Forget => {
                if let Some(link) = case.link {
                    writer.forget_link(link)?;
                }
                return Ok(None);
            }
            Fate::Wait => return self.remember_open(writer, work),
            // A case of its own would hide it from its source, should that be told of again.
            Fate::LeaveOut(LeftOut::OutsideEnds) | Fate::Doubt => return Ok(None),
            Fate::LeaveOut(LeftOut::Refused) => {
                let kept = old.unwrap_or_else(|| new_row(LinkState::Refused));
                self.remember(writer, work, LinkRow { state: LinkState::Refused, due: None, ..kept }, false)?
            }
            Fate::LeaveOut(reason) => {
                let mut row = left_out(*reason);
                if *reason == LeftOut::Undone && verdict.deletes().is_some() {
                    // Undone once it is seen to be gone.
                    (row.state, row.due) = (LinkState::Leaving, Some(0));
                }
                let link = self.remember(writer, work, row, false)?;
                if *reason != LeftOut::Unreadable {
                    writer.let_through(route, Some(link))?;
                }
                link
            }
            Fate::Release => {
                let row = LinkRow { told: None, ..new_row(LinkState::Released) };
                let link = self.remember(writer, work, row, false)?;
                writer.let_through(route, Some(link))?;
                link
            }
            Fate::Hold(_) => {
                let kept = old.unwrap_or_else(|| new_row(LinkState::Held));
                let link = self.remember(
                    writer,
                    work,
                    LinkRow { state: LinkState::Held, due: None, ..kept },
                    false,
                )?;
                self.ask(writer, work, &self.disagreement(work, link))?;
                link
            }
            Fate::Keep if verdict.deletes().is_some() => {
                let was_sent = work.done.iter().any(Option::is_some);
                let state = if was_sent { LinkState::Leaving } else { LinkState::Held };
                let kept = old.unwrap_or_else(|| new_row(state));
                let due = was_sent.then_some(0);
                self.remember(writer, work, LinkRow { state, due, ..kept }, false)?
            }
            Fate::Keep => {
                let row = self.agreed_row(work, old.as_ref());
                let link = self.remember(writer, work, row, true)?;
                match verdict.would_mail() {
                    true => self.ask(writer, work, &self.mail_question(work, link))?,
                    false => writer.let_through(route, Some(link))?,
                }
                link
            }
        };
        Ok(Some(link))
    }

    fn troubled(&self, work: &Work, old: Option<LinkRow>) -> LinkRow {
        let Some(trouble) = &work.trouble else { return new_row(LinkState::Failed) };
        let kept = old.unwrap_or_else(|| new_row(LinkState::Failed));
        let for_good = trouble.refused.is_some();
        let due = match (for_good, trouble.at_once) {
            (true, _) => None,
            (false, true) => Some(0),
            (false, false) => Some(self.pause(kept.tries)),
        };
        LinkRow {
            state: if for_good { LinkState::Refused } else { LinkState::Failed },
            reason: match (for_good, &work.verdict.fate) {
                (true, _) => LeftOut::Refused.key().to_owned(),
                // Perhaps it was done: it is nobody's edit then.
                (false, Fate::LeaveOut(LeftOut::Undone)) => LeftOut::Undone.key().to_owned(),
                (false, _) => String::new(),
            },
            due,
            tries: kept.tries.saturating_add(1),
            told: Some(trouble.told.clone()),
            ..kept
        }
    }

    fn agreed_row(&self, work: &Work, old: Option<&LinkRow>) -> LinkRow {
        let verdict = &work.verdict;
        let wrote = work.done.iter().flatten();
        let damage = wrote.clone().find(|done| done.action == ChangeAction::Damaged);
        let any_written = wrote.clone().next().is_some();
        let left_alone =
            verdict.steps.iter().any(|step| matches!(step, Step::Leave | Step::Hold(_) | Step::Spare(_)));
        let unchanged = work.case.places.iter().all(|place| {
            let text = |kept: Option<&Rc<Kept>>| kept.map(|kept| kept.text.id);
            text(place.stands.kept()) == text(place.stood.as_ref())
        });
        let was_damaged = old.filter(|row| row.state == LinkState::Damaged);
        let still = was_damaged.filter(|_| !any_written && (left_alone || unchanged));
        let (state, told) = match (damage, still, verdict.lacking) {
            _ if verdict.would_mail() => (LinkState::Held, None),
            (Some(done), ..) => (LinkState::Damaged, done.told.clone()),
            (None, Some(row), _) => (LinkState::Damaged, row.told.clone()),
            (None, None, Some(LeftOut::Refused)) => {
                (LinkState::Refused, old.and_then(|row| row.told.clone()))
            }
            (None, None, Some(_)) => (LinkState::LeftOut, None),
            (None, None, None) => (LinkState::InStep, None),
        };
        let partly = match any_written {
            true => wrote.fold(Partly::default(), |sum, done| sum.or(done.partly)),
            false => old.map(|row| row.partly).unwrap_or_default(),
        };
        // Where the far side was left as somebody edited it, it keeps the form in which it was written.
        let form = match old {
            Some(old) if left_alone && !any_written && old.agreed.is_some() => old.form,
            _ => self.decider.borrow().form_of(verdict.agreed.as_ref().map(|kept| &kept.entry)),
        };
        let reason = verdict.lacking.or(verdict.would_mail().then_some(LeftOut::WouldMail));
        LinkRow {
            state,
            reason: reason.map(|reason| reason.key().to_owned()).unwrap_or_default(),
            agreed: None,
            carried: self.rule.covers().number(),
            form,
            due: verdict.due,
            tries: 0,
            told,
            partly,
        }
    }

    /// A case of which nothing was decided: it is decided again at the next run.
    fn remember_open(&self, writer: &Writer<'_>, work: &Work) -> Result<Option<LinkId>, StoreError> {
        let is_unknown = work.case.places.iter().any(|place| matches!(place.stands, Stands::Unknown(_)));
        if work.case.link.is_none() && !is_unknown && !work.left {
            return Ok(None);
        }
        let kept = work.case.row.clone().unwrap_or_else(|| new_row(LinkState::Failed));
        let row = match is_unknown {
            true => LinkRow {
                state: LinkState::LeftOut,
                reason: LeftOut::Unreadable.key().to_owned(),
                due: Some(0),
                ..kept
            },
            false => LinkRow { due: Some(0), ..kept },
        };
        self.remember(writer, work, row, false).map(Some)
    }

    /// Remembers a case and its places, and what became of what was intended. What was done counts only where it
    /// `is_agreed`.
    fn remember(
        &self,
        writer: &Writer<'_>,
        work: &Work,
        row: LinkRow,
        is_agreed: bool,
    ) -> Result<LinkId, StoreError> {
        let link = self.remember_places(writer, work, row, is_agreed)?;
        // What is read back, refused, or overtaken is known; of the rest the next run finds the intent.
        let is_known = |side: &usize| {
            let is_open = work.left || matches!(work.case.places[*side].stands, Stands::Unknown(_));
            let lost =
                work.trouble.as_ref().is_some_and(|t| t.side == *side && matches!(t.told, Told::Lost { .. }));
            let leaving = work.done[*side].as_ref().is_some_and(|done| done.action == ChangeAction::Deleted);
            !is_open && !lost && !leaving
        };
        let known: Vec<usize> = (0..work.case.places.len()).filter(is_known).collect();
        if !known.is_empty() {
            writer.done(link, &known)?;
        }
        Ok(link)
    }

    fn remember_places(
        &self,
        writer: &Writer<'_>,
        work: &Work,
        row: LinkRow,
        is_agreed: bool,
    ) -> Result<LinkId, StoreError> {
        let (route, case, verdict) = (self.route, &work.case, &work.verdict);
        let keep = |kept: &Option<Rc<Kept>>| kept.as_ref().map(|k| writer.keep_text(&k.text)).transpose();
        let releases = row.state == LinkState::Released;
        // What is agreed counts as soon as one calendar has it: the others are owed it.
        let any_done = work.done.iter().any(Option::is_some) && verdict.deletes().is_none();
        let counts = is_agreed || any_done;
        let agreed: Option<BodyId> = match (releases, counts) {
            (true, _) => None,
            (false, true) => keep(&verdict.agreed)?,
            (false, false) => keep(&case.agreed)?,
        };
        let row = LinkRow { agreed, ..row };
        let row = if any_done && !is_agreed {
            LinkRow { carried: self.rule.covers().number(), ..row }
        } else {
            row
        };
        let link = writer.put_link(route, case.link, &row)?;
        for (side, place) in case.places.iter().enumerate() {
            let object = place.stands.object();
            let step = &verdict.steps[side];
            let done = work.done[side].as_ref();
            // What a server made of a copy so that nobody can read it is done with, until its source changes.
            let is_spoilt = !self.rule.ends[side].gives
                && done.is_some_and(|done| matches!(done.told, Some(Told::KeepsOther)));
            let accepts = counts && matches!(step, Step::Accept)
                || is_spoilt
                || done.is_some_and(|done| done.stood.is_some());
            let stood = match done.and_then(|done| done.stood.clone()) {
                Some(stood) => Some(stood),
                // What it says is part of what is agreed, also where it was not written: it is owed that.
                None if accepts || (counts && step.owes_a_text() && self.rule.ends[side].gives) => {
                    place.stands.kept().cloned().or_else(|| place.stood.clone())
                }
                None => place.stood.clone(),
            };
            // It was in step with what is agreed once more, and says something else since, or more of it is carried now:
            // it is owed that.
            let is_overruled = counts
                && step.owes_a_text()
                && self.rule.ends[side].gives
                && place.is_in_step_with(verdict.agreed.as_ref());
            let in_step = match (releases || is_overruled, accepts) {
                (false, true) => agreed,
                (false, false) => keep(&place.in_step_with)?,
                (true, _) => None,
            };
            let refused = match (&work.trouble, step) {
                (Some(trouble), _) if trouble.side == side => trouble.refused.or(place.refused),
                (_, Step::Spare(writing)) if counts => Some(writing.view),
                _ => place.refused,
            };
            if let Some(object) = object {
                self.take_over(writer, link, object.id)?;
            }
            writer.put_place(
                route,
                link,
                &PlaceRow {
                    object: object.map(|object| object.id),
                    origin: place.origin,
                    seq: object.map_or(0, |object| object.seq),
                    stood: if releases { None } else { keep(&stood)? },
                    agreed: in_step,
                    refused,
                    let_go: place.let_go || matches!(step, Step::LetGo),
                    ..no_place(side)
                },
            )?;
        }
        Ok(link)
    }

    /// An object may have belonged to a case that was only left out.
    fn take_over(
        &self,
        writer: &Writer<'_>,
        link: LinkId,
        object: chestnut_store::ObjectId,
    ) -> Result<(), StoreError> {
        match self.store.link_of(self.route, object)? {
            Some(other) if other != link => {
                writer.free_object(self.route, object)?;
                let row = self.store.link(other)?;
                if row.is_none_or(|row| row.agreed.is_some()) {
                    return writer.set_due(other, Some(0));
                }
                self.outcome.borrow_mut().taken_over.insert(other);
                writer.forget_link(other)
            }
            _ => Ok(()),
        }
    }

    /// Asks a person. An answer to another question about the same case is no answer to this one.
    fn ask(&self, writer: &Writer<'_>, work: &Work, item: &HeldItem) -> Result<(), StoreError> {
        let is_mail = work.verdict.would_mail();
        let is_open = work.case.asked.as_ref().is_some_and(|asked| {
            matches!(asked.question, Question::Mail { .. }) == is_mail && !(is_mail && asked.is_answered)
        });
        if !is_open {
            writer.let_through(self.route, item.link)?;
        }
        writer.hold(self.route, item)
    }

    fn mail_question(&self, work: &Work, link: LinkId) -> HeldItem {
        let names: Vec<_> = self.rule.ends.iter().map(|end| end.name.as_str()).collect();
        let question = MailQuestion::about(&work.case, &work.verdict, &names);
        self.question(work, link, serde_json::to_string(&question).unwrap_or_default())
    }

    fn question(&self, work: &Work, link: LinkId, details: String) -> HeldItem {
        HeldItem {
            id: 0,
            route: self.rule.name.clone(),
            link: Some(link),
            since: self.options.now.as_second(),
            title: work.case.title(),
            start: work.case.start(),
            details,
            decision: None,
        }
    }

    fn disagreement(&self, work: &Work, link: LinkId) -> HeldItem {
        let case = &work.case;
        let text = |kept: Option<&Rc<Kept>>| kept.map(|kept| kept.text.text.clone());
        let sides: Vec<_> = self
            .rule
            .ends
            .iter()
            .zip(&case.places)
            .map(|(end, place)| json!({ "calendar": end.name, "text": text(place.stands.kept()) }))
            .collect();
        let agreed = text(case.agreed.as_ref());
        let details = json!({ "kind": "disagreement", "agreed": agreed, "sides": sides });
        self.question(work, link, details.to_string())
    }
}

/// An entry that is left out for a reason that lies in the entry, the first time it is.
fn is_news(work: &Work, reason: LeftOut) -> bool {
    let by_choice = matches!(
        reason,
        LeftOut::Kind(_)
            | LeftOut::NotAccepted(_)
            | LeftOut::NotChosen(_)
            | LeftOut::OutsideWindow
            | LeftOut::TakesNoTime
            | LeftOut::Copy
            | LeftOut::Refused
            | LeftOut::Undone
    );
    let before = work.case.row.as_ref().map(|row| row.reason.as_str());
    !by_choice && before != Some(reason.key())
}
