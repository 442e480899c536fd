//! What `--help` shows besides the options: commands in the order of the work, an example of each, and what comes next.

use clap::Command;

/// The commands in the order in which the work goes.
const GROUPS: [(&str, &[&str]); 7] = [
    ("Set up", &["init", "account", "calendar", "route", "check"]),
    ("See what would happen, and do it", &["preview", "sync"]),
    ("See that it arrives", &["probe", "compare", "why"]),
    ("Answer", &["held", "decide"]),
    ("Leave it running", &["watch", "status", "report"]),
    ("Look back, and take back", &["history", "undo", "snapshot", "restore"]),
    ("Look at calendars", &["agenda", "free"]),
];
/// The rest, which is about the program.
const PROGRAM: (&str, &[&str]) = ("The program itself", &["demo", "state", "completions", "manual"]);

/// An example of each command, and where another one follows, that.
const EXAMPLES: &[(&str, &str, Option<&str>)] = &[
    ("init", "chestnut init --ask", Some("chestnut preview")),
    ("account list", "chestnut account list", Some("chestnut account test")),
    (
        "account add",
        "chestnut account add packhouse dav.packhouse.example --user office",
        Some("chestnut calendar list packhouse"),
    ),
    ("account test", "chestnut account test packhouse", Some("chestnut calendar list packhouse")),
    ("account login", "chestnut account login cloud", Some("chestnut account test cloud")),
    (
        "account pause",
        "chestnut account pause packhouse --until 2026-12-01",
        Some("chestnut account resume packhouse"),
    ),
    ("account resume", "chestnut account resume packhouse", Some("chestnut sync")),
    (
        "account move",
        "chestnut account move packhouse https://new.packhouse.example/",
        Some("chestnut preview"),
    ),
    ("account password", "chestnut account password packhouse", Some("chestnut account test packhouse")),
    ("account forget", "chestnut account forget packhouse", None),
    (
        "calendar list",
        "chestnut calendar list packhouse",
        Some("chestnut calendar add presses --account packhouse --name \"Press hall\""),
    ),
    (
        "calendar add",
        "chestnut calendar add presses --account packhouse --name \"Press hall\"",
        Some("chestnut route add bookings --from presses --to copies"),
    ),
    (
        "calendar create",
        "chestnut calendar create packhouse \"Copies\"",
        Some("chestnut route add bookings --from presses --to copies"),
    ),
    ("calendar doubles", "chestnut calendar doubles board", Some("chestnut calendar doubles board --remove")),
    (
        "calendar clear-copies",
        "chestnut calendar clear-copies board --of bookings",
        Some("chestnut calendar list"),
    ),
    ("calendar forget", "chestnut calendar forget presses", None),
    ("calendar rename", "chestnut calendar rename board \"Notice board\" --on-server", None),
    ("route list", "chestnut route list", Some("chestnut route show bookings")),
    (
        "route show",
        "chestnut route show bookings -v",
        Some("chestnut route edit bookings every=\"30 minutes\""),
    ),
    (
        "route add",
        "chestnut route add bookings --from presses --to copies --past \"7 days\" --ahead \"3 months\"",
        Some("chestnut preview bookings"),
    ),
    (
        "route edit",
        "chestnut route edit bookings every=\"30 minutes\" deletions=keep",
        Some("chestnut preview bookings"),
    ),
    ("route rename", "chestnut route rename bookings press-hall", Some("chestnut status")),
    (
        "route pause",
        "chestnut route pause bookings --until \"2 hours\"",
        Some("chestnut route resume bookings"),
    ),
    ("route resume", "chestnut route resume bookings", Some("chestnut sync bookings")),
    ("route retire", "chestnut route retire bookings --remove-copies", None),
    ("check", "chestnut check", Some("chestnut preview")),
    ("preview", "chestnut preview bookings -v", Some("chestnut sync bookings")),
    ("sync", "chestnut sync bookings", Some("chestnut probe bookings")),
    ("probe", "chestnut probe bookings", Some("chestnut compare bookings")),
    ("compare", "chestnut compare bookings", Some("chestnut why harvest fair")),
    ("why", "chestnut why bookings harvest fair", None),
    ("held", "chestnut held", Some("chestnut decide 1")),
    ("decide", "chestnut decide 1 keep", Some("chestnut sync")),
    ("watch", "chestnut watch --log chestnut.log", Some("chestnut status")),
    ("status", "chestnut status", Some("chestnut history")),
    ("report", "chestnut report calendars.html --since \"7 days\"", None),
    ("history", "chestnut history 12", Some("chestnut undo 12")),
    ("undo", "chestnut undo 12 --entry \"harvest fair\"", Some("chestnut route resume bookings")),
    ("snapshot", "chestnut snapshot board board.ics", Some("chestnut restore board.ics")),
    ("restore", "chestnut restore board.ics", Some("chestnut sync")),
    ("agenda", "chestnut agenda presses board --week --beside", None),
    ("free", "chestnut free presses --for 2h --hours 8-16", None),
    ("demo", "chestnut demo orchard --keep", None),
    ("state check", "chestnut state check", None),
    ("state backup", "chestnut state backup chestnut-2026-12-01.state", Some("chestnut state check")),
    ("completions", "chestnut completions bash > ~/.local/share/bash-completion/completions/chestnut", None),
    ("manual", "chestnut manual ~/.local/share/man/man1", None),
];

/// Puts groups and examples into the help of a command line.
pub(crate) fn with_help(command: Command) -> Command {
    let template = format!(
        "{{about}}\n\n{{usage-heading}} {{usage}}\n\n{}{{options}}{{after-help}}\n",
        grouped(&command)
    );
    let mut command = command.help_template(template).after_help(
        "Start here: chestnut demo shows the whole job; chestnut init --ask sets up yours\nOf one command: chestnut sync --help",
    );
    for (path, example, next) in EXAMPLES {
        let next = next.map(|next| format!("\nNext:\n  {next}")).unwrap_or_default();
        let text = format!("Example:\n  {example}{next}");
        command = at(command, &path.split(' ').collect::<Vec<_>>(), &text);
    }
    command
}

/// The example of a command, by its path.
pub(super) fn example_of(path: &str) -> Option<&'static str> {
    EXAMPLES.iter().find(|(of, ..)| *of == path).map(|(_, example, _)| *example)
}

fn at(command: Command, path: &[&str], text: &str) -> Command {
    match path {
        [] => command.after_help(text.to_owned()),
        [first, rest @ ..] => command.mut_subcommand(*first, |below| at(below, rest, text)),
    }
}

/// The commands, group by group, with the first sentence of what each does.
fn grouped(command: &Command) -> String {
    let about = |name: &str| {
        let found = command.get_subcommands().find(|command| command.get_name() == name);
        found.and_then(Command::get_about).map(ToString::to_string).unwrap_or_default()
    };
    let mut out = String::new();
    for (title, names) in GROUPS.iter().chain([&PROGRAM]) {
        out += &format!("{title}:\n");
        for name in *names {
            out += &format!("  {name:12}{}\n", about(name));
        }
        out.push('\n');
    }
    out + "Options of every command:\n"
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use chestnut_testkit::shell_words;
    use clap::{Command, CommandFactory as _};

    use super::{EXAMPLES, GROUPS, PROGRAM, with_help};
    use crate::args::Cli;

    fn leaves(command: &Command, path: &str, found: &mut Vec<String>) {
        let shown: Vec<_> = command.get_subcommands().filter(|below| below.get_name() != "help").collect();
        if shown.is_empty() {
            found.push(path.trim_start().to_owned());
        }
        shown.iter().for_each(|below| leaves(below, &format!("{path} {}", below.get_name()), found));
    }

    fn page_of(command: &mut Command, path: &str, out: &mut String) {
        let below: Vec<String> = command
            .get_subcommands()
            .map(|below| below.get_name().to_owned())
            .filter(|name| name != "help")
            .collect();
        if below.is_empty() {
            let help = command.render_long_help().to_string();
            // What every command takes is told once.
            let own = help.split("Options of every command:").next().unwrap_or_default().trim();
            let examples = help
                .split_once("Example:")
                .map_or_else(String::new, |(_, rest)| format!("\n\nExample:{rest}"));
            *out += &format!("\n## chestnut {path}\n\n```text\n{own}{}\n```\n", examples.trim_end());
        }
        for name in below {
            let path = format!("{path} {name}");
            page_of(command.find_subcommand_mut(&name).expect("a command"), path.trim(), out);
        }
    }

    /// `CHESTNUT_WRITE_REFERENCE=1` writes it.
    #[test]
    fn the_reference_of_commands_is_their_help() {
        let mut command = with_help(Cli::command()).term_width(100);
        command.build();
        let help = command.render_help().to_string();
        let mut page = format!(
            "# Commands\n\nWhat `chestnut --help` and `chestnut COMMAND --help` print. What they report as JSON is in\n\
             [JSON output](json.md), with which status they end in [exit statuses](exit-statuses.md).\n\n```text\n{}\n```\n",
            help.trim_end()
        );
        page_of(&mut command, "", &mut page);
        let page: String = page.lines().map(|line| format!("{}\n", line.trim_end())).collect();
        let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/reference/cli.md");
        if std::env::var_os("CHESTNUT_WRITE_REFERENCE").is_some() {
            std::fs::write(&path, &page).expect("written");
        }
        let stands = std::fs::read_to_string(&path).unwrap_or_default();
        assert!(stands == page, "write it anew with CHESTNUT_WRITE_REFERENCE=1");
    }

    #[test]
    fn every_command_stands_in_a_group_and_has_examples_that_can_be_typed() {
        let command = with_help(Cli::command());
        let mut known = Vec::new();
        leaves(&command, "", &mut known);
        let shown: Vec<&str> =
            GROUPS.iter().chain([&PROGRAM]).flat_map(|(_, names)| names.iter().copied()).collect();
        for command in command.get_subcommands().filter(|below| below.get_name() != "help") {
            assert_eq!(
                shown.iter().filter(|name| **name == command.get_name()).count(),
                1,
                "{}",
                command.get_name()
            );
        }
        for path in &known {
            // It has an example of its own.
            let has_one = EXAMPLES.iter().any(|(of, ..)| of == path) || path == "state move";
            assert!(has_one, "{path} has no example");
        }
        for (path, example, next) in EXAMPLES {
            assert!(known.contains(&(*path).to_owned()), "{path}");
            assert!(example.starts_with(&format!("chestnut {path}")), "{example}");
            for line in std::iter::once(example).chain(next) {
                let typed = command
                    .clone()
                    .try_get_matches_from(shell_words(line.split(" > ").next().unwrap_or(line)));
                assert!(typed.is_ok(), "{line}: {}", typed.expect_err("wrong"));
            }
        }
    }
}
