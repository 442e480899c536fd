//! What is said of the keys of the configuration is so.

use std::path::Path;

use super::{Connections, Settings};
use crate::environment::Environment;
use crate::open::block_on;
use crate::words::first_configuration;
use crate::words::keys::{
    ACCOUNT, CALENDAR, CARRY, DELETION_LIMIT, Default, Key, OAUTH, ONLY, ROUTE, STATE, TOP, WATCH, WINDOW,
    Ways,
};

/// Tables inside a route.
const INNER: [(&str, &[Key]); 4] =
    [("only", ONLY), ("window", WINDOW), ("carry", CARRY), ("deletion-limit", DELETION_LIMIT)];

/// What every other table leans on.
const BASE: &str = "[account.packhouse]\nurl = \"https://dav.packhouse.example/\"\n\
    [calendar.presses]\nfile = \"presses.ics\"\n[calendar.board]\nfile = \"notices.ics\"\n\
    [calendar.crews-office]\nfile = \"o.ics\"\n[calendar.crews-phones]\nfile = \"p.ics\"\n\
    [route.bookings]\nfrom = \"crews-office\"\nto = \"crews-phones\"\n";

/// What a table must say beside a key, and what it may not say beside it.
fn beside(heading: &str, key: &str) -> &'static str {
    match (heading, key) {
        ("[account.a]", "url") => "",
        ("[account.a]", "certificate-key") => "url = \"dav.packhouse.example\"\ncertificate = \"office.pem\"",
        ("[account.a]", "password") => "url = \"dav.packhouse.example\"\nuser = \"office\"",
        ("[account.a]", "user") => "url = \"dav.packhouse.example\"\npassword = { env = \"WORD\" }",
        ("[account.a]", _) => "url = \"dav.packhouse.example\"",
        ("[calendar.c]", "path" | "name") => "account = \"packhouse\"",
        ("[calendar.c]", "account") => "name = \"Press hall\"",
        ("[calendar.c]", "quiet-after" | "timeout" | "max-download" | "soon" | "note") => {
            "feed = \"https://markets.example/days.ics\""
        }
        ("[route.r]", "between") => "",
        ("[route.r]", "disagree") => "between = [\"presses\", \"board\"]",
        ("[route.r]", "from") => "to = \"board\"",
        ("[route.r]", "to") => "from = \"presses\"",
        ("[route.r]", "busy-title") => "from = \"presses\"\nto = \"board\"\ncarry = \"busy\"",
        ("[route.r]", "occurrences") => {
            "from = \"presses\"\nto = \"board\"\nwindow = { ahead = \"90 days\" }"
        }
        ("[route.r]", "join-busy") => {
            "from = \"presses\"\nto = \"board\"\ncarry = \"busy\"\nwindow = { ahead = \"90 days\" }"
        }
        ("[route.r]", _) => "from = \"presses\"\nto = \"board\"",
        _ => "",
    }
}

/// The settings with one key said, and without it.
fn read(heading: &str, key: &str, value: Option<&str>) -> Result<String, String> {
    let said = value.map(|value| format!("{key} = {value}\n")).unwrap_or_default();
    let text = match heading {
        "" => format!("{said}{BASE}"),
        _ => format!("{BASE}{heading}\n{}\n{said}", beside(heading, key)),
    };
    match Settings::parse(Path::new("chestnut.toml"), &text, &[]) {
        Ok(mut settings) => {
            settings.routes.values_mut().for_each(|route| route.said.clear());
            Ok(format!("{settings:?}"))
        }
        Err(failure) => Err(failure.lines() + &text),
    }
}

#[test]
fn defaults_are_what_holds_and_examples_can_be_written() {
    let tables = [("", TOP), ("[account.a]", ACCOUNT), ("[calendar.c]", CALENDAR), ("[route.r]", ROUTE)];
    for (heading, key) in tables.iter().flat_map(|(heading, keys)| keys.iter().map(move |key| (heading, key)))
    {
        if let Default::Value(value) = key.default {
            assert_eq!(read(heading, key.name, Some(value)), read(heading, key.name, None), "{}", key.name);
        }
        for value in key.example.into_iter().chain(key.start.map(|(value, _)| value)) {
            let read = read(heading, key.name, Some(value));
            // An example with "…" in it is a shape.
            assert!(read.is_ok() || value.contains('…'), "{}: {read:?}", key.name);
        }
    }
}

/// What the engine compares between runs is what the keys say of themselves.
#[test]
fn another_value_is_owed_to_every_entry_or_to_none() {
    let compared = |key: &str, value: Option<&str>| {
        let said = value.map(|value| format!("{key} = {value}\n")).unwrap_or_default();
        let text = format!("{BASE}[route.r]\n{}\n{said}", beside("[route.r]", key));
        let settings = Settings::parse(Path::new("chestnut.toml"), &text, &[]).expect("settings");
        let environment = Environment::of_process();
        let connections = Connections::new(&settings, &environment);
        let rule = block_on(connections.route("r", &settings.routes["r"], b"a key for tests"));
        rule.expect("a runtime").expect("a rule").settings()
    };
    for key in ROUTE.iter().filter(|key| !["from", "to", "between", "like"].contains(&key.name)) {
        let example = key.example.expect("an example");
        let is_compared = compared(key.name, Some(example)) != compared(key.name, None);
        assert_eq!(is_compared, key.is_compared, "{}", key.name);
    }
}

/// The tables inside a route: what is said of a key of theirs holds, and the guide has an example of each.
#[test]
fn keys_of_inner_tables_are_read_and_shown() {
    let guide = include_str!("../../../../docs/guide/what-a-route-takes.md");
    let both = include_str!("../../../../docs/guide/both-ways-and-deletions.md");
    for (outer, key) in INNER.iter().flat_map(|(outer, keys)| keys.iter().map(move |key| (*outer, key))) {
        let with = |value: &str| read("[route.r]", outer, Some(&format!("{{ {} = {value} }}", key.name)));
        let example = with(key.example.expect("an example"));
        assert!(example.is_ok(), "{outer}.{}: {example:?}", key.name);
        if let Default::Value(value) = key.default {
            assert_eq!(with(value), read("[route.r]", outer, Some("{ }")), "{outer}.{}", key.name);
        }
        let shown = format!("{} = ", key.name);
        assert!(guide.contains(&shown) || both.contains(&shown), "{outer}.{} is in no guide", key.name);
    }
}

#[test]
fn a_first_configuration_works_once_its_lines_are_no_comments() {
    let is_line = |line: &&str| line.starts_with("# [") || line.contains(" = ");
    let lines: Vec<_> = first_configuration()
        .lines()
        .filter(is_line)
        .map(|line| line.trim_start_matches("# ").to_owned() + "\n")
        .collect();
    let settings = Settings::parse(Path::new("chestnut.toml"), &lines.concat(), &[]).expect("it is read");
    assert_eq!((settings.accounts.len(), settings.calendars.len(), settings.routes.len()), (1, 3, 2));
}

fn table(keys: &[Key]) -> String {
    let has_examples = keys.iter().any(|key| key.example.is_some());
    let code = |value: &str| format!("`{value}`");
    let row = |key: &Key| {
        let default = match key.default {
            Default::Needed => "needed".to_owned(),
            Default::Value(value) => code(value),
            Default::Words(words) => words.to_owned(),
            Default::Nothing => String::new(),
        };
        let way = match key.ways {
            Ways::All => "",
            Ways::OneWay => " (one way)",
            Ways::TwoWay => " (both ways)",
        };
        let mut cells = vec![code(key.name) + way, key.means.to_owned(), default];
        if has_examples {
            cells.push(key.example.map(code).unwrap_or_default());
        }
        format!("| {} |\n", cells.join(" | "))
    };
    let head = match has_examples {
        true => "| key | means | default | example |\n| --- | --- | --- | --- |\n",
        false => "| key | means | default |\n| --- | --- | --- |\n",
    };
    head.to_owned() + &keys.iter().map(row).collect::<String>()
}

/// `CHESTNUT_WRITE_REFERENCE=1` writes it.
#[test]
fn the_reference_says_what_the_program_reads() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/reference/configuration.md");
    let mut text = std::fs::read_to_string(&path).expect("the reference");
    let tables = [
        ("top", TOP),
        ("account", ACCOUNT),
        ("oauth", OAUTH),
        ("calendar", CALENDAR),
        ("route", ROUTE),
        ("watch", WATCH),
        ("state", STATE),
    ]
    .into_iter()
    .chain(INNER.map(|(key, keys)| (key, keys)));
    let mut wanted = text.clone();
    for (name, keys) in tables {
        let mark = format!("<!-- keys: {name} -->\n\n");
        let (before, after) = wanted.split_once(&mark).expect("the mark of each table");
        let (_, rest) = after.split_once("\n\n").expect("text after it");
        wanted = format!("{before}{mark}{}\n{rest}", table(keys));
    }
    if std::env::var_os("CHESTNUT_WRITE_REFERENCE").is_some() {
        std::fs::write(&path, &wanted).expect("written");
        text.clone_from(&wanted);
    }
    assert_eq!(text, wanted, "write it anew with CHESTNUT_WRITE_REFERENCE=1");
}
