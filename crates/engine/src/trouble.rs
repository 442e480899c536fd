//! What is wrong has a beginning and an end. Signs come from rounds; what they come to is decided here, without a
//! clock and without the state.

use std::collections::BTreeSet;

use chestnut_store::{Notice, NoticeEvent, Store, StoreError, TroubleKind, TroubleRow};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// What ended this lately and begins again goes on as the same, in seconds.
const AGAIN_WITHIN: i64 = 30 * 60;
/// What was cut off is told again after so long, in seconds.
const CUT_OFF: i64 = 60;
/// Signs this close together are of one round, in seconds.
const ONE_ROUND: i64 = 20;
/// What waits for a person is told again after so long, in seconds.
const REMIND_AFTER: i64 = 24 * 3600;

/// Something is wrong now.
#[derive(Debug, Clone, PartialEq)]
pub struct Sign {
    /// What.
    pub kind: TroubleKind,
    /// The account, the calendar or the route.
    pub about: String,
    /// What is known of it: for whoever is told.
    pub facts: serde_json::Value,
    /// Troubles that explain this one: while one of them lasts, this one does not begin.
    pub covered_by: Vec<(TroubleKind, String)>,
}

/// What one round, or one sync, saw.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Signs {
    /// What is wrong.
    pub bad: Vec<Sign>,
    /// What was looked at, and is right.
    pub good: Vec<(TroubleKind, String)>,
}

impl Signs {
    /// Notes whether something is wrong.
    pub fn note(&mut self, kind: TroubleKind, about: &str, wrong: Option<serde_json::Value>) {
        match wrong {
            Some(facts) => {
                self.bad.push(Sign { kind, about: about.to_owned(), facts, covered_by: Vec::new() });
            }
            None => self.good.push((kind, about.to_owned())),
        }
    }
}

/// What becomes of the troubles.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Judged {
    /// Troubles that are new, or changed; a new one has the number 0.
    pub troubles: Vec<TroubleRow>,
    /// What is to be told of the troubles at the same places.
    pub notices: Vec<Option<NoticeEvent>>,
    /// Suspicions that came to nothing, by number.
    pub forgotten: Vec<i64>,
}

/// How often something is seen before it is told, and before it is over.
fn patience(kind: TroubleKind) -> (u32, u32) {
    match kind {
        TroubleKind::ServerDown
        | TroubleKind::CalendarUnreadable
        | TroubleKind::EntriesRefused
        | TroubleKind::RouteFails => (2, 2),
        TroubleKind::RightsLost
        | TroubleKind::RouteStale
        | TroubleKind::NearlyFull
        | TroubleKind::CertificateEnds
        | TroubleKind::TokenEnds
        | TroubleKind::FeedQuiet
        | TroubleKind::FeedShrunk => (1, 2),

        TroubleKind::SignInRefused
        | TroubleKind::ConfigurationBroken
        | TroubleKind::NeverRun
        | TroubleKind::Held => (1, 1),
    }
}

/// Decides what begins, goes on and ends. `known` are the troubles that last, those that are only suspected, and those
/// that ended within the last half hour; `is_told` says whether anybody is to be told. `now` is in seconds since 1970.
#[must_use]
pub fn judge(known: &[TroubleRow], signs: &Signs, is_told: bool, now: i64) -> Judged {
    let mut judged = Judged::default();
    let mut lasting: Vec<(TroubleKind, String)> =
        known.iter().filter(|row| row.ended.is_none()).map(|row| (row.kind, row.about.clone())).collect();
    lasting.extend(signs.bad.iter().map(|sign| (sign.kind, sign.about.clone())));
    let mut done: BTreeSet<(TroubleKind, &str)> = BTreeSet::new();
    for sign in &signs.bad {
        if !done.insert((sign.kind, &sign.about)) {
            continue;
        }
        let is_covered = sign.covered_by.iter().any(|key| lasting.contains(key));
        let before = newest(known, sign.kind, &sign.about, now);
        if is_covered && before.is_none_or(|row| row.ended.is_some() || row.began.is_none()) {
            continue;
        }
        let (row, event) = begin(before, sign, is_told, now);
        judged.troubles.push(row);
        judged.notices.push(event);
    }
    for (kind, about) in &signs.good {
        if !done.insert((*kind, about)) {
            continue;
        }
        let Some(row) = newest(known, *kind, about, now).filter(|row| row.ended.is_none()) else { continue };
        if row.began.is_none() {
            judged.forgotten.push(row.id);
            continue;
        }
        let (row, event) = end(row, now);
        judged.troubles.push(row);
        judged.notices.push(event);
    }
    judged
}

fn newest<'k>(known: &'k [TroubleRow], kind: TroubleKind, about: &str, now: i64) -> Option<&'k TroubleRow> {
    let is_same = |row: &&TroubleRow| row.kind == kind && row.about == about;
    // A clock that was put back makes nothing older than it is.
    let lasts = |row: &&TroubleRow| row.ended.is_none_or(|ended| (now - ended).abs() < AGAIN_WITHIN);
    known.iter().filter(is_same).filter(lasts).max_by_key(|row| row.id)
}

fn begin(
    before: Option<&TroubleRow>,
    sign: &Sign,
    is_told: bool,
    now: i64,
) -> (TroubleRow, Option<NoticeEvent>) {
    let mut row = before.cloned().unwrap_or_else(|| TroubleRow {
        id: 0,
        kind: sign.kind,
        about: sign.about.clone(),
        since: now,
        began: None,
        ended: None,
        bad: 0,
        good: 0,
        came_back: false,
        told: None,
        facts: serde_json::Value::Null,
    });
    row.facts = sign.facts.clone();
    let is_another = row.bad == 0 || row.good > 0 || (now - row.since).abs() >= ONE_ROUND;
    if row.good > 0 {
        (row.good, row.since) = (0, now);
    }
    row.bad = row.bad.saturating_add(u32::from(is_another));
    if row.ended.take().is_some() {
        row.came_back = true;
        row.told = None;
    }
    if row.bad >= patience(row.kind).0 && row.began.is_none() {
        row.began = Some(now);
    }
    let event = match (row.began, row.told) {
        (Some(_), None) => Some(NoticeEvent::Begin),
        (Some(_), Some(told)) if row.kind == TroubleKind::Held && now - told >= REMIND_AFTER => {
            Some(NoticeEvent::Reminder)
        }
        _ => None,
    };
    let event = event.filter(|_| is_told);
    if event.is_some() {
        row.told = Some(now);
    }
    (row, event)
}

fn end(row: &TroubleRow, now: i64) -> (TroubleRow, Option<NoticeEvent>) {
    let mut row = row.clone();
    let is_another = row.good == 0 || (now - row.since).abs() >= ONE_ROUND;
    if row.good == 0 {
        // Since when it has been right.
        row.since = now;
    }
    row.good = row.good.saturating_add(u32::from(is_another));
    // What came back once must be right for as long as it may come back as the same; but for what ends because a person
    // answered or wrote something: that is over when they did.
    let by_person =
        matches!(row.kind, TroubleKind::Held | TroubleKind::NeverRun | TroubleKind::ConfigurationBroken);
    let is_calm = by_person || !row.came_back || (now - row.since).abs() >= AGAIN_WITHIN;
    if row.good < patience(row.kind).1 || !is_calm {
        return (row, None);
    }
    row.ended = Some(now);
    row.bad = 0;
    let event = row.told.map(|_| NoticeEvent::End);
    (row, event)
}

/// A trouble that began or ended just now.
#[derive(Debug, Clone)]
pub struct Turn {
    /// The trouble.
    pub trouble: TroubleRow,
    /// It began; else it ended.
    pub began: bool,
}

/// A trouble as it was when something was to be told of it.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Then {
    /// What was wrong.
    pub kind: TroubleKind,
    /// What it was about.
    pub about: String,
    /// When it began, in seconds since 1970.
    pub began: Option<i64>,
    /// When it ended, in seconds since 1970.
    pub ended: Option<i64>,
    /// It had ended, and began again within half an hour.
    pub again: bool,
    /// What was known of it.
    pub facts: serde_json::Value,
}

impl Then {
    fn of(row: &TroubleRow) -> Self {
        Self {
            kind: row.kind,
            about: row.about.clone(),
            began: row.began,
            ended: row.ended,
            again: row.came_back,
            facts: row.facts.clone(),
        }
    }
}

/// Brings what was seen together with what is known, in one transaction with what is to be told: `is_told` says
/// whether anybody is. What ended before `keep_from` is forgotten. Where nothing is new nothing is written.
///
/// # Errors
/// The state cannot be used.
pub fn settle(
    store: &Store,
    signs: &Signs,
    is_told: bool,
    now: Timestamp,
    keep_from: Timestamp,
) -> Result<Vec<Turn>, StoreError> {
    let second = now.as_second();
    let known = store.open_troubles(second - AGAIN_WITHIN)?;
    let judged = judge(&known, signs, is_told, second);
    if judged.troubles.is_empty() && judged.forgotten.is_empty() {
        return Ok(Vec::new());
    }
    let lasts = |row: &TroubleRow| row.began.is_some() && row.ended.is_none();
    let lasted = |id: i64| id != 0 && known.iter().any(|row| row.id == id && lasts(row));
    store.write(|writer| {
        let mut turns = Vec::new();
        for (row, event) in judged.troubles.iter().zip(&judged.notices) {
            let id = writer.put_trouble(row)?;
            if lasts(row) != lasted(row.id) {
                turns.push(Turn { trouble: TroubleRow { id, ..row.clone() }, began: lasts(row) });
            }
            if let Some(event) = event {
                let then = serde_json::to_value(Then::of(row)).unwrap_or_default();
                writer.add_notice(id, *event, second, &then)?;
            }
        }
        judged.forgotten.iter().try_for_each(|id| writer.forget_trouble(*id))?;
        writer.prune_troubles(keep_from.as_second())?;
        Ok(turns)
    })
}

/// Tells what is to be told, one after the other and at least once each: it is noted before it is begun, and marked
/// after it is done. `tell` gets the notice with the number of its attempt; what it returns is why it failed. Returns
/// how many could not be told now.
///
/// # Errors
/// The state cannot be used.
pub async fn deliver(
    store: &Store,
    now: impl Fn() -> Timestamp,
    tell: impl AsyncFn(&Notice) -> Result<(), String>,
) -> Result<usize, StoreError> {
    let mut failed = 0;
    let mut tried = Vec::new();
    loop {
        let second = now().as_second();
        let mut open = store.notices()?;
        open.retain(|notice| !notice.is_given_up);
        let next = sendable(&open, second).into_iter().find(|notice| !tried.contains(&notice.id));
        let Some(notice) = next else { return Ok(failed) };
        tried.push(notice.id);
        let begun = store.write(|writer| writer.begin_notice(notice, second + CUT_OFF))?;
        // Another process is at it.
        let Some(attempt) = begun else { continue };
        let notice = Notice { attempt, ..notice.clone() };
        let told = tell(&notice).await;
        let second = now().as_second();
        store.write(|writer| match &told {
            Ok(()) => writer.end_notice(notice.id, None),
            Err(problem) => {
                let next = pause_of(&notice, second).map(|pause| second + pause);
                writer.end_notice(notice.id, Some((problem, next)))
            }
        })?;
        failed += usize::from(told.is_err());
    }
}

/// Tells which notice may be sent: the oldest of each trouble, when its time has come.
fn sendable(open: &[Notice], now: i64) -> Vec<&Notice> {
    let mut seen = Vec::new();
    let mut found = Vec::new();
    for notice in open {
        if seen.contains(&notice.trouble) {
            continue;
        }
        seen.push(notice.trouble);
        // A moment far ahead was noted under a wrong clock.
        if notice.next <= now || notice.next > now + REMIND_AFTER {
            found.push(notice);
        }
    }
    found
}

/// How long to wait before a notice is sent again, in seconds; `None`: it is given up, a day after it was first due.
fn pause_of(notice: &Notice, now: i64) -> Option<i64> {
    let pause = 60_i64.saturating_mul(1 << notice.attempt.min(10).saturating_sub(1)).min(3600);
    (now - notice.at < REMIND_AFTER).then_some(pause)
}
