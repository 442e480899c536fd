//! What was typed and is no command or option: which one was meant.

use std::ffi::OsString;

use clap::Command;
use clap::error::{ContextKind, ContextValue, ErrorKind};

use crate::failure::Failure;
use crate::words::{leads_to, no_such_command, no_such_option};

/// Letters that may be wrong, changed places among them.
const SLIPS: usize = 2;

/// Says which command or option was probably meant; `None` where something else was wrong.
pub(crate) fn mistyped(error: &clap::Error, whole: &mut Command, words: &[OsString]) -> Option<Failure> {
    whole.build();
    let mut command = &*whole;
    let mut path = vec![command.get_name()];
    for word in words.iter().skip(1) {
        if let Some(below) = command.find_subcommand(word) {
            command = below;
            path.push(below.get_name());
        }
    }
    let path = path.join(" ");
    let said = |kind| match error.get(kind) {
        Some(ContextValue::String(said)) => Some(said.as_str()),
        _ => None,
    };
    match error.kind() {
        ErrorKind::UnknownArgument => {
            let option = said(ContextKind::InvalidArg).filter(|option| option.starts_with('-'))?;
            let known: Vec<String> = command
                .get_arguments()
                .filter(|argument| !argument.is_hide_set())
                .filter_map(|argument| argument.get_long().map(|long| format!("--{long}")))
                .collect();
            Some(no_such_option(option, meant(option, &known).as_deref(), &path))
        }
        ErrorKind::InvalidSubcommand => {
            let word = said(ContextKind::InvalidSubcommand)?;
            let known: Vec<String> =
                command.get_subcommands().map(|below| below.get_name().to_owned()).collect();
            let meant = meant(word, &known).map(|name| format!("{path} {name}"));
            let leads = || leads_to(word).filter(|_| path == whole.get_name());
            let meant = meant.map_or_else(|| leads().unwrap_or_default().to_vec(), |one| vec![one]);
            Some(no_such_command(word, &meant, &path))
        }
        _ => None,
    }
}

/// The one of these that is the fewest slips away; what is longer than half of slips is another word.
fn meant(typed: &str, known: &[String]) -> Option<String> {
    let slips = |name: &&String| strsim::damerau_levenshtein(typed, name);
    let nearest = known.iter().min_by_key(slips)?;
    let letters = typed.trim_start_matches('-').chars().count();
    (slips(&nearest) <= SLIPS.min(letters / 2)).then(|| nearest.clone())
}
