//! Questions to a person at a terminal.

use dialoguer::console::Term;
use dialoguer::{Input, Password};
use secrecy::SecretString;

use crate::args::Common;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::render::clean;
use crate::words::{TYPE_YES_OR_NO, not_answered, one_of, type_a_number, yes_or_no};

/// Asks on standard error, so that what is printed can go elsewhere.
#[derive(Debug)]
pub(crate) struct Questions(());

impl Questions {
    /// Returns `None` where nobody can be asked: standard input or error is no terminal.
    pub(crate) fn of_terminal(can_ask: bool) -> Option<Self> {
        can_ask.then_some(Self(()))
    }

    /// Asks for a text.
    pub(crate) fn text(&mut self, prompt: &str, default: Option<&str>) -> Result<String, Failure> {
        let input: Input<'_, String> = Input::new().with_prompt(clean(prompt));
        let input = match default {
            Some(default) => input.default(clean(default)),
            None => input,
        };
        input.interact_text().map(|text| text.trim().to_owned()).map_err(given_up)
    }

    /// Asks for a text that may be empty.
    pub(crate) fn optional(&mut self, prompt: &str) -> Result<Option<String>, Failure> {
        let input: Input<'_, String> = Input::new().with_prompt(clean(prompt)).allow_empty(true);
        let text = input.interact_text().map_err(given_up)?;
        Ok(Some(text.trim().to_owned()).filter(|text| !text.is_empty()))
    }

    /// Tells what is wrong with an answer.
    pub(crate) fn tell(&mut self, words: &str) -> Result<(), Failure> {
        say(words)
    }

    /// Asks for a secret; what is typed does not show.
    pub(crate) fn secret(&mut self, prompt: &str) -> Result<SecretString, Failure> {
        Password::new().with_prompt(clean(prompt)).interact().map(SecretString::from).map_err(given_up)
    }

    /// Asks for one of several things; returns its place in the list.
    pub(crate) fn choose(&mut self, prompt: &str, choices: &[String]) -> Result<usize, Failure> {
        // A list within the prompt would be drawn again with the answer.
        for (number, choice) in choices.iter().enumerate() {
            say(&format!("  {}  {}", number + 1, clean(choice)))?;
        }
        loop {
            let typed = self.text(&one_of(prompt, choices.len()), None)?;
            match meant(&typed, choices) {
                Some(at) => return Ok(at),
                None => say(&type_a_number(choices.len()))?,
            }
        }
    }

    /// Asks yes or no.
    pub(crate) fn yes(&mut self, prompt: &str, default: bool) -> Result<bool, Failure> {
        loop {
            let word = self.text(&yes_or_no(prompt), Some(if default { "yes" } else { "no" }))?;
            match word.to_lowercase().as_str() {
                "y" | "yes" => return Ok(true),
                "n" | "no" => return Ok(false),
                // A slip must not decide anything.
                _ => say(TYPE_YES_OR_NO)?,
            }
        }
    }
}

fn say(line: &str) -> Result<(), Failure> {
    Ok(Term::stderr().write_line(line)?)
}

/// The place in a list that was meant: by its number, or by the beginning of one name alone.
fn meant(typed: &str, choices: &[String]) -> Option<usize> {
    if let Ok(number) = typed.parse::<usize>() {
        return number.checked_sub(1).filter(|at| *at < choices.len());
    }
    let typed = typed.to_lowercase();
    let begins = |choice: &String| choice.to_lowercase().starts_with(&typed);
    let mut fitting = (0..choices.len()).filter(|at| begins(&choices[*at]));
    let first = fitting.next().filter(|_| !typed.is_empty())?;
    let is_one = fitting.next().is_none() || choices[first].to_lowercase() == typed;
    is_one.then_some(first)
}

/// Shows what would be done, and asks; where nobody can be asked, it is only shown.
pub(crate) fn ask_first(
    report: &impl serde::Serialize,
    planned: impl Fn() -> String,
    question: &str,
    [nobody, no]: [Failure; 2],
    common: &Common,
    io: &mut Io<'_>,
) -> Result<(), Failure> {
    let Some(mut questions) = Questions::of_terminal(io.can_ask && !common.json) else {
        show(common, io, report, planned)?;
        return Err(nobody);
    };
    io.say(&planned())?;
    if questions.yes(question, false)? { Ok(()) } else { Err(no) }
}

fn given_up(error: dialoguer::Error) -> Failure {
    let dialoguer::Error::IO(error) = error;
    not_answered(&error)
}
