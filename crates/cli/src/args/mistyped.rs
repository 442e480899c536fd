//! What was typed and is no command line: which one was meant.

use std::error::Error as _;
use std::ffi::OsString;

use clap::Command;
use clap::error::{ContextKind, ContextValue, ErrorKind};

use super::help::example_of;
use crate::failure::Failure;
use crate::words::{
    exclude_each_other, leads_to, needs_more, no_such_command, no_such_option, no_such_value, takes_no,
    value_does_not_fit,
};

/// Letters that may be wrong, changed places among them.
const SLIPS: usize = 2;

/// Says what was probably meant; `None` for what is said well enough by the parser of arguments, and for help.
pub(crate) fn mistyped(error: &clap::Error, whole: &mut Command, words: &[OsString]) -> Option<Failure> {
    whole.build();
    let mut command = &*whole;
    let mut path = vec![command.get_name()];
    let takes_value = |command: &Command, option: &OsString| {
        let long = option.to_str().and_then(|option| option.strip_prefix("--"));
        let argument = command.get_arguments().find(|argument| long.is_some() && argument.get_long() == long);
        argument.is_some_and(|argument| argument.get_action().takes_values())
    };
    for (at, word) in words.iter().enumerate().skip(1) {
        let is_value = takes_value(command, &words[at - 1]);
        if let Some(below) = command.find_subcommand(word).filter(|_| !is_value) {
            command = below;
            path.push(below.get_name());
        }
    }
    let example = example_of(&path[1..].join(" "));
    let path = path.join(" ");
    let said = |kind| match error.get(kind) {
        Some(ContextValue::String(said)) => vec![said.clone()],
        Some(ContextValue::Strings(said)) => said.clone(),
        _ => Vec::new(),
    };
    let argument = said(ContextKind::InvalidArg);
    let value = said(ContextKind::InvalidValue).into_iter().next().unwrap_or_default();
    match error.kind() {
        ErrorKind::UnknownArgument => {
            let typed = argument.first()?;
            if !typed.starts_with('-') {
                let is_decision = path.ends_with(" held") && typed.parse::<u64>().is_ok();
                return Some(takes_no(typed, is_decision, &path));
            }
            let shown = command.get_arguments().filter(|argument| !argument.is_hide_set());
            let known = shown.filter_map(|argument| argument.get_long().map(|long| format!("--{long}")));
            Some(no_such_option(typed, meant(typed, &known.collect::<Vec<_>>()).as_deref(), &path))
        }
        ErrorKind::InvalidSubcommand => {
            let word = said(ContextKind::InvalidSubcommand).into_iter().next()?;
            let known: Vec<String> =
                command.get_subcommands().map(|below| below.get_name().to_owned()).collect();
            let meant = meant(&word, &known).map(|name| format!("{path} {name}"));
            let leads = || leads_to(&word).filter(|_| path == whole.get_name());
            let meant = meant.map_or_else(|| leads().unwrap_or_default(), |one| vec![one]);
            Some(no_such_command(&word, &meant, &path))
        }
        ErrorKind::InvalidValue if value.is_empty() => Some(needs_more(argument.first()?, &[], example)),
        ErrorKind::InvalidValue => {
            let known = said(ContextKind::ValidValue);
            Some(no_such_value(&value, argument.first()?, meant(&value, &known).as_deref(), &known))
        }
        ErrorKind::ValueValidation => {
            let why = error.source().map(ToString::to_string).unwrap_or_default();
            Some(value_does_not_fit(&value, argument.first()?, &why, &path))
        }
        ErrorKind::ArgumentConflict => {
            let other = said(ContextKind::PriorArg);
            (!other.is_empty())
                .then(|| exclude_each_other(argument.first().map_or("", String::as_str), &other, &path))
        }
        ErrorKind::MissingRequiredArgument => Some(needs_more(&path, &argument, example)),
        _ => None,
    }
}

/// The one of these that is the fewest slips away; what is wrong in more than half of its letters is another word.
fn meant(typed: &str, known: &[String]) -> Option<String> {
    let slips = |name: &&String| strsim::damerau_levenshtein(typed, name);
    let nearest = known.iter().min_by_key(slips)?;
    let letters = typed.trim_start_matches('-').chars().count();
    (slips(&nearest) <= SLIPS.min(letters / 2)).then(|| nearest.clone())
}
