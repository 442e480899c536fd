//! `chestnut init`: a commented configuration to start from; with `--ask`, one that works.

use std::path::{Path, PathBuf};

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::configuration_path;
use crate::report::init::Report;
use crate::words::{cannot_be_written, configuration_written, is_there_already};

/// What stands in a new configuration: the whole job as comments, nothing that would run by itself.
const TEMPLATE: &str = r#"# Chestnut: which calendars are kept in step, and how.
# Lines that begin with # are comments: take the # away from what you want, and change it.
# `chestnut init --ask` writes the same by asking, and tries every answer.

# The zone in which times are shown; without it the system's.
# timezone = "Europe/Ljubljana"

# 1. Accounts: a login at a CalDAV server. Any address of the server will do.
#    `chestnut account add packhouse dav.packhouse.example --user office` tries it and writes it here.
#
# [account.packhouse]
# url      = "https://dav.packhouse.example/"
# user     = "office"
# password = { file = "packhouse.password" }   # or { env = "…" }, { command = ["…"] }, { keyring = "…" }

# 2. Calendars: on a server, or a feed (which can only be read), an .ics file, a folder of .ics files.
#    `chestnut calendar list` shows what the accounts have; `chestnut calendar create` makes a new one.
#
# [calendar.presses]
# account = "packhouse"
# path    = "/office/presses/"                 # or name = "Press hall", where that is unique
#
# [calendar.market-days]
# feed = "https://markets.example/days.ics"
#
# [calendar.board]
# file = "board.ics"

# 3. Routes: which calendar feeds which. Best give copies a calendar of their own.
#    `chestnut preview` says what a sync would do, and writes nothing.
#
# [route.presses-to-board]
# from      = "presses"
# to        = "board"
# only      = { kinds = ["events"] }           # also "tasks" and "journals"
# deletions = "carry"                          # "keep": a copy stays when its entry is deleted
# window    = { past = "7 days", ahead = "3 months" }
# carry     = "everything"                     # "busy": the time alone
#
# [route.crews]                                # both ways
# between   = ["presses", "board"]
# disagree  = "newest"                         # or a calendar, or "hold": you decide
"#;

pub(crate) fn run(file: Option<&Path>, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let path = file.map_or_else(|| configuration_path(common, io), |file| Ok(PathBuf::from(file)))?;
    write_new(&path)?;
    let report = Report { configuration: path.display().to_string() };
    show(common, io, &report, || configuration_written(&report.configuration))?;
    Ok(ExitCode::Ok)
}

fn write_new(path: &Path) -> Result<(), Failure> {
    use std::io::Write as _;
    if let Some(folder) = path.parent().filter(|folder| !folder.as_os_str().is_empty()) {
        std::fs::create_dir_all(folder)?;
    }
    let made = std::fs::OpenOptions::new().write(true).create_new(true).open(path);
    let mut file = made.map_err(|e| match e.kind() {
        std::io::ErrorKind::AlreadyExists => is_there_already(path),
        _ => cannot_be_written(path, &e),
    })?;
    Ok(file.write_all(TEMPLATE.as_bytes())?)
}
