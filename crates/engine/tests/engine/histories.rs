//! G3: random histories of two and three calendars kept alike, with one-way and busy copies of them on a board where
//! somebody scribbles. After each settles, all of them say what an independent model says, and what was lost is in
//! the history.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;

use chestnut_core::{Carry, Detail, Disagree, Entry, RouteKey, Shows};
use chestnut_engine::{Cause, Rule, Standing};
use chestnut_standin::{Fault, FaultKind, Habit};
use chestnut_store::ChangeAction;
use chestnut_testkit::{World, quick_folder};
use tempfile::TempDir;

use crate::dice::{Dice, Failure, empty_multistatus, run_histories};
use crate::one_way_histories::as_previewed;
use crate::places::{Place, whole};
use crate::regressions::details;

/// What an entry says, as far as these histories go.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
struct Fields {
    title: String,
    place: String,
    hour: usize,
    words: BTreeSet<String>,
    /// Days of the series that have a title of their own.
    days: BTreeMap<usize, String>,
}

fn text(uid: &str, fields: &Fields, modified: i64) -> String {
    let at = jiff::Timestamp::from_second(modified).expect("a moment").strftime("%Y%m%dT%H%M%SZ");
    let stamp = format!("UID:{uid}\r\nDTSTAMP:{at}\r\nLAST-MODIFIED:{at}\r\n");
    let hour = fields.hour;
    let words: Vec<_> = fields.words.iter().cloned().collect();
    let words = if words.is_empty() { String::new() } else { format!("CATEGORIES:{}\r\n", words.join(",")) };
    let changed = fields.days.iter().map(|(day, title)| {
        format!(
            "BEGIN:VEVENT\r\n{stamp}RECURRENCE-ID:202610{day:02}T{hour:02}0000Z\r\n\
             DTSTART:202610{day:02}T{hour:02}0000Z\r\nDURATION:PT1H\r\nSUMMARY:{title}\r\nEND:VEVENT\r\n"
        )
    });
    let changed: String = changed.collect();
    let place =
        if fields.place.is_empty() { String::new() } else { format!("LOCATION:{}\r\n", fields.place) };
    format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\n{stamp}\
         DTSTART:20261005T{hour:02}0000Z\r\nDURATION:PT1H\r\nRRULE:FREQ=DAILY;COUNT=20\r\nSUMMARY:{}\r\n{place}{words}\
         END:VEVENT\r\n{changed}END:VCALENDAR\r\n",
        fields.title
    )
}

/// Reads an entry back, from whatever a server made of it.
fn fields_of(entry: &Entry) -> Fields {
    let main = entry.main_component();
    let mut fields = Fields {
        title: entry.title(),
        place: main.value("LOCATION").unwrap_or_default().to_owned(),
        hour: main.value("DTSTART").and_then(|at| at[9..11].parse().ok()).expect("an hour"),
        ..Fields::default()
    };
    let lists = main.properties().filter(|p| p.is("CATEGORIES"));
    fields.words = lists.flat_map(|p| p.value().split(',').map(str::to_owned)).collect();
    for changed in entry.components() {
        if let Some(id) = changed.value("RECURRENCE-ID") {
            let day = id[6..8].parse().expect("a day");
            fields.days.insert(day, changed.value("SUMMARY").unwrap_or_default().to_owned());
        }
    }
    fields
}

/// One entry in the model: what was agreed, and what each calendar says, with the second of its last change.
#[derive(Debug, Clone, Default)]
struct Model {
    agreed: Option<Fields>,
    sides: Vec<Option<(Fields, i64)>>,
    /// Whether places are part of what was agreed.
    places_agreed: bool,
    /// Which place stood in each calendar when it last came to rest.
    places: Vec<String>,
}

impl Model {
    /// What must stand everywhere, and the words that do not count. Where places are not carried, each calendar keeps
    /// its own; once they are, they are put together as at a first run.
    fn settle(&mut self, prefer: Option<usize>, carries_places: bool) -> Vec<String> {
        let mut own = Vec::new();
        for (side, stands) in self.sides.iter().enumerate() {
            let before = self.places.get(side).filter(|_| self.agreed.is_some());
            own.push(stands.as_ref().map(|(f, _)| &f.place).or(before).cloned().unwrap_or_default());
        }
        let are_new = self.agreed.is_some() && !self.places_agreed;
        self.places_agreed = carries_places;
        let mut lost;
        if carries_places && !are_new {
            lost = self.settle_all(prefer);
        } else {
            let stood: Vec<_> = self.sides.iter().map(|held| held.as_ref().map(|(_, at)| *at)).collect();
            let all = self.sides.iter_mut().flatten().map(|(fields, _)| fields).chain(&mut self.agreed);
            all.for_each(|fields| fields.place.clear());
            let agreed = self.agreed.clone();
            lost = self.settle_all(prefer);
            if carries_places {
                // A place that nobody was told of is news, which outweighs a deletion.
                let is_told = |side: usize| stood[side].is_some() && !own[side].is_empty();
                if self.agreed.is_none() && (0..own.len()).any(is_told) {
                    self.agree(agreed, Vec::new());
                }
                let mut said: Vec<_> = (0..own.len()).filter(|side| stood[*side].is_some()).collect();
                said.retain(|side| !own[*side].is_empty());
                said.sort_by_key(|side| (Some(*side) != prefer, std::cmp::Reverse(stood[*side]), *side));
                let wins = said.first().map(|side| own[*side].clone()).unwrap_or_default();
                if self.agreed.is_some() {
                    lost.extend(said.iter().map(|side| own[*side].clone()).filter(|place| *place != wins));
                }
                own.fill(wins.clone());
                if let Some(agreed) = &mut self.agreed {
                    agreed.place = wins;
                }
            }
            for (held, place) in self.sides.iter_mut().zip(&own) {
                if let Some((fields, _)) = held {
                    fields.place = place.clone();
                }
            }
        }
        self.places = self
            .sides
            .iter()
            .map(|held| held.as_ref().map(|(f, _)| f.place.clone()).unwrap_or_default())
            .collect();
        lost
    }

    fn settle_all(&mut self, prefer: Option<usize>) -> Vec<String> {
        let now: Vec<(usize, Fields, i64)> = self
            .sides
            .iter()
            .enumerate()
            .filter_map(|(side, held)| held.clone().map(|(fields, at)| (side, fields, at)))
            .collect();
        let mut changed: Vec<_> =
            now.into_iter().filter(|(_, fields, _)| self.agreed.as_ref() != Some(fields)).collect();
        let gone = self.agreed.is_some() && self.sides.iter().any(Option::is_none);
        let mut lost = Vec::new();
        if changed.is_empty() {
            let result = if gone { None } else { self.agreed.clone() };
            return self.agree(result, lost);
        }
        changed.sort_by_key(|(side, _, at)| (Some(*side) != prefer, std::cmp::Reverse(*at), *side));
        let old = self.agreed.clone();
        // A series that was moved, of which another calendar changed a day.
        let first_hour = changed[0].1.hour;
        let hours_differ = changed.iter().any(|(_, f, _)| f.hour != first_hour);
        let touches = |f: &Fields| old.as_ref().is_none_or(|old| f.hour != old.hour || f.days != old.days);
        let moves = |f: &Fields| old.as_ref().map_or(hours_differ, |old| f.hour != old.hour);
        let touchers: Vec<Fields> =
            changed.iter().map(|(_, f, _)| f.clone()).filter(|f| touches(f)).collect();
        let differ = touchers.iter().any(|f| (f.hour, &f.days) != (touchers[0].hour, &touchers[0].days));
        let same_all = touchers.windows(2).all(|two| two[0] == two[1]);
        let coupled = touchers.len() > 1
            && touchers.iter().any(moves)
            && touchers.iter().any(|f| !f.days.is_empty())
            && !same_all;
        if coupled {
            let winner = touchers[0].clone();
            for (_, fields, _) in &mut changed {
                if touches(fields) && *fields != winner {
                    if differ {
                        lost.push(fields.title.clone());
                    }
                    let kept = old.as_ref().unwrap_or(&winner);
                    (fields.hour, fields.days) = (kept.hour, kept.days.clone());
                }
            }
        }
        let base = old.clone().unwrap_or_default();
        let mut result = base.clone();
        let is_new = old.is_none();
        let pick = |get: &dyn Fn(&Fields) -> String, lost: &mut Vec<String>| -> String {
            let said: Vec<_> = changed
                .iter()
                .map(|(_, f, _)| get(f))
                .filter(|v| (is_new && !v.is_empty()) || (!is_new && *v != get(&base)))
                .collect();
            let wins = said.iter().find(|v| !v.is_empty()).or(said.first());
            lost.extend(said.iter().filter(|v| Some(*v) != wins && !v.is_empty()).cloned());
            wins.cloned().unwrap_or_else(|| get(&base))
        };
        result.title = pick(&|f| f.title.clone(), &mut lost);
        result.place = pick(&|f| f.place.clone(), &mut lost);
        let mut hours = Vec::new();
        result.hour = pick(&|f| f.hour.to_string(), &mut hours).parse().expect("an hour");
        let all: BTreeSet<String> = changed.iter().flat_map(|(_, f, _)| f.words.iter().cloned()).collect();
        let removed =
            |w: &String| base.words.contains(w) && changed.iter().any(|(_, f, _)| !f.words.contains(w));
        result.words = base.words.union(&all).filter(|w| !removed(w)).cloned().collect();
        let days: BTreeSet<usize> = changed
            .iter()
            .flat_map(|(_, f, _)| f.days.keys().copied())
            .chain(base.days.keys().copied())
            .collect();
        for day in days {
            let title = pick(&|f| f.days.get(&day).cloned().unwrap_or_default(), &mut lost);
            match title.is_empty() {
                true => drop(result.days.remove(&day)),
                false => drop(result.days.insert(day, title)),
            }
        }
        self.agree(Some(result), lost)
    }

    fn agree(&mut self, result: Option<Fields>, lost: Vec<String>) -> Vec<String> {
        // What is written bears the stamp of the newest word.
        let newest = self.sides.iter().flatten().map(|(_, at)| *at).max().unwrap_or(0);
        for side in &mut self.sides {
            let is_written = side.as_ref().map(|(fields, _)| fields) != result.as_ref();
            let at = side.as_ref().filter(|_| !is_written).map_or(newest, |(_, at)| *at);
            *side = result.clone().map(|fields| (fields, at));
        }
        self.agreed = result;
        lost
    }
}

/// Habits that change how a server speaks, not what it keeps.
const HABITS: &[Option<Habit>] = &[
    None,
    Some(Habit::NamesItself),
    Some(Habit::CountsSeconds),
    Some(Habit::EtagCounts),
    Some(Habit::EtagMoves),
    Some(Habit::NoSync),
    Some(Habit::NoSyncNoCtag),
    Some(Habit::Forgets403),
    Some(Habit::Forgets412),
    Some(Habit::ForgetsSilently),
    Some(Habit::Reorders),
    Some(Habit::SplitsLists),
    Some(Habit::AddsDefaults),
    Some(Habit::WritesDuration),
    Some(Habit::NoEtagOnPut),
    Some(Habit::SpuriousRemovals),
    Some(Habit::RepeatsLastChange),
    Some(Habit::WeakEtags),
    Some(Habit::MultigetOmits),
    Some(Habit::IgnoresIfNoneMatch),
    Some(Habit::IgnoresIfMatch),
    Some(Habit::IfMatchCreates),
    Some(Habit::LowerHexHrefs),
    Some(Habit::Delete200),
    Some(Habit::GoneInside207),
    Some(Habit::UidConflict409),
    Some(Habit::TrimsTexts),
];

/// What another client wrote in the middle of a run.
struct Meddled {
    side: usize,
    uid: String,
    /// What stood there.
    old: String,
    new: String,
    title: String,
}

struct History {
    world: World,
    /// Where the calendars that are kept alike stand.
    places: Vec<Place>,
    _folder: TempDir,
    dice: Dice,
    /// Disagreements wait for a person, who always takes this calendar's word.
    prefer: Option<usize>,
    carries_places: bool,
    models: BTreeMap<String, Model>,
    names: BTreeMap<(usize, String), String>,
    values: usize,
    /// Which calendar's entries are shown on the notice board, and what else stands there.
    shown: usize,
    notes: BTreeSet<String>,
    meddled: Rc<RefCell<Option<Meddled>>>,
    log: Vec<String>,
}

impl History {
    fn new(seed: u64) -> Self {
        let mut dice = Dice::new(seed);
        let mut world = World::new(0);
        world.allow_deletions = true;
        world.batch = 1 + (seed % 4) as usize;
        world.between = 2 + dice.roll(2);
        world.kinds = vec![chestnut_core::Kind::Event];
        world.shape = Rc::new(|route: &mut Rule| {
            route.carry = Carry { shows: Shows::Busy("Taken".into()), ..Carry::default() };
        });
        let folder = quick_folder();
        let local = match seed % 11 {
            5 => {
                let path = folder.path().join("crews");
                std::fs::create_dir(&path).expect("a folder");
                Some(Place::Folder(path))
            }
            7 => {
                let path = folder.path().join("crews.ics");
                std::fs::write(&path, whole("")).expect("written");
                Some(Place::File(path))
            }
            _ => None,
        };
        let mut places: Vec<Place> =
            world.sides().into_iter().map(|end| Place::Server(end.clone())).collect();
        let prefer = (dice.roll(4) == 0).then(|| dice.roll(world.between));
        let mut log = vec![format!("between {}, decided for {prefer:?}", world.between)];
        let shown = dice.roll(world.between);
        for side in world.sides().into_iter().chain([&world.board]) {
            if let Some(habit) = HABITS[dice.roll(HABITS.len())] {
                world.habit(side, habit);
                log.push(format!("{} {habit:?}", side.path));
            }
        }
        if let Some(local) = local {
            log.push(format!("calendar 1 is {local:?}"));
            places[1] = local;
        }
        Self {
            world,
            places,
            _folder: folder,
            dice,
            prefer,
            carries_places: true,
            models: BTreeMap::new(),
            names: BTreeMap::new(),
            values: 0,
            shown,
            notes: BTreeSet::new(),
            meddled: Rc::default(),
            log,
        }
    }

    fn value(&mut self) -> String {
        self.values += 1;
        format!("v{}", self.values)
    }

    /// Somebody changes something in one calendar.
    fn live(&mut self) {
        self.world.pass(2 + self.dice.roll(90) as i64);
        let side = self.dice.roll(self.world.between);
        let uid = format!("crew-{}", self.dice.roll(4));
        let held = self.models.get(&uid).and_then(|m| m.sides[side].clone());
        let Some((mut fields, _)) = held else {
            let fields = Fields { title: self.value(), hour: 7 + self.dice.roll(3), ..Fields::default() };
            self.put(side, &uid, fields, "creates");
            return;
        };
        match self.dice.roll(10) {
            0 => {
                let name = self.names.remove(&(side, uid.clone())).expect("it stands there");
                self.places[side].set(&self.world, &name, None);
                self.models.get_mut(&uid).expect("a model").sides[side] = None;
                self.log.push(format!("{side} deletes {uid}"));
            }
            1 => {
                // A client that deletes and makes anew, at another place.
                let name = self.names.remove(&(side, uid.clone())).expect("it stands there");
                self.places[side].set(&self.world, &name, None);
                if self.dice.roll(2) == 0 {
                    fields.title = self.value();
                }
                self.put(side, &uid, fields, "makes anew");
            }
            2 | 3 => {
                fields.title = self.value();
                self.put(side, &uid, fields, "renames");
            }
            4 => {
                fields.place = if fields.place.is_empty() || self.dice.roll(3) > 0 {
                    self.value()
                } else {
                    String::new()
                };
                self.put(side, &uid, fields, "moves");
            }
            5 => {
                fields.hour = 7 + self.dice.roll(6);
                self.put(side, &uid, fields, "shifts");
            }
            6 | 7 => {
                let word = format!("w{}", self.dice.roll(4));
                if !fields.words.remove(&word) {
                    fields.words.insert(word);
                }
                self.put(side, &uid, fields, "labels");
            }
            _ => {
                let day = 6 + self.dice.roll(3);
                let title = self.value();
                if self.dice.roll(3) > 0 || fields.days.remove(&day).is_none() {
                    fields.days.insert(day, title);
                }
                self.put(side, &uid, fields, "changes a day of");
            }
        }
    }

    fn put(&mut self, side: usize, uid: &str, fields: Fields, what: &str) {
        self.log.push(format!("{side} {what} {uid}: {fields:?}"));
        let new_name = match &self.places[side] {
            Place::File(_) => uid.to_owned(),
            Place::Server(_) | Place::Folder(_) => format!("{uid}-{}.ics", self.values),
        };
        let name = self.names.entry((side, uid.to_owned())).or_insert(new_name);
        let at = self.world.now();
        self.places[side].set(&self.world, name, Some(&text(uid, &fields, at)));
        let between = self.world.between;
        let new = || Model { sides: vec![None; between], ..Model::default() };
        self.models.entry(uid.to_owned()).or_insert_with(new).sides[side] = Some((fields, at));
    }

    /// Syncs until nothing is written any more; the first run may be cut off, or lose an answer.
    fn settle(&mut self) -> Result<(), String> {
        self.world.pass(60);
        let side = self.dice.roll(self.world.between);
        let status = |code| FaultKind::Status { code, retry_after: None };
        // A file's entries have no texts of their own.
        let of_its_own = |((side, _), text)| (!matches!(self.places[side], Place::File(_))).then_some(text);
        let mut before: BTreeSet<String> = self.texts().into_iter().filter_map(of_its_own).collect();
        if self.dice.once_in(5) {
            self.carries_places = !self.carries_places;
            self.log.push(format!("places are carried: {}", self.carries_places));
        }
        let (carries, holds) = (self.carries_places, self.prefer.is_some());
        let calendars: Vec<_> = self.places.iter().map(|place| place.local()).collect();
        self.world.shape_two_way = Rc::new(move |route| {
            for (end, local) in route.ends.iter_mut().zip(&calendars) {
                if let Some(local) = local {
                    end.calendar = local.calendar();
                }
            }
            if holds {
                route.disagree = Disagree::Hold;
            }
            if !carries {
                let all = Detail::ALL.into_iter().filter(|detail| *detail != Detail::Location);
                route.carry = details(&all.collect::<Vec<_>>());
            }
        });
        // Not each time: whoever compares has looked at all there is.
        if self.dice.once_in(4) {
            self.compare()?;
        }
        let (mut fault, mut is_quiet) = (None, false);
        match self.dice.roll(12) {
            0 => {
                let step = self.dice.roll(60);
                self.log.push(format!("killed at {step}"));
                self.world.kill_at(Some(step), self.dice.roll(2) == 0);
                drop(self.world.try_sync_two_way());
                self.world.kill_at(None, false);
            }
            1 => fault = Some(("PUT", FaultKind::LoseAnswer)),
            2 => {
                let code = [412, 404, 403, 409, 507, 500][self.dice.roll(6)];
                fault = Some((if self.dice.roll(4) > 0 { "PUT" } else { "DELETE" }, status(code)));
            }
            3 => {
                let page =
                    FaultKind::Body { code: 200, content_type: "text/html".into(), text: "<html>".into() };
                let kind = [status(500), status(404), FaultKind::HalfBody, page][self.dice.roll(4)].clone();
                fault = Some((if self.dice.roll(2) > 0 { "GET" } else { "REPORT" }, kind));
            }
            4 => {
                self.log.push("the state is lost".to_owned());
                self.world.lose_state();
                self.models.values_mut().for_each(|model| model.agreed = None);
            }
            5 => {
                fault = Some((["REPORT", "PROPFIND"][self.dice.roll(2)], empty_multistatus()));
            }
            6 => {
                self.world.second_process(["PUT", "GET", "REPORT"][self.dice.roll(3)], 1 + self.dice.roll(2))
            }
            7 if self.carries_places => self.meddle(),
            _ => is_quiet = true,
        }
        let is_faulty = fault.is_some();
        if let Some((method, kind)) = fault {
            self.log.push(format!("{side}: one {method} meets {kind:?}"));
            self.world.sides()[side].server.borrow_mut().faults.push(Fault::once(method, kind));
        }
        // A server that leaves out what was deleted tells of it only once something is written there.
        let sides = self.world.sides();
        let is_told = !sides.iter().any(|end| end.server.borrow().has(Habit::ForgetsSilently));
        let previewed = (is_quiet && is_told).then(|| self.world.preview_of(&self.world.two_way()));
        for round in 0.. {
            let waiting = || self.world.sides()[side].server.borrow().faults.len();
            let before = waiting();
            let report = self.world.try_sync_two_way().map_err(|e| e.to_string())?;
            let was_met = waiting() < before;
            self.log.push(format!(
                "sync: {:?} {:?} {:?}",
                report.summary.calendars,
                report.summary.error,
                report
                    .changes
                    .iter()
                    .map(|c| (c.action, c.calendar.clone(), c.uid.clone(), c.told.clone()))
                    .collect::<Vec<_>>()
            ));
            if let Some(previewed) = previewed.as_ref().filter(|_| round == 0) {
                as_previewed(previewed, &report)?;
            }
            // What was refused for a while is sent again after a pause.
            self.world.pass(if is_faulty { 3600 } else { 60 });
            let is_decided = self.decide();
            if report.summary.writes == 0 && report.error.is_none() && !is_decided && !was_met {
                break;
            }
            if round == 5 {
                return Err(format!("it does not come to rest: {:#?}", report.changes));
            }
        }
        self.world.sides()[side].server.borrow_mut().faults.clear();
        self.world.meanwhile("", 1, || {});
        let meddled = self.meddled.take();
        if let Some(Meddled { side, uid, old, new, title }) = &meddled {
            before.remove(old);
            before.insert(new.clone());
            self.log.push(format!("in the middle of it, {side} was given {title} for {uid}"));
        }
        // Whatever was replaced or deleted is in the history.
        let plain = |text: &str| text.replace('\r', "");
        let after: BTreeSet<String> = self.texts().into_values().collect();
        let kept: BTreeSet<String> =
            self.changes().filter_map(|c| c.before).map(|text| plain(&text.text)).collect();
        if let Some(lost) = before.iter().find(|text| !after.contains(*text) && !kept.contains(&plain(text)))
        {
            return Err(format!("not in the history: {lost}"));
        }
        let mut lost = Vec::new();
        for model in self.models.values_mut() {
            lost.extend(model.settle(self.prefer, self.carries_places));
        }
        if let Some(Meddled { uid, old, title, .. }) = meddled
            && let Some(model) = self.models.get_mut(&uid)
        {
            // What was written over there was not for us to keep. What came last counts, or does not: then that is told.
            lost.retain(|word| !plain(&old).contains(&format!(":{word}\n")));
            match after.iter().find(|text| plain(text).contains(&format!("SUMMARY:{title}\n"))) {
                Some(text) => {
                    let entry =
                        Entry::parse(text, &chestnut_core::ical::Limits::default()).expect("an entry");
                    model.agree(Some(fields_of(&entry)), Vec::new());
                }
                None => lost.push(title),
            }
        }
        self.models.retain(|_, model| model.agreed.is_some());
        if self.dice.once_in(4) {
            self.compare()?;
        }
        let unreported: Vec<_> = lost.iter().filter(|word| !self.is_overruled(word)).collect();
        if !unreported.is_empty() {
            return Err(format!("{unreported:?} lost, and nobody told of it"));
        }
        self.check()
    }

    /// A comparison says of each entry what the calendars themselves say.
    fn compare(&self) -> Result<(), String> {
        let compared = self.world.compare_of(&self.world.two_way()).map_err(|e| e.to_string())?;
        let mut said: BTreeMap<String, Standing> = BTreeMap::new();
        for finding in &compared.findings {
            said.insert(finding.uid.clone(), finding.standing);
            let is_told = matches!(finding.cause, Cause::Due | Cause::Held | Cause::Failed { .. });
            if !is_told {
                return Err(format!("compared: {finding:?}"));
            }
        }
        let carried = |fields: &Fields| match self.carries_places {
            true => fields.clone(),
            false => Fields { place: String::new(), ..fields.clone() },
        };
        let mut is: BTreeMap<String, Standing> = BTreeMap::new();
        let (mut entries, mut in_step) = (0, 0);
        for (uid, model) in &self.models {
            let stands: Vec<_> = model.sides.iter().flatten().map(|(fields, _)| carried(fields)).collect();
            entries += usize::from(!stands.is_empty());
            let is_alike = stands.windows(2).all(|two| two[0] == two[1]);
            match (stands.len() == model.sides.len(), is_alike) {
                _ if stands.is_empty() => {}
                (true, true) => in_step += 1,
                (true, false) => drop(is.insert(uid.clone(), Standing::Differs)),
                (false, _) => drop(is.insert(uid.clone(), Standing::Missing)),
            }
        }
        // The story of each entry says the same.
        for (uid, model) in self.models.iter().filter(|(_, model)| model.sides.iter().any(Option::is_some)) {
            let stories = self.world.stories_of(&self.world.two_way(), uid).map_err(|e| e.to_string())?;
            let [story] = &stories[..] else { return Err(format!("{} stories of {uid}", stories.len())) };
            let stands = story.places.iter().filter(|place| place.stands == Some(true)).count();
            let is_other = story.findings.is_empty() == is.contains_key(uid);
            if is_other || stands != model.sides.iter().flatten().count() {
                return Err(format!("the story of {uid}: {story:#?}, is {:?}", is.get(uid)));
            }
        }
        match (compared.entries, compared.in_step, said) == (entries, in_step, is.clone()) {
            true => Ok(()),
            false => Err(format!("compared {compared:#?}, is {is:?}, {in_step} of {entries} in step")),
        }
    }

    /// Answers what waits for a person. Returns whether anything did.
    fn decide(&self) -> bool {
        let Some(side) = self.prefer else { return false };
        let store = self.world.store();
        let held = store.held(None).expect("what is held");
        let open: Vec<_> = held.iter().filter(|item| item.decision.is_none()).collect();
        let name = ["source", "target", "third"][side];
        for item in &open {
            store.write(|writer| writer.decide(item.id, name)).expect("written");
        }
        !open.is_empty()
    }

    /// What stands in the calendars that are kept alike, by a name.
    fn texts(&self) -> BTreeMap<(usize, String), String> {
        let texts = |(at, place): (usize, &Place)| {
            place.texts().into_iter().map(move |(name, text)| ((at, name), text))
        };
        self.places.iter().enumerate().flat_map(texts).collect()
    }

    /// Another client changes a title between our write and our reading back.
    fn meddle(&mut self) {
        let standing = self.texts();
        let at = self.dice.roll(standing.len().max(1));
        let Some(((side, name), text)) = standing.into_iter().nth(at) else { return };
        let Place::Server(end) = &self.places[side] else { return };
        // Where conditions are ignored, nobody can keep what is written at this moment.
        let ignores = [Habit::IgnoresIfMatch, Habit::IgnoresIfNoneMatch, Habit::IfMatchCreates];
        if ignores.iter().any(|habit| end.server.borrow().habits.contains(habit)) {
            return;
        }
        let uid =
            Entry::parse(&text, &chestnut_core::ical::Limits::default()).expect("an entry").uid().to_string();
        let (server, path, meddled) = (Rc::clone(&end.server), end.path.clone(), Rc::clone(&self.meddled));
        let title = self.value();
        let nth = 1 + self.dice.roll(3);
        self.world.meanwhile("PUT", nth, move || {
            let mut server = server.borrow_mut();
            let Some(old) = server.texts(&path).remove(&name) else { return };
            let entry = Entry::parse(&old, &chestnut_core::ical::Limits::default()).expect("an entry");
            let new =
                old.replacen(&format!("SUMMARY:{}", fields_of(&entry).title), &format!("SUMMARY:{title}"), 1);
            server.store_raw(&path, &name, new.clone());
            *meddled.borrow_mut() = Some(Meddled { side, uid, old, new, title });
        });
    }

    /// All that the history of the two-way route tells.
    fn changes(&self) -> impl Iterator<Item = chestnut_store::Change> {
        let store = self.world.store();
        let runs = store.runs(Some("crews"), 1000).expect("the history");
        runs.into_iter().flat_map(move |run| store.changes(run.id).expect("the history"))
    }

    /// Tells whether a text with this word stands in the history, as one that did not count.
    fn is_overruled(&self, word: &str) -> bool {
        let mut texts =
            self.changes().filter(|c| c.action == ChangeAction::Overruled).filter_map(|c| c.before);
        texts.any(|text| text.text.replace('\r', "").contains(&format!(":{word}\n")))
    }

    fn check(&mut self) -> Result<(), String> {
        self.names.clear();
        for (number, place) in self.places.iter().enumerate() {
            let texts = place.texts();
            let mut found = BTreeMap::new();
            for (name, text) in texts {
                let entry = Entry::parse(&text, &chestnut_core::ical::Limits::default())
                    .map_err(|e| e.to_string())?;
                self.names.insert((number, entry.uid().to_string()), name);
                if found.insert(entry.uid().to_string(), fields_of(&entry)).is_some() {
                    return Err(format!("{} stands twice in {number}", entry.uid()));
                }
            }
            let expected: BTreeMap<_, _> = self
                .models
                .iter()
                .filter_map(|(uid, m)| Some((uid.clone(), m.sides[number].clone()?.0)))
                .collect();
            if found != expected {
                return Err(format!("calendar {number}: {found:#?}, expected {expected:#?}"));
            }
        }
        Ok(())
    }

    /// Somebody scribbles on the notice board, where copies are put right, and nobody's entries are left.
    fn scribble(&mut self) {
        let texts = self.world.board.server.borrow().texts(&self.world.board.path);
        let copies = texts.into_iter().filter(|(_, text)| !text.contains("UID:note-"));
        let copies: Vec<_> = copies.map(|(name, _)| name).collect();
        let picked = (!copies.is_empty()).then(|| copies[self.dice.roll(copies.len())].clone());
        match (self.dice.roll(4), picked) {
            (0, Some(name)) => {
                self.world.delete(&self.world.board, &name);
                self.log.push(format!("the board loses {name}"));
            }
            (1, Some(name)) => {
                self.world.edit(&self.world.board, &name, "SUMMARY:", "SUMMARY:Scrawled over ");
                self.log.push(format!("the board has {name} changed"));
            }
            (2, _) => {
                let note = format!("note-{}", self.value());
                let fields = Fields { title: "A note".into(), hour: 8, ..Fields::default() };
                let written = text(&note, &fields, self.world.now());
                self.world.write(&self.world.board, &format!("{note}.ics"), &written);
                self.log.push(format!("the board gets {note}"));
                self.notes.insert(note);
            }
            _ => {}
        }
    }

    /// Two one-way routes into one calendar beside the two-way one: one copies what a calendar holds, one shows
    /// its busy time. Either may be cut off, and either may come first.
    fn copy_to_board(&mut self) -> Result<(), String> {
        let first = self.dice.roll(2);
        self.scribble();
        self.world.pass(60);
        let board = &self.world.board;
        let mut source = self.world.route_at(self.world.sides()[self.shown]);
        if let Some(local) = self.places[self.shown].local() {
            source.calendar = local.calendar();
        }
        let key = RouteKey::new(b"a key for tests", "wall");
        let wall = Rule::one_way("wall", source.clone(), self.world.route_at(board), key);
        let busy = self.world.route();
        let ends = (source, self.world.route_at(board));
        let busy = Rule { ends: Rule::one_way("", ends.0, ends.1, busy.key.clone()).ends, ..busy };
        let known_tags: Rc<[_]> = Rc::new([busy.key.tag().clone(), wall.key.tag().clone()]);
        let (wall, busy) = (Rule { known_tags: known_tags.clone(), ..wall }, Rule { known_tags, ..busy });
        let mut routes = [&wall, &busy];
        routes.rotate_left(first);
        if self.dice.roll(4) == 0 {
            let step = self.dice.roll(30);
            self.log.push(format!("{} killed at {step}", routes[0].name));
            self.world.kill_at(Some(step), self.dice.roll(2) == 0);
            drop(self.world.run(routes[0]));
            self.world.kill_at(None, false);
        }
        for round in 0.. {
            let mut writes = 0;
            for route in routes {
                let report = self.world.run(route).map_err(|e| e.to_string())?;
                self.log.push(format!("{}: {:?}", route.name, report.summary));
                writes += report.summary.writes + u64::from(report.error.is_some());
                self.world.pass(60);
            }
            match (writes, round) {
                (0, _) => break,
                (_, 5) => return Err("the board does not come to rest".into()),
                _ => {}
            }
        }
        let (mut copies, mut hours, mut notes) = (Vec::new(), Vec::new(), BTreeSet::new());
        for entry in self.world.entries(board) {
            let fields = fields_of(&entry);
            match entry.title().as_str() {
                "Taken" => hours.push(fields.hour),
                "A note" => drop(notes.insert(entry.uid().to_string())),
                _ => copies.push(format!("{fields:?}")),
            }
        }
        let shown = |model: &Model| model.sides[self.shown].clone().map(|(fields, _)| fields);
        let agreed: Vec<_> = self.models.values().filter_map(shown).collect();
        let mut expected: Vec<_> = agreed.iter().map(|fields| format!("{fields:?}")).collect();
        let mut taken: Vec<_> = agreed.iter().map(|fields| fields.hour).collect();
        [&mut copies, &mut expected].into_iter().for_each(|list| list.sort());
        [&mut hours, &mut taken].into_iter().for_each(|list| list.sort_unstable());
        if (&copies, &hours, &notes) != (&expected, &taken, &self.notes) {
            return Err(format!(
                "the board: {copies:#?} {hours:?} {notes:?}, expected {expected:#?} {taken:?} {:?}",
                self.notes
            ));
        }
        Ok(())
    }
}

fn history(seed: u64) -> Result<(), Failure> {
    let mut history = History::new(seed);
    for _ in 0..3 {
        for _ in 0..1 + history.dice.roll(5) {
            history.live();
        }
        history.settle().map_err(|e| (e, history.log.clone()))?;
        if history.dice.roll(4) == 0 {
            history.copy_to_board().map_err(|e| (e, history.log.clone()))?;
        }
    }
    Ok(())
}

#[test]
fn replicas_converge_and_no_edit_vanishes_unreported() {
    run_histories(&[605_615, 905_608, 1_301_633, 7_001_221, 11_603_250, 20_702_197], history);
}
