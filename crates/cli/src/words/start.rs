//! What stands in a new configuration: the whole job as comments, nothing that would run by itself.

use super::keys::{self, Key};

/// Where remarks begin.
const REMARKS: usize = 45;

pub(crate) fn first_configuration() -> String {
    let mut out = String::from(
        "# Chestnut: which calendars are kept in step, and how.
# Lines that begin with # are comments: take the # away from what you want, and change it.
# `chestnut init --ask` writes the same by asking, and tries every answer.

# The zone in which times are shown; without it the system's.
",
    );
    out += &lines(keys::TOP, &["timezone"]);
    out += "
# 1. Accounts: a login at a CalDAV server. Any address of the server will do.
#    `chestnut account add packhouse dav.packhouse.example --user office` tries it and writes it here.
#
";
    out += &table("account.packhouse", "", keys::ACCOUNT, &["url", "user", "password"]);
    out += "
# 2. Calendars: on a server, or a feed (which can only be read), an .ics file, a folder of .ics files.
#    `chestnut calendar list` shows what the accounts have; `chestnut calendar create` makes a new one.
#
";
    out += &table("calendar.presses", "", keys::CALENDAR, &["account", "path"]);
    out += "#\n";
    out += &table("calendar.market-days", "", keys::CALENDAR, &["feed"]);
    out += "#\n";
    out += &table("calendar.board", "", keys::CALENDAR, &["file"]);
    out += "
# 3. Routes: which calendar feeds which. Copies are best in a calendar of their own.
#    `chestnut preview` says what a sync would do, and writes nothing.
#
";
    let one_way = ["from", "to", "only", "deletions", "window", "carry"];
    out += &table("route.presses-to-board", "", keys::ROUTE, &one_way);
    out += "#\n";
    out += &table("route.crews", "both ways", keys::ROUTE, &["between", "disagree"]);
    out
}

fn table(name: &str, remark: &str, keys: &[Key], chosen: &[&str]) -> String {
    line(&format!("[{name}]"), remark) + &lines(keys, chosen)
}

fn lines(keys: &[Key], chosen: &[&str]) -> String {
    let width = chosen.iter().map(|name| name.len()).max().unwrap_or_default();
    let started = |name: &&str| {
        let key = keys.iter().find(|key| key.name == *name)?;
        let (value, remark) = key.start?;
        Some(line(&format!("{name:width$} = {value}"), remark))
    };
    chosen.iter().filter_map(started).collect()
}

fn line(text: &str, remark: &str) -> String {
    match remark {
        "" => format!("# {text}\n"),
        _ => format!("# {text:REMARKS$}# {remark}\n"),
    }
}
