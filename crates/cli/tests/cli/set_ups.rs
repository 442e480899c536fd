//! Every set-up of the guide works: each is set up on stand-ins, checked, synced twice and compared.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use chestnut_standin::{Server, market_days, orchard_entries, serve_on_thread};
use chestnut_testkit::{shell_words, standin_now};
use jiff::civil::date;

use crate::desk::Desk;

const GUIDE: &str = include_str!("../../../../docs/guide/set-ups.md");

/// The set-ups, each with its heading.
fn set_ups() -> Vec<(&'static str, &'static str)> {
    let parts = GUIDE.split("\n## ").skip(1);
    let set_up = |part: &'static str| {
        let toml = part.split("```toml\n").nth(1).and_then(|rest| rest.split("```").next());
        (part.lines().next().unwrap_or_default(), toml.expect("a whole file"))
    };
    parts.map(set_up).collect()
}

/// `key = "value"` in a table.
fn text<'t>(table: &'t toml_edit::Table, key: &str) -> Option<&'t str> {
    table.get(key).and_then(toml_edit::Item::as_str)
}

#[test]
fn every_set_up_of_the_guide_works() {
    let all = set_ups();
    assert_eq!(all.len(), 10);
    for (title, file) in all {
        assert!(GUIDE.contains(&format!("- [{title}](#")), "{title} is not in the list above");
        let document: toml_edit::DocumentMut = file.parse().expect("TOML");
        let tables = |kind: &str| -> Vec<(String, toml_edit::Table)> {
            let outer = document.get(kind).and_then(toml_edit::Item::as_table);
            let all = outer.into_iter().flat_map(toml_edit::Table::iter);
            all.filter_map(|(name, item)| Some((name.to_owned(), item.as_table()?.clone()))).collect()
        };
        let (accounts, calendars) = (tables("account"), tables("calendar"));
        // One server for each address, with the calendars that the file names.
        let urls: BTreeSet<&str> = accounts.iter().filter_map(|(_, account)| text(account, "url")).collect();
        let urls: Vec<&str> = urls.into_iter().collect();
        let users = |url: &str| -> Vec<String> {
            let on = accounts.iter().filter(|(_, account)| text(account, "url") == Some(url));
            on.filter_map(|(_, account)| text(account, "user").map(str::to_owned)).collect()
        };
        let written: BTreeSet<String> = tables("route")
            .iter()
            .chain(&tables("defaults"))
            .filter_map(|(_, route)| text(route, "to").map(str::to_owned))
            .collect();
        let mut servers: Vec<Server> = Vec::new();
        for url in &urls {
            let users = users(url);
            let names: Vec<&str> = users.iter().map(String::as_str).collect();
            let mut server = Server::new(&names, standin_now() - 86_400_000);
            for (name, calendar) in &calendars {
                let account = text(calendar, "account");
                let own = accounts.iter().find(|(known, _)| Some(known.as_str()) == account);
                let Some((_, own)) = own.filter(|(_, own)| text(own, "url") == Some(*url)) else { continue };
                let (user, shown) =
                    (text(own, "user").expect("a user"), text(calendar, "name").expect("a name"));
                let path = server.add_calendar(user, name, shown, "#b5651d");
                if !written.contains(name) {
                    for (at, entry) in orchard_entries(12, date(2026, 10, 5)).iter().enumerate() {
                        let entry_text = entry.text.replace("SUMMARY:", &format!("SUMMARY:{name} {at}: "));
                        server.store(
                            &path,
                            &entry.name,
                            &entry_text.replace("UID:", &format!("UID:{name}-")),
                        );
                    }
                }
            }
            server.feeds.insert("/market-days.ics".into(), market_days(date(2026, 10, 5)));
            servers.push(server);
        }
        let sites = serve_on_thread(servers, Arc::new(standin_now)).expect("servers");
        let desk = Desk::new();
        let mut file = file.to_owned();
        for (url, site) in urls.iter().zip(&sites) {
            file = file.replace(url, &site.url);
        }
        file = file.replace("https://town.example/", &sites[0].url);
        // A database is tested elsewhere.
        let file: String =
            file.lines().filter(|line| !line.starts_with("state ")).map(|line| format!("{line}\n")).collect();
        for (_, account) in &accounts {
            let place = account["password"]["file"].as_str().expect("a file");
            desk.private(place, &format!("{}-pw\n", text(account, "user").expect("a user")));
        }
        desk.write("chestnut.toml", file);
        let run = |arguments: &[&str], code: i32| {
            let told = desk.run(arguments);
            assert_eq!(told.code, code, "{title}: {arguments:?}: {told:?}");
            told
        };
        let check = run(&["check"], 0).out;
        assert!(check.contains("everything is in order"), "{title}: {check}");
        let preview = run(&["preview"], 0).out;
        assert!(preview.contains("to create in"), "{title}: {preview}");
        run(&["sync"], 0);
        let again = run(&["sync", "--json"], 0).json();
        let writes: BTreeMap<String, u64> = again["runs"]
            .as_array()
            .expect("runs")
            .iter()
            .map(|run| (run["route"].to_string(), run["writes"].as_u64().expect("a number")))
            .collect();
        assert!(writes.values().all(|writes| *writes == 0), "{title}: {writes:?}");
        run(&["compare"], 0);
    }
}

/// Commands that the guide tells people to type can be typed.
#[test]
fn commands_of_the_guide_can_be_typed() {
    let desk = Desk::new();
    for line in GUIDE.split('`').filter(|piece| piece.starts_with("chestnut ") && !piece.contains('\n')) {
        let line = line.replace("NUMBER", "1");
        let words: Vec<String> = shell_words(&line).into_iter().skip(1).collect();
        let mut words: Vec<&str> = words.iter().map(String::as_str).collect();
        words.push("--help");
        let told = desk.run(&words);
        assert_eq!(told.code, 0, "{line}: {told:?}");
    }
}
