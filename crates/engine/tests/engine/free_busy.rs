//! Free-busy time whose ends move, under faults, kills and a lost state: copies say what was last known of each half hour,
//! and nothing twice.

use std::ops::Range;

use chestnut_core::{Carry, Kind, Reach, Shows, Window};
use chestnut_engine::{Calendar, FreeBusyCalendar, Makes, Rule};
use chestnut_standin::{Fault, FaultKind};
use chestnut_testkit::World;
use jiff::Timestamp;

use crate::dice::{Dice, live, run_some_histories};

/// Twenty days of half hours.
const SLOTS: usize = 960;
const PATH: &str = "/depot.ifb";

struct History {
    world: World,
    dice: Dice,
    makes: Makes,
    /// When the first half hour begins, in seconds since 1970.
    base: i64,
    /// What is so: free, taken, or not certain.
    real: Vec<u8>,
    ends: Range<usize>,
    /// What was last known of it.
    known: Vec<u8>,
    log: Vec<String>,
}

impl History {
    fn new(seed: u64) -> Self {
        let mut dice = Dice::new(seed);
        let mut world = World::new(0);
        world.allow_deletions = true;
        world.batch = 1 + dice.roll(4);
        let base = world.now().div_euclid(86_400) * 86_400 - 5 * 86_400;
        let makes = [Makes::Entries, Makes::Blocks, Makes::Occurrences][dice.roll(3)];
        let (real, known) = (vec![0; SLOTS], vec![0; SLOTS]);
        Self { world, dice, makes, base, real, ends: 0..SLOTS, known, log: vec![format!("{makes:?}")] }
    }

    fn rule(&self) -> Rule {
        let mut rule = self.world.route();
        let Calendar::Dav { client, url } = &rule.ends[0].calendar else { panic!("it is on a server") };
        let url = url.join(PATH).expect("an address");
        rule.ends[0].calendar = Calendar::FreeBusy(FreeBusyCalendar::new(client.clone(), url, None, "Busy"));
        rule.kinds = [Kind::Event].into_iter().collect();
        rule.carry = Carry { shows: Shows::Busy("Taken".into()), ..Carry::default() };
        rule.makes = self.makes;
        rule.window = Window { past: Reach::Days(400), ahead: Reach::Days(400) };
        rule
    }

    fn utc(&self, slot: usize) -> String {
        let at = Timestamp::from_second(self.base + slot as i64 * 1800).expect("a moment");
        at.strftime("%Y%m%dT%H%M%SZ").to_string()
    }

    fn text(&self) -> String {
        let mut text = format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//depot.example//EN\r\nBEGIN:VFREEBUSY\r\nUID:depot\r\n\
             DTSTAMP:20261001T000000Z\r\nDTSTART:{}\r\nDTEND:{}\r\n",
            self.utc(self.ends.start),
            self.utc(self.ends.end)
        );
        let mut from = self.ends.start;
        while from < self.ends.end {
            let to =
                (from..self.ends.end).find(|at| self.real[*at] != self.real[from]).unwrap_or(self.ends.end);
            let kind = ["FREE", "BUSY", "BUSY-TENTATIVE"][usize::from(self.real[from])];
            text += &format!("FREEBUSY;FBTYPE={kind}:{}/{}\r\n", self.utc(from), self.utc(to));
            from = to;
        }
        text + "END:VFREEBUSY\r\nEND:VCALENDAR\r\n"
    }

    fn publish(&self, text: String) {
        self.world.source.server.borrow_mut().feeds.insert(PATH.to_owned(), text);
    }

    /// Somebody's time changes, and what is told of it.
    fn live(&mut self) {
        self.world.pass(2 + self.dice.roll(7200) as i64);
        for _ in 0..self.dice.roll(6) {
            let from = self.dice.roll(SLOTS);
            let to = (from + 1 + self.dice.roll(60)).min(SLOTS);
            let kind = self.dice.roll(3) as u8;
            self.real[from..to].fill(kind);
        }
        let start = self.dice.roll(SLOTS - 40);
        self.ends = start..(start + 20 + self.dice.roll(400)).min(SLOTS);
        self.log.push(format!("it tells of {:?}", self.ends));
    }

    fn learn(&mut self) {
        let ends = self.ends.clone();
        self.known[ends.clone()].copy_from_slice(&self.real[ends]);
    }

    fn check(&self) -> Result<(), String> {
        let mut told = vec![0; SLOTS];
        for entry in self.world.entries(&self.world.target) {
            let body = entry.main_component();
            let slot = |name: &str| {
                let at = jiff::civil::DateTime::strptime("%Y%m%dT%H%M%SZ", body.value(name).expect("a time"));
                let at = at.expect("UTC").to_zoned(jiff::tz::TimeZone::UTC).expect("a moment").timestamp();
                usize::try_from((at.as_second() - self.base) / 1800).expect("a half hour")
            };
            for slot in &mut told[slot("DTSTART")..slot("DTEND")] {
                *slot += 1;
            }
        }
        for (at, (told, known)) in told.iter().zip(&self.known).enumerate() {
            if *told != usize::from(*known > 0) {
                return Err(format!("half hour {at} is shown {told} times, and {known} is known of it"));
            }
        }
        Ok(())
    }

    fn sync(&self) -> Result<(), String> {
        let report = self.world.run(&self.rule()).map_err(|error| format!("{error:?}"))?;
        match report.error {
            Some(error) => Err(format!("{error:?}")),
            None => Ok(()),
        }
    }

    fn round(&mut self) -> Result<(), String> {
        self.live();
        match self.dice.roll(8) {
            0 => {
                // What cannot be read says nothing.
                let text = self.text();
                let broken = match self.dice.roll(3) {
                    0 => "<html>sign in</html>".to_owned(),
                    1 => text[..text.len() / 2].to_owned(),
                    _ => text.replacen("Z/", "Z/soon", 1),
                };
                self.log.push("what is published is broken".into());
                self.publish(broken);
                if self.sync().is_ok() {
                    return Err("a broken text was read".into());
                }
                return self.check();
            }
            1 => {
                let kind = FaultKind::Status { code: [404, 410, 500][self.dice.roll(3)], retry_after: None };
                let fault = Fault { path: Some(PATH.into()), ..Fault::always("GET", kind) };
                self.world.source.server.borrow_mut().faults.push(fault);
                self.log.push("its server fails".into());
                self.publish(self.text());
                let failed = self.sync().is_err();
                self.world.source.server.borrow_mut().faults.clear();
                if !failed {
                    return Err("a failed read went well".into());
                }
                return self.check();
            }
            2 => {
                self.publish(self.text());
                let step = self.dice.roll(25);
                self.log.push(format!("killed at step {step}"));
                self.world.kill_at(Some(step), self.dice.once_in(2));
                drop(self.sync());
                self.world.kill_at(None, false);
                self.world.pass(60);
            }
            3 => {
                // What lies outside cannot be told from what was never known: it stays. Ends that cut nothing.
                let cuts = |known: &[u8], at: usize| {
                    at > 0 && at < SLOTS && known[at - 1] == known[at] && known[at] > 0
                };
                if !cuts(&self.known, self.ends.start) && !cuts(&self.known, self.ends.end) {
                    self.log.push("the state is lost".into());
                    self.real[self.ends.start] = 0;
                    self.real[self.ends.end - 1] = 0;
                    self.world.lose_state();
                    self.publish(self.text());
                    self.sync()?;
                    self.learn();
                    self.check()?;
                    self.ends = 0..SLOTS;
                }
            }
            _ => {}
        }
        self.publish(self.text());
        self.sync()?;
        self.learn();
        self.log.push("in step".into());
        self.check()
    }
}

#[test]
fn copies_say_what_was_last_known_of_each_half_hour() {
    run_some_histories(8, &[500_126], |seed| {
        live(History::new(seed), 8, History::round, |history| history.log)
    });
}
