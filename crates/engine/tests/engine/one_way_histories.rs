//! G3: random histories of one-way routes whose rule changes: from a server, a file or a folder into a server, a file or a
//! folder, with entries of the far owner's own, somebody who scribbles, a second process, servers that fail, and a
//! state that is lost. After each settles: every entry that the rule takes stands there once and shows what it may,
//! nobody's own entries are gone, and every text that was replaced or deleted is in the history.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::rc::Rc;

use chestnut_core::{
    Carry, Deletions, Detail, Entry, FarEdits, Kind, Matches, PastCopies, Reach, Shows, Test, Window,
};
use chestnut_engine::{Cause, Finding, Makes, PreviewReport, Rule, RunReport, Standing, Why};
use chestnut_standin::{Fault, FaultKind, Habit};
use chestnut_store::{Counts, Told};
use chestnut_testkit::{World, quick_folder};
use tempfile::TempDir;

use crate::dice::{Dice, Failure, empty_multistatus, run_histories};
use crate::places::{Place, parse, whole};
use crate::regressions::details;

/// The world's first day is the fifth.
const TODAY: usize = 5;
/// How far ahead a narrow window reaches.
const NARROW: usize = 3;

/// An entry of the source: one event, or one on each of some days.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Original {
    title: String,
    place: String,
    day: usize,
    hour: usize,
    /// How many days in a row; 1 is no series.
    count: usize,
    /// A day of the series that has a title of its own, and whether it is private where the series is not.
    special: Option<(usize, String, bool)>,
    is_private: bool,
}

impl Original {
    fn components(&self, uid: &str) -> String {
        let Self { title, place, day, hour, count, .. } = self;
        let class = if self.is_private { "CLASS:PRIVATE\r\n" } else { "" };
        let rule = if *count > 1 { format!("RRULE:FREQ=DAILY;COUNT={count}\r\n") } else { String::new() };
        let place = if place.is_empty() { String::new() } else { format!("LOCATION:{place}\r\n") };
        let mut text = format!(
            "BEGIN:VEVENT\r\nUID:{uid}\r\nDTSTAMP:20261001T080000Z\r\nDTSTART:202610{day:02}T{hour:02}0000Z\r\n\
             DURATION:PT1H\r\n{rule}SUMMARY:{title}\r\n{place}{class}END:VEVENT\r\n"
        );
        if let Some((day, title, is_private)) =
            self.special.as_ref().filter(|(special, ..)| (*day..day + count).contains(special))
        {
            let class = if *is_private { "CLASS:PRIVATE\r\n" } else { class };
            write!(
                text,
                "BEGIN:VEVENT\r\nUID:{uid}\r\nDTSTAMP:20261001T080000Z\r\nRECURRENCE-ID:202610{day:02}T{hour:02}0000Z\r\n\
                 DTSTART:202610{day:02}T{hour:02}0000Z\r\nDURATION:PT1H\r\nSUMMARY:{title}\r\n{class}END:VEVENT\r\n"
            )
            .expect("a string");
        }
        text
    }

    /// The words by which it could be told.
    fn words(&self) -> Vec<&str> {
        let special = self.special.iter().map(|(_, title, _)| title.as_str());
        [self.title.as_str(), self.place.as_str()]
            .into_iter()
            .chain(special)
            .filter(|w| !w.is_empty())
            .collect()
    }
}

/// A text as XML brings it along.
fn plain(text: &str) -> String {
    text.replace('\r', "")
}

/// What the route says at the moment.
#[derive(Debug, Clone, Copy)]
struct Says {
    shows: usize,
    skips_private: bool,
    is_narrow: bool,
    keeps: bool,
    leaves: bool,
    owns: bool,
}

impl Says {
    fn roll(dice: &mut Dice) -> Self {
        Self {
            shows: dice.roll(3),
            skips_private: dice.once_in(2),
            is_narrow: dice.once_in(3),
            keeps: dice.once_in(6),
            leaves: dice.once_in(5),
            owns: dice.once_in(3),
        }
    }

    fn apply(self, rule: &mut Rule) {
        rule.carry = match self.shows {
            0 => Carry::default(),
            1 => Carry { shows: Shows::Busy("Taken".into()), ..Carry::default() },
            _ => details(&[Detail::Title]),
        };
        rule.kinds = [Kind::Event].into_iter().collect();
        rule.choice.skip = if self.skips_private { vec![Test::Private(true)] } else { Vec::new() };
        let ahead = if self.is_narrow { Reach::Days(NARROW as i32) } else { Reach::Unlimited };
        rule.window = Window { past: Reach::Unlimited, ahead };
        rule.past_copies = PastCopies::Keep;
        rule.deletions = if self.keeps { Deletions::Keep } else { Deletions::Carry };
        rule.far_edits = if self.leaves { FarEdits::Leave } else { FarEdits::Correct };
        rule.matches = if self.owns { Matches::Own } else { Matches::Follow };
    }
}

/// What somebody looks for on the far side: title, place, day and hour.
type Shown = (String, String, usize, usize);

const HABITS: &[Option<Habit>] = &[
    None,
    Some(Habit::NamesItself),
    Some(Habit::CountsSeconds),
    Some(Habit::EtagMoves),
    Some(Habit::NoSync),
    Some(Habit::NoSyncNoCtag),
    Some(Habit::Forgets403),
    Some(Habit::ForgetsSilently),
    Some(Habit::Reorders),
    Some(Habit::AddsDefaults),
    Some(Habit::WritesDuration),
    Some(Habit::AddsDuration),
    Some(Habit::NoEtagOnPut),
    Some(Habit::SpuriousRemovals),
    Some(Habit::WeakEtags),
    Some(Habit::MultigetOmits),
    Some(Habit::IgnoresIfNoneMatch),
    Some(Habit::IgnoresIfMatch),
    Some(Habit::LowerHexHrefs),
    Some(Habit::UidConflict409),
    Some(Habit::UidConflictBare),
    Some(Habit::TrimsTexts),
];

struct History {
    world: World,
    dice: Dice,
    source: Place,
    target: Place,
    makes: Makes,
    says: Says,
    originals: BTreeMap<String, Original>,
    /// The name under which an original stands.
    names: BTreeMap<String, String>,
    /// UIDs of the far owner's own entries, each with a mark that nobody else writes.
    own: BTreeSet<String>,
    /// Sources that need not be shown: a copy was let go, or never came to be.
    optional: BTreeSet<String>,
    /// What somebody else replaced in the middle of a run, and with what.
    between: Rc<RefCell<Vec<(String, String)>>>,
    was_lost: bool,
    /// A publisher that invents new UIDs each time.
    rotates: bool,
    values: usize,
    log: Vec<String>,
    _folder: TempDir,
}

impl History {
    fn new(seed: u64) -> Self {
        let mut dice = Dice::new(seed);
        let mut world = World::new(0);
        world.allow_deletions = true;
        world.batch = 1 + dice.roll(4);
        let folder = quick_folder();
        let mut log = Vec::new();
        let mut place = |slug: &str, dice: &mut Dice| match dice.roll(5) {
            0 => {
                let path = folder.path().join(format!("{slug}.ics"));
                std::fs::write(&path, whole("")).expect("written");
                Place::File(path)
            }
            1 => {
                let path = folder.path().join(slug);
                std::fs::create_dir(&path).expect("a folder");
                Place::Folder(path)
            }
            _ => {
                let end = if slug == "from" { &world.source } else { &world.target };
                if let Some(habit) = HABITS[dice.roll(HABITS.len())] {
                    world.habit(end, habit);
                    log.push(format!("{slug}: {habit:?}"));
                }
                Place::Server(end.beside(slug))
            }
        };
        let (source, target) = (place("from", &mut dice), place("to", &mut dice));
        let rotates = matches!(source, Place::File(_)) && dice.once_in(3);
        let makes =
            [Makes::Occurrences, Makes::Blocks, Makes::Entries, Makes::Entries, Makes::Entries][dice.roll(5)];
        let says = Says::roll(&mut dice);
        log.push(format!("makes {makes:?}, {says:?}"));
        let (originals, names, own) = Default::default();
        Self {
            world,
            dice,
            source,
            target,
            makes,
            says,
            originals,
            names,
            own,
            optional: BTreeSet::new(),
            between: Rc::default(),
            was_lost: false,
            rotates,
            values: 0,
            log,
            _folder: folder,
        }
    }

    fn value(&mut self) -> String {
        self.values += 1;
        format!("v{}x", self.values)
    }

    /// The route as it is now.
    fn rule(&self) -> Rule {
        let mut rule = self.world.route();
        for (end, place) in rule.ends.iter_mut().zip([&self.source, &self.target]) {
            end.calendar = match (place, place.local()) {
                (Place::Server(at), _) => self.world.route_at(at).calendar,
                (_, Some(local)) => local.calendar(),
                (_, None) => panic!("it stands somewhere"),
            };
        }
        rule.makes = self.makes;
        self.says.apply(&mut rule);
        rule
    }

    /// The publisher writes the same entries under new UIDs.
    fn rotate(&mut self) {
        let Place::File(path) = &self.source else { return };
        self.values += 1;
        let mut all = String::new();
        for (uid, original) in &self.originals {
            let name = format!("{uid}-r{}", self.values);
            all += &original.components(&name);
            self.names.insert(uid.clone(), name);
        }
        std::fs::write(path, whole(&all)).expect("written");
    }

    /// Somebody changes something in the source.
    fn live(&mut self) {
        self.world.pass(2 + self.dice.roll(90) as i64);
        let uid = format!("crew-{}", self.dice.roll(5));
        let Some(mut original) = self.originals.get(&uid).cloned() else {
            let (title, count) = (self.value(), [1, 1, 3][self.dice.roll(3)]);
            let (day, hour) = (TODAY + 1 + self.dice.roll(6), 7 + self.dice.roll(3));
            let is_private = self.dice.once_in(3);
            return self.put(
                &uid,
                Original { title, place: String::new(), day, hour, count, special: None, is_private },
            );
        };
        match self.dice.roll(9) {
            0 | 1 => {
                let name = self.names.remove(&uid).expect("a name");
                self.source.set(&self.world, &name, None);
                self.originals.remove(&uid);
                self.log.push(format!("the source loses {uid}"));
                return;
            }
            2 => original.title = self.value(),
            3 => original.place = self.value(),
            4 => original.hour = 7 + self.dice.roll(6),
            5 => original.is_private = !original.is_private,
            6 => original.day = TODAY + 1 + self.dice.roll(6),
            7 => {
                let day = original.day + self.dice.roll(3);
                original.special = Some((day, self.value(), self.dice.once_in(3)));
            }
            _ => original.count = 1 + self.dice.roll(3),
        }
        self.put(&uid, original);
    }

    fn put(&mut self, uid: &str, original: Original) {
        self.log.push(format!("the source has {uid}: {original:?}"));
        let new = match self.source {
            Place::File(_) => uid.to_owned(),
            _ => format!("{uid}-{}.ics", self.values),
        };
        let name = self.names.entry(uid.to_owned()).or_insert(new).clone();
        let uid_there = if self.rotates { &name } else { uid };
        self.source.set(&self.world, &name, Some(&whole(&original.components(uid_there))));
        self.originals.insert(uid.to_owned(), original);
    }

    /// Somebody on the far side writes something of their own, sometimes what is a source too, or scribbles.
    fn scribble(&mut self) {
        self.world.pass(2 + self.dice.roll(90) as i64);
        let texts = self.target.texts();
        let picked: Vec<_> = texts.into_iter().filter(|(_, text)| !text.contains("X-ORCHARD-OWN")).collect();
        let which = self.dice.roll(picked.len().max(1));
        match (self.dice.roll(6), picked.into_iter().nth(which)) {
            (0, _) => {
                let taken =
                    self.originals.iter().nth(self.dice.roll(8)).map(|(uid, o)| (uid.clone(), o.clone()));
                let (uid, title, day, hour) = match taken {
                    // The same entry came here by another way.
                    Some((uid, original)) => {
                        let uid = if self.dice.once_in(2) { uid } else { format!("own-{}", self.value()) };
                        (uid, original.title, original.day, original.hour)
                    }
                    None => (format!("own-{}", self.value()), "A note".into(), TODAY + 2, 8),
                };
                if self.target.texts().values().any(|text| parse(text).uid().as_str() == uid) {
                    return;
                }
                let mark = format!("DESCRIPTION:Bring the ladder\r\nX-ORCHARD-OWN:{uid}\r\nEND:VEVENT");
                let made = Original {
                    title,
                    place: String::new(),
                    day,
                    hour,
                    count: 1,
                    special: None,
                    is_private: false,
                };
                let text = whole(&made.components(&uid).replace("END:VEVENT", &mark));
                self.target.set(&self.world, &format!("{uid}.ics"), Some(&text));
                self.log.push(format!("the far side has its own {text}"));
                self.own.insert(uid);
            }
            (1, Some((name, text))) => {
                self.target.set(&self.world, &name, Some(&text.replace("SUMMARY:", "SUMMARY:Scrawled ")));
                self.log.push(format!("{name} is scrawled over"));
                self.scrawled();
            }
            (2, Some((name, text))) => {
                self.target.set(&self.world, &name, None);
                self.log.push(format!("{name} is deleted on the far side"));
                self.scrawled();
                if self.was_lost && !parse(&text).uid().as_str().starts_with("chestnut-") {
                    // Found again as a match, whatever it was before: what it stood for is let go.
                    self.optional.extend(self.originals.keys().cloned());
                }
            }
            (3, _) if !self.own.is_empty() => {
                let uid = self.own.iter().nth(self.dice.roll(self.own.len())).expect("one").clone();
                let texts = self.target.texts();
                let found =
                    texts.into_iter().find(|(_, text)| text.contains(&format!("X-ORCHARD-OWN:{uid}")));
                if let Some((name, _)) = found {
                    self.target.set(&self.world, &name, None);
                    self.log.push(format!("the far owner deletes {uid}"));
                }
                // What it stood for is let go.
                self.optional.extend(self.originals.keys().cloned());
                self.own.remove(&uid);
            }
            _ => {}
        }
    }

    /// A scrawl stands until the source changes, where such edits are left.
    fn scrawled(&mut self) {
        if self.says.leaves {
            self.optional.extend(self.originals.keys().cloned());
        }
    }

    fn settle(&mut self) -> Result<(), String> {
        self.world.pass(60);
        if self.dice.once_in(3) {
            // What became of copies under the rule before would be anybody's guess.
            let Says { keeps, leaves, .. } = self.says;
            self.says = Says { keeps, leaves, ..Says::roll(&mut self.dice) };
            self.log.push(format!("the rule is now {:?}", self.says));
        }
        if self.dice.once_in(6) {
            self.log.push("the state is lost".to_owned());
            self.world.lose_state();
            self.was_lost = true;
        }
        if self.rotates {
            self.rotate();
        }
        let mut before: BTreeSet<String> = self.target.texts().into_values().collect();
        let (mut fault, mut is_quiet) = (None, false);
        match self.dice.roll(8) {
            0 => {
                let step = self.dice.roll(60);
                self.log.push(format!("killed at {step}"));
                self.world.kill_at(Some(step), self.dice.once_in(2));
                drop(self.world.run(&self.rule()));
                self.world.kill_at(None, false);
            }
            1 => {
                self.world.second_process(["PUT", "GET", "REPORT"][self.dice.roll(3)], 1 + self.dice.roll(2))
            }
            2 => {
                fault = Some((["REPORT", "PROPFIND"][self.dice.roll(2)], empty_multistatus()));
            }
            3 => {
                let status = |code| FaultKind::Status { code, retry_after: None };
                let code = [412, 404, 403, 409, 507, 500][self.dice.roll(6)];
                let any =
                    [FaultKind::HalfBody, FaultKind::LoseAnswer, status(code)][self.dice.roll(3)].clone();
                fault = Some((["PUT", "DELETE", "GET", "REPORT"][self.dice.roll(4)], any));
            }
            4 => self.meddle(),
            _ => is_quiet = true,
        }
        let is_faulty = fault.is_some();
        if let Some((method, kind)) = fault {
            let place = if self.dice.once_in(2) { &self.source } else { &self.target };
            if let Place::Server(end) = place {
                self.log.push(format!("{}: one {method} meets {kind:?}", end.path));
                end.server.borrow_mut().faults.push(Fault::once(method, kind));
            }
        }
        // A server that leaves out what was deleted tells of it only once something is written there.
        let forgets = |place: &&Place| matches!(place, Place::Server(end) if end.server.borrow().has(Habit::ForgetsSilently));
        let is_told = ![&self.source, &self.target].iter().any(forgets);
        let previewed = (is_quiet && is_told).then(|| self.world.preview_of(&self.rule()));
        for round in 0.. {
            let waiting = || {
                let places = [&self.source, &self.target].into_iter();
                places
                    .map(|p| if let Place::Server(end) = p { end.server.borrow().faults.len() } else { 0 })
                    .sum::<usize>()
            };
            let unmet = waiting();
            let report = self.world.run(&self.rule()).map_err(|e| e.to_string())?;
            let was_met = waiting() < unmet;
            let changes: Vec<_> =
                report.changes.iter().map(|c| (c.action, c.uid.clone(), c.told.clone())).collect();
            self.log
                .push(format!("sync: {:?} {:?} {changes:?}", report.summary.calendars, report.summary.error));
            if let Some(previewed) = previewed.as_ref().filter(|_| round == 0) {
                as_previewed(previewed, &report)?;
            }
            self.world.pass(if is_faulty { 3600 } else { 60 });
            if report.summary.writes == 0 && report.error.is_none() && !was_met {
                break;
            }
            if round == 6 {
                return Err(format!("it does not come to rest: {:#?}", report.changes));
            }
        }
        for place in [&self.source, &self.target] {
            if let Place::Server(end) = place {
                end.server.borrow_mut().faults.clear();
            }
        }
        self.world.meanwhile("", 1, || {});
        for (old, new) in self.between.take() {
            before.remove(&old);
            before.insert(new);
        }
        self.check(&before)?;
        if self.dice.once_in(4) { self.compare() } else { Ok(()) }
    }

    /// A comparison finds nothing wrong where nothing is.
    fn compare(&self) -> Result<(), String> {
        let compared = self.world.compare_of(&self.rule()).map_err(|e| e.to_string())?;
        let told = [Standing::Differs, Standing::Missing, Standing::LeftOut];
        let told: usize = told.into_iter().map(|standing| compared.number(standing)).sum();
        let is_leaving = self.says.leaves || !self.optional.is_empty();
        let is_wrong = |finding: &Finding| match finding.cause {
            // What a run has told of: here only that its text came back changed, which somebody in between did.
            Cause::LeftOut { .. } | Cause::Failed { told: Some(Told::Changed { .. }) } => false,
            // What a route had taken over, and lost with the state, looks like the copy beside it.
            Cause::FarEdit if self.was_lost && !finding.uid.starts_with("chestnut-") => false,
            Cause::FarEdit => !is_leaving,
            _ => true,
        };
        let wrong: Vec<_> = compared.findings.iter().filter(|finding| is_wrong(finding)).collect();
        match wrong.is_empty() && compared.entries == compared.in_step + told {
            true => Ok(()),
            false => Err(format!("compared {compared:#?}: {wrong:#?}")),
        }
    }

    /// Another client writes between our write and our reading back.
    fn meddle(&mut self) {
        let Place::Server(end) = &self.target else { return };
        // Where conditions are ignored, nobody can keep what is written at this moment; where edits are left, what was
        // just taken out comes back.
        let ignores = [Habit::IgnoresIfMatch, Habit::IgnoresIfNoneMatch];
        if self.says.leaves || ignores.iter().any(|habit| end.server.borrow().habits.contains(habit)) {
            return;
        }
        let texts = self.target.texts();
        let Some((name, text)) = texts.into_iter().find(|(_, text)| !text.contains("X-ORCHARD-OWN")) else {
            return;
        };
        self.log.push(format!("somebody writes {name} in between"));
        let edited = text.replace("SUMMARY:", "SUMMARY:Between ");
        let (server, path) = (Rc::clone(&end.server), end.path.clone());
        let between = Rc::clone(&self.between);
        let nth = 1 + self.dice.roll(2);
        self.world.meanwhile("PUT", nth, move || {
            let mut server = server.borrow_mut();
            if server.texts(&path).contains_key(&name) {
                let old = server.texts(&path).remove(&name).unwrap_or_default();
                // What the route has just taken out would be theirs if they brought it back.
                let edited = match old.contains("LOCATION:") {
                    true => edited,
                    false => edited
                        .lines()
                        .filter(|line| !line.starts_with("LOCATION:"))
                        .fold(String::new(), |text, line| text + line + "\r\n"),
                };
                between.borrow_mut().push((old, edited.clone()));
                server.store_raw(&path, &name, edited);
            }
        });
    }

    /// Every title and time that the rule shows of an original; `None` where it does not take it.
    /// The days that are taken of an entry that is.
    fn days(&self, original: &Original) -> Vec<usize> {
        let is_skipped =
            |day: &usize| matches!(&original.special, Some((special, _, true)) if special == day);
        let days = original.day..original.day + original.count;
        days.filter(|day| !(self.says.skips_private && is_skipped(day))).collect()
    }

    fn shown(&self, original: &Original) -> Vec<Shown> {
        let days = self.days(original);
        let special = |day| original.special.as_ref().filter(|(special, ..)| *special == day);
        let title = |day| special(day).map_or(&original.title, |(_, title, _)| title).clone();
        let place = |day| if special(day).is_some() { String::new() } else { original.place.clone() };
        let days = days.into_iter();
        match self.says.shows {
            0 => days.map(|day| (title(day), place(day), day, original.hour)).collect(),
            1 => days.map(|day| ("Taken".into(), String::new(), day, original.hour)).collect(),
            _ => days.map(|day| (title(day), String::new(), day, original.hour)).collect(),
        }
    }

    fn check(&mut self, before: &BTreeSet<String>) -> Result<(), String> {
        let after = self.target.texts();
        // Whatever was replaced or deleted is in the history.
        if !matches!(self.target, Place::File(_)) {
            let store = self.world.store();
            let runs = store.runs(None, 10_000).expect("the history");
            let changes = runs.iter().flat_map(|run| store.changes(run.id).expect("the history"));
            let kept: BTreeSet<String> =
                changes.filter_map(|change| change.before).map(|text| plain(&text.text)).collect();
            let now: BTreeSet<&String> = after.values().collect();
            if let Some(lost) = before.iter().find(|text| !now.contains(text) && !kept.contains(&plain(text)))
            {
                return Err(format!("not in the history: {lost}"));
            }
        }
        let mut found: Vec<Shown> = Vec::new();
        let mut own: Vec<Shown> = Vec::new();
        let mut standing = BTreeSet::new();
        for text in after.values() {
            let entry = parse(text);
            let uid = entry.uid().to_string();
            // What the route had made its own, nobody knows after a lost state.
            let was_own = self.was_lost && !uid.starts_with("chestnut-");
            let is_own = text.contains("X-ORCHARD-OWN") || was_own;
            if !standing.insert(uid.clone()) {
                return Err(format!("{uid} stands twice"));
            }
            if !is_own && !self.says.keeps {
                self.check_privacy(text)?;
            }
            let list = if is_own { &mut own } else { &mut found };
            list.extend(occurrences(&entry));
        }
        if let Some(gone) = self.own.iter().find(|uid| !standing.contains(*uid)) {
            // Where entries become copies, they go with a source that was taken; never before.
            if !self.says.owns {
                return Err(format!("{gone} of the far owner's is gone"));
            }
        }
        self.own.retain(|uid| after.values().any(|text| text.contains(&format!("X-ORCHARD-OWN:{uid}"))));
        if self.makes == Makes::Blocks {
            // Blocks that are kept without their sources lie about anywhere after a lost state; where somebody deleted
            // one that is left like that, nothing comes in its place, whoever takes that time.
            let anywhere = self.says.keeps && self.was_lost || self.says.leaves && !self.optional.is_empty();
            return if anywhere { Ok(()) } else { self.check_blocks(&after) };
        }
        let mut missing = Vec::new();
        let single = self.says.is_narrow && self.makes == Makes::Occurrences;
        let is_optional = |(uid, original): &(&String, &Original)| {
            self.optional.contains(*uid) || self.says.is_narrow && original.day > TODAY + NARROW
        };
        let mut originals: Vec<_> = self.originals.iter().collect();
        originals.sort_by_key(is_optional);
        for (uid, original) in originals {
            let is_taken = !(self.says.skips_private && original.is_private);
            let is_optional = is_optional(&(uid, original));
            for shown in self.shown(original).into_iter().filter(|_| is_taken) {
                let place = |list: &[Shown]| list.iter().position(|one| *one == shown);
                // What its owner has in the place of a copy is busy under its own title.
                let is_same = |one: &&Shown| {
                    (one.2, one.3) == (shown.2, shown.3) && (self.says.shows == 1 || one.0 == shown.0)
                };
                let own_place = |list: &[Shown]| list.iter().find(is_same).map(drop);
                match (place(&found), own_place(&own)) {
                    (Some(at), _) => drop(found.remove(at)),
                    (None, Some(_)) => {}
                    (None, None) if is_optional || single && shown.2 > TODAY + NARROW => {}
                    (None, None) => missing.push(shown),
                }
            }
        }
        if self.optional.is_empty() && !self.says.keeps && !found.is_empty() || !missing.is_empty() {
            return Err(format!("missing {missing:#?}, too much {found:#?}\n{after:#?}"));
        }
        Ok(())
    }

    /// Blocks cover the time that sources take, and nothing else; how many there are, they do not tell.
    fn check_blocks(&self, after: &BTreeMap<String, String>) -> Result<(), String> {
        let near = |day: usize| !self.says.is_narrow || day <= TODAY + NARROW;
        let (mut must, mut may) = (BTreeSet::new(), BTreeSet::new());
        for (uid, original) in &self.originals {
            if self.says.skips_private && original.is_private {
                continue;
            }
            for day in self.days(original) {
                may.insert((day, original.hour));
                if near(day) && near(original.day) && !self.optional.contains(uid) {
                    must.insert((day, original.hour));
                }
            }
        }
        let mut covered = BTreeSet::new();
        for text in after.values().filter(|text| !text.contains("X-ORCHARD-OWN")) {
            let main = parse(text);
            let main = main.main_component();
            let at = |name: &str| {
                let value = main.value(name).unwrap_or_default().to_owned();
                let number = |from: usize| value.get(from..from + 2).and_then(|n| n.parse::<usize>().ok());
                number(6).zip(number(9))
            };
            let (day, hour) = at("DTSTART").expect("a start");
            let length = main.value("DURATION").unwrap_or("PT0S").trim_start_matches("PT").to_owned();
            let (number, unit) = length.split_at(length.len() - 1);
            let number: usize = number.parse().expect("a number");
            let hours = match (at("DTEND"), unit) {
                (Some((_, end)), _) => end - hour,
                (None, "S") => number / 3600,
                (None, "M") => number / 60,
                (None, _) => number,
            };
            for hour in hour..hour + hours {
                // What is kept without its source lies where it lay.
                if !covered.insert((day, hour)) && !self.says.keeps {
                    return Err(format!("two blocks at {day} {hour}: {after:#?}"));
                }
            }
        }
        let is_quiet = self.optional.is_empty() && !self.says.keeps;
        if !must.is_subset(&covered) || is_quiet && !covered.is_subset(&may) {
            return Err(format!("{covered:?} covered, must be {must:?}, may be {may:?}: {after:#?}"));
        }
        Ok(())
    }

    /// A copy tells nothing that it may not tell.
    fn check_privacy(&self, text: &str) -> Result<(), String> {
        for original in self.originals.values() {
            let hidden = self.says.shows == 1
                || self.makes == Makes::Blocks
                || self.says.skips_private && original.is_private;
            let words = original.words().into_iter();
            let of_a_day = |word: &str| {
                self.says.skips_private
                    && matches!(&original.special, Some((_, title, true)) if title == word)
            };
            let mut secret = words
                .filter(|word| hidden || of_a_day(word) || self.says.shows == 2 && **word == original.place);
            if let Some(word) = secret.find(|word| text.contains(*word)) {
                return Err(format!("{word} is told in {text}"));
            }
        }
        Ok(())
    }
}

/// What a preview said must be what the run did.
pub(crate) fn as_previewed(previewed: &PreviewReport, report: &RunReport) -> Result<(), String> {
    let mut counts: BTreeMap<String, Counts> = BTreeMap::new();
    for change in &previewed.changes {
        let counts = counts.entry(change.calendar.clone().unwrap_or_default()).or_default();
        match change.action {
            "create" => counts.created += 1,
            "update" => counts.updated += 1,
            "delete" => counts.deleted += 1,
            _ => {}
        }
    }
    let mut left_out: BTreeMap<String, usize> = BTreeMap::new();
    for line in &previewed.left_out {
        if let Why::LeftOut(key) = &line.why {
            *left_out.entry(key.clone()).or_default() += 1;
        }
    }
    let mut done = report.summary.calendars.clone();
    done.retain(|_, counts| *counts != Counts::default());
    counts.retain(|_, counts| *counts != Counts::default());
    let held = previewed.held + previewed.changes.iter().filter(|change| change.action == "hold").count();
    let said = (counts, left_out, held);
    let did = (done, report.summary.left_out.clone(), report.summary.held);
    let same = said == did || did.2 > 0 && said.1 == did.1 && said.2 == did.2;
    if same {
        Ok(())
    } else {
        Err(format!("previewed {said:?}, done {did:?}: {previewed:#?} {:#?}", report.changes))
    }
}

/// The days of an entry, as these histories write them.
fn occurrences(entry: &Entry) -> Vec<Shown> {
    let main = entry.main_component();
    let value = |component: &chestnut_core::ical::Component<'static>, name: &str| {
        component.value(name).unwrap_or_default().to_owned()
    };
    let number = |text: &str, from: usize| text[from..from + 2].parse::<usize>().expect("a number");
    let start = value(main, "DTSTART");
    let rule = value(main, "RRULE");
    let count = rule.rsplit("COUNT=").next().and_then(|n| n.parse().ok()).unwrap_or(1);
    let (day, hour) = (number(&start, 6), number(&start, 9));
    let changed: BTreeMap<usize, (String, String)> = entry
        .components()
        .filter_map(|c| {
            Some((number(c.value("RECURRENCE-ID")?, 6), (value(c, "SUMMARY"), value(c, "LOCATION"))))
        })
        .collect();
    let of = |day: usize| {
        let (title, place) =
            changed.get(&day).cloned().unwrap_or_else(|| (value(main, "SUMMARY"), value(main, "LOCATION")));
        (title, place, day, hour)
    };
    let gone: Vec<usize> =
        main.properties().filter(|p| p.is("EXDATE")).map(|p| number(p.value(), 6)).collect();
    (day..day + count).filter(|day| !gone.contains(day)).map(of).collect()
}

fn history(seed: u64) -> Result<(), Failure> {
    let mut history = History::new(seed);
    for _ in 0..4 {
        for _ in 0..1 + history.dice.roll(5) {
            match history.dice.once_in(3) {
                true => history.scribble(),
                false => history.live(),
            }
        }
        history.settle().map_err(|e| (e, history.log.clone()))?;
    }
    Ok(())
}

#[test]
fn copies_say_what_the_rule_says_and_nothing_is_lost() {
    run_histories(&[601_549, 804_374, 901_752, 11_002_160, 11_105_955], history);
}
