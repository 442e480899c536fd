//! Questions to a person at a terminal.

use std::fmt::Write as _;

use dialoguer::{Input, Password};
use secrecy::SecretString;

use crate::args::Common;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::render::clean;
use crate::words::{NO_SUCH_NUMBER, not_answered, one_of, yes_or_no};

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

    /// Asks for a secret; what is typed does not show.
    pub(crate) fn secret(&mut self, prompt: &str) -> Result<SecretString, Failure> {
        Password::new().with_prompt(clean(prompt)).interact().map(SecretString::from).map_err(given_up)
    }

    /// Asks for one of several things; returns its place in the list.
    pub(crate) fn choose(&mut self, prompt: &str, choices: &[String]) -> Result<usize, Failure> {
        let mut question = String::new();
        for (number, choice) in choices.iter().enumerate() {
            writeln!(question, "  {}  {}", number + 1, clean(choice))
                .expect("writing to a string cannot fail");
        }
        question += &one_of(&clean(prompt), choices.len());
        let last = choices.len();
        let number: usize = Input::new()
            .with_prompt(question)
            .validate_with(
                move |number: &usize| {
                    if (1..=last).contains(number) { Ok(()) } else { Err(NO_SUCH_NUMBER) }
                },
            )
            .interact_text()
            .map_err(given_up)?;
        Ok(number - 1)
    }

    /// Asks yes or no.
    pub(crate) fn yes(&mut self, prompt: &str, default: bool) -> Result<bool, Failure> {
        let word = self.text(&yes_or_no(prompt), Some(if default { "yes" } else { "no" }))?;
        Ok(word.to_lowercase().starts_with('y'))
    }
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
