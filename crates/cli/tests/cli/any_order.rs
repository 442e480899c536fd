//! Commands in any order between other people's changes: each ends with an answer, no text is lost on the way, and in the
//! end everything comes to rest.

use std::collections::BTreeMap;
use std::time::Duration;

use chestnut_testkit::Dice;
use jiff::Timestamp;

use crate::desk::Desk;
use crate::set_up::Told;

const CALENDARS: [&str; 3] = ["press", "van", "stall"];
const ROUTES: [&str; 3] = ["bookings", "crews", "wall"];
/// Settings of a route that somebody may change.
const SETTINGS: &[&str] = &[
    "carry=busy",
    "carry=",
    "carry={details=[\"title\",\"notes\"],prefix=\"P: \"}",
    "deletions=keep",
    "deletions=",
    "far-edits=leave",
    "far-edits=",
    "window.past=7 days",
    "window.ahead=1 month",
    "window=",
    "skip.private=true",
    "only.kinds=[\"events\",\"tasks\"]",
    "skip=",
    "matches=own",
    "strangers=remove",
    "strangers=",
    "occurrences=each",
    "occurrences=",
    "join-busy=true",
    "join-busy=",
    "past-copies=remove",
    "disagree=hold",
    "disagree=",
    "deletion-limit=2",
    "relay=true",
    "relay=",
];

type Texts = BTreeMap<(&'static str, String), String>;

struct Life {
    desk: Desk,
    dice: Dice,
    /// Seconds since 1970.
    now: i64,
    values: usize,
    log: Vec<String>,
}

impl Life {
    fn new(seed: u64) -> Self {
        let desk = Desk::new();
        let mut text = String::new();
        for calendar in CALENDARS {
            std::fs::create_dir(desk.path(calendar)).expect("a folder");
            text += &format!("[calendar.{calendar}]\nfolder = \"{calendar}\"\n");
        }
        desk.write("chestnut.toml", text);
        Self { desk, dice: Dice::new(seed), now: 1_796_000_000, values: 0, log: vec![format!("seed {seed}")] }
    }

    fn fell(&self, problem: &str) -> ! {
        panic!("{problem}\n{}", self.log.join("\n"))
    }

    fn pick<T: Copy>(&mut self, some: &[T]) -> T {
        some[self.dice.roll(some.len())]
    }

    fn run(&mut self, arguments: &[&str]) -> Told {
        self.now += 61;
        let now = Timestamp::from_second(self.now).expect("a moment").to_string();
        let told = self.desk.run_with(arguments, &[("CHESTNUT_NOW", &now)]);
        self.log.push(format!("{} → {} {}", arguments.join(" "), told.code, told.err.trim()));
        let is_answer = (0..=3).contains(&told.code) && !told.err.contains("panicked");
        if !is_answer || told.code == 2 && told.err.is_empty() {
            self.fell("no answer");
        }
        told
    }

    /// The routes of the configuration.
    fn routes(&self) -> Vec<String> {
        let text = self.desk.read("chestnut.toml");
        let names = text.lines().filter_map(|line| line.strip_prefix("[route.")?.strip_suffix(']'));
        names.map(str::to_owned).collect()
    }

    fn texts(&self) -> Texts {
        let mut texts = Texts::new();
        for calendar in CALENDARS {
            for file in std::fs::read_dir(self.desk.path(calendar)).expect("a folder") {
                let file = file.expect("a file");
                let name = file.file_name().into_string().expect("a name");
                if name.ends_with(".ics") {
                    texts.insert((calendar, name), std::fs::read_to_string(file.path()).expect("a text"));
                }
            }
        }
        texts
    }

    /// Somebody changes something in one of the calendars.
    fn live(&mut self) {
        self.now += 2 + self.dice.roll(300) as i64;
        self.values += 1;
        let title = format!("t{}x", self.values);
        let stamp =
            Timestamp::from_second(self.now).expect("a moment").strftime("%Y%m%dT%H%M%SZ").to_string();
        let all: Vec<_> = self.texts().into_iter().collect();
        let chosen = (!all.is_empty()).then(|| all[self.dice.roll(all.len())].clone());
        match (self.dice.roll(5), chosen) {
            (0, Some(((calendar, name), _))) => {
                std::fs::remove_file(self.desk.path(calendar).join(&name)).expect("gone");
                self.log.push(format!("{calendar} loses {name}"));
            }
            (1 | 2, Some(((calendar, name), text))) => {
                let lines = text.lines().map(|line| match line.split_once(':') {
                    Some(("SUMMARY", _)) => format!("SUMMARY:{title}\r\n"),
                    Some(("LAST-MODIFIED", _)) => format!("LAST-MODIFIED:{stamp}\r\n"),
                    _ => format!("{line}\r\n"),
                });
                self.desk.write(&format!("{calendar}/{name}"), lines.collect::<String>());
                self.log.push(format!("{calendar}: {name} is {title}"));
            }
            _ => {
                let (calendar, day) = (self.pick(&CALENDARS), 1 + self.dice.roll(27));
                let uid = format!("u{}", self.values);
                let more = [
                    format!("DTSTART:202612{day:02}T080000Z\r\nDURATION:PT1H\r\n"),
                    format!("DTSTART:202612{day:02}T080000Z\r\nDURATION:PT1H\r\nCLASS:PRIVATE\r\n"),
                    format!(
                        "DTSTART:202612{day:02}T080000Z\r\nDURATION:PT1H\r\nRRULE:FREQ=DAILY;COUNT=3\r\n"
                    ),
                    format!("DTSTART;VALUE=DATE:202612{day:02}\r\n"),
                    format!("DTSTART;TZID=Europe/Ljubljana:202612{day:02}T080000\r\nDURATION:PT2H\r\n"),
                    "DTSTART:some day\r\n".to_owned(),
                ];
                let more = &more[self.dice.roll(more.len())];
                let text = format!(
                    "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:{uid}\r\n\
                     DTSTAMP:20261101T000000Z\r\nLAST-MODIFIED:{stamp}\r\n{more}SUMMARY:{title}\r\n\
                     DESCRIPTION:Bring crates\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
                );
                self.desk.write(&format!("{calendar}/{uid}.ics"), text);
                self.log.push(format!("{calendar} has {uid}: {more:?}"));
            }
        }
    }

    /// A sync; whatever it replaced or deleted is in the history.
    fn sync(&mut self, more: &[&str]) {
        let before = self.texts();
        self.run(&[&["sync"], more].concat());
        let after: Vec<String> = self.texts().into_values().collect();
        for text in before.into_values().filter(|text| !after.contains(text)) {
            let uid = text.lines().find_map(|line| line.strip_prefix("UID:")).unwrap_or_default().to_owned();
            let asked = ["history", "--entry", &uid, "--text", "--json", "--all", "--last", "1000"];
            let told = self.run(&asked);
            let plain = |text: &str| text.replace('\r', "");
            let runs = if told.code == 0 { told.json()["runs"].clone() } else { serde_json::Value::Null };
            let changes =
                runs.as_array().into_iter().flatten().flat_map(|run| run["changes"].as_array()).flatten();
            let mut kept = changes.filter_map(|change| change["before"].as_str());
            if !kept.any(|kept| plain(kept) == plain(&text)) {
                self.fell(&format!("not in the history: {text}"));
            }
        }
    }

    /// Answers whatever waits.
    fn decide(&mut self) {
        let told = self.run(&["held", "--json"]).json();
        for item in told["held"].as_array().into_iter().flatten() {
            let choices: Vec<&str> = item["choices"]
                .as_array()
                .into_iter()
                .flatten()
                .filter_map(|choice| choice.as_str())
                .collect();
            if item["decision"].is_null() && !choices.is_empty() {
                let choice = self.pick(&choices);
                self.run(&["decide", &item["number"].to_string(), choice]);
            }
        }
    }

    fn add(&mut self) {
        let (routes, name) = (self.routes(), self.pick(&ROUTES));
        if routes.iter().any(|route| route == name) {
            return;
        }
        let first = self.dice.roll(3);
        let (from, to) = (CALENDARS[first], CALENDARS[(first + 1 + self.dice.roll(2)) % 3]);
        let between = format!("{from},{to}");
        match self.dice.roll(5) {
            0 => self.run(&["route", "add", name, "--between", "press,van,stall"]),
            1 => self.run(&["route", "add", name, "--between", &between]),
            2 => self.run(&["route", "add", name, "--from", from, "--to", to, "--carry", "busy"]),
            _ => self.run(&["route", "add", name, "--from", from, "--to", to]),
        };
    }

    /// A sync that is killed.
    fn cut_off(&mut self) {
        let mut command = self.desk.command(&["sync", "--allow-deletions"]);
        command.env("CHESTNUT_NOW", Timestamp::from_second(self.now).expect("a moment").to_string());
        let mut child =
            command.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null()).spawn();
        std::thread::sleep(Duration::from_millis(20 + 10 * self.dice.roll(8) as u64));
        let child = child.as_mut().expect("the program runs");
        child.kill().expect("killed");
        child.wait().expect("it is gone");
        self.log.push("a sync is killed".to_owned());
    }

    fn step(&mut self) {
        let routes = self.routes();
        let route = (!routes.is_empty()).then(|| routes[self.dice.roll(routes.len())].clone());
        let calendar = self.pick(&CALENDARS);
        match (self.dice.roll(26), route.as_deref()) {
            (0..=9, _) => self.live(),
            (10, _) => self.sync(&["--afresh"]),
            (11..=13, _) => self.sync(&["--allow-deletions"]),
            (14, _) => self.add(),
            (15, Some(route)) if self.dice.once_in(3) => {
                drop(self.run(&["route", "retire", route, "--remove-copies", "--yes"]));
            }
            (15, Some(route)) => drop(self.run(&["route", "retire", route])),
            (16 | 17, Some(route)) => {
                let setting = self.pick(SETTINGS);
                self.run(&["route", "edit", route, setting]);
            }
            (18, _) => {
                let all =
                    [["preview", "-v"], ["status", "-v"], ["compare", "-v"], ["why", "t1x"], ["check", "-v"]];
                let command = self.pick(&all);
                self.run(&command);
            }
            (19, _) => {
                let runs = self.run(&["history", "--json"]).json()["runs"].clone();
                let runs: Vec<String> =
                    runs.as_array().into_iter().flatten().map(|run| run["run"].to_string()).collect();
                if !runs.is_empty() {
                    let run = &runs[self.dice.roll(runs.len())];
                    self.run(&["undo", run, "--yes"]);
                }
            }
            (20, Some(route)) => {
                let what = self.pick(&["pause", "resume"]);
                self.run(&["route", what, route]);
            }
            (21, Some(route)) => {
                let name = self.pick(&["x1", "x2", "bookings"]);
                self.run(&["route", "rename", route, name]);
            }
            (22, _) => {
                let kept = format!("kept-{}.ics", self.dice.roll(3));
                match self.desk.path(&kept).exists() {
                    true => drop(self.run(&["restore", &kept, "--yes"])),
                    false => drop(self.run(&["snapshot", calendar, &kept])),
                }
            }
            (23, _) => self.cut_off(),
            (24, _) => self.decide(),
            (25, _) if self.dice.once_in(3) => {
                for file in std::fs::read_dir(self.desk.path("")).expect("the folder") {
                    let file = file.expect("a file");
                    if file.file_name().to_string_lossy().starts_with("chestnut.state") {
                        std::fs::remove_file(file.path()).expect("gone");
                    }
                }
                self.log.push("the state is lost".to_owned());
            }
            (25, _) => drop(self.run(&["calendar", "clear-copies", calendar, "--yes"])),
            _ => self.live(),
        }
    }

    fn comes_to_rest(&mut self) {
        for round in 0..9 {
            for route in self.routes() {
                self.run(&["route", "resume", &route]);
            }
            let before = self.texts();
            self.sync(&["--allow-deletions"]);
            self.decide();
            if round > 1 && self.texts() == before {
                let told = self.run(&["state", "check"]);
                if told.code != 0 {
                    self.fell(&told.said());
                }
                return;
            }
        }
        self.fell("it does not come to rest");
    }
}

#[test]
fn commands_in_any_order_lose_nothing_and_come_to_rest() {
    let number = |name: &str| std::env::var_os(name).and_then(|text| text.to_str()?.parse::<u64>().ok());
    let lives = number("CHESTNUT_HISTORIES").unwrap_or(600).div_ceil(100);
    let first = number("CHESTNUT_SEED").unwrap_or(1);
    for seed in first..first + lives {
        let mut life = Life::new(seed);
        life.add();
        (0..60).for_each(|_| life.step());
        life.comes_to_rest();
    }
}
