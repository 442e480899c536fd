//! What was typed and is no command or option.

use super::problems::perhaps;
use crate::failure::Failure;
use crate::render::clean;

/// There is no such option.
pub(crate) fn no_such_option(option: &str, meant: Option<&str>, path: &str) -> Failure {
    let meant = meant.map(|meant| format!("{} ", perhaps(meant))).unwrap_or_default();
    Failure::usage(format!("`{path}` has no option `{}`", clean(option)))
        .hint(format!("{meant}`{path} --help` shows its options."))
}

/// There is no such command.
pub(crate) fn no_such_command(word: &str, meant: &[String], path: &str) -> Failure {
    let meant = match meant {
        [] => String::new(),
        [one] => format!("{} ", perhaps(one)),
        several => {
            let each: Vec<_> = several.iter().map(|one| format!("`{one}`")).collect();
            format!("Perhaps one of {}. ", each.join(", "))
        }
    };
    Failure::usage(format!("`{path}` has no command `{}`", clean(word)))
        .hint(format!("{meant}`{path} --help` shows its commands."))
}

/// A command that takes no more words got one.
pub(crate) fn takes_no(word: &str, is_decision: bool, path: &str) -> Failure {
    let word = clean(word);
    let hint = match is_decision {
        true => {
            format!("`chestnut decide {word}` shows the question with that number, and takes its answer.")
        }
        false => format!("`{path} --help` shows what it takes."),
    };
    Failure::usage(format!("`{path}` takes no `{word}`")).hint(hint)
}

/// A command lacks what it cannot do without, or an option its value.
pub(crate) fn needs_more(what: &str, lacking: &[String], example: Option<&str>) -> Failure {
    let lacking = match lacking {
        [] => "a value".to_owned(),
        some => some.join(" and "),
    };
    let failure = Failure::usage(format!("`{}` needs {lacking}", clean(what)));
    match example {
        Some(example) => failure.hint(format!("For example: `{example}`.")),
        None => failure,
    }
}

/// An option takes one of a few words.
pub(crate) fn no_such_value(value: &str, option: &str, meant: Option<&str>, known: &[String]) -> Failure {
    let meant = meant.map(|meant| format!("{} ", perhaps(meant))).unwrap_or_default();
    Failure::usage(format!("`{}` is not a value of `{option}`", clean(value)))
        .hint(format!("{meant}It takes one of: {}.", known.join(", ")))
}

/// A value is of the wrong kind.
pub(crate) fn value_does_not_fit(value: &str, option: &str, why: &str, path: &str) -> Failure {
    Failure::usage(format!("`{}` does not fit `{option}`: {}", clean(value), clean(why)))
        .hint(format!("`{path} --help` shows what it takes."))
}

/// Two options say the opposite.
pub(crate) fn exclude_each_other(one: &str, others: &[String], path: &str) -> Failure {
    if others.iter().all(|other| other == one) {
        return Failure::usage(format!("`{one}` is given twice")).hint("Give it once.");
    }
    Failure::usage(format!("`{one}` cannot be used with `{}`", others.join("`, `")))
        .hint(format!("`{path} --help` shows what goes together."))
}

/// What people try first, and where it is.
pub(crate) fn leads_to(word: &str) -> Option<Vec<String>> {
    let commands: &[&str] = match word {
        "show" | "list" | "ls" | "info" => &["status", "route list", "calendar list", "account list"],
        "add" | "new" | "create" => &["init --ask", "account add", "calendar add", "route add"],
        "run" | "start" | "copy" | "push" | "pull" => &["sync", "watch"],
        "daemon" | "serve" | "service" | "stop" => &["watch"],
        "delete" | "remove" | "rm" => &["route retire", "calendar forget", "account forget"],
        "test" | "ping" | "verify" => &["account test", "probe", "compare", "check"],
        "config" | "configure" | "setup" | "edit" => &["init --ask", "check", "route edit"],
        "login" | "password" | "auth" => &["account password", "account login"],
        "pause" | "resume" | "disable" | "enable" => &["route pause", "route resume"],
        "rename" => &["route rename", "calendar rename"],
        "plan" | "dry-run" | "simulate" => &["preview"],
        "conflicts" | "resolve" | "answer" => &["held", "decide"],
        "revert" | "rollback" => &["undo", "restore"],
        "backup" | "export" | "dump" => &["snapshot", "state backup"],
        "logs" | "changes" => &["history"],
        "explain" | "find" | "search" => &["why", "agenda"],
        "lint" | "validate" => &["check"],
        "version" => &["--version"],
        _ => return None,
    };
    Some(commands.iter().map(|command| format!("chestnut {command}")).collect())
}
