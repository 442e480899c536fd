//! What went wrong, for people: one sentence, and what to do next.

use chestnut_caldav::DavError;

use crate::exit_code::ExitCode;
use crate::render::clean;

/// Characters of the longest message.
const LONGEST: usize = 2_000;

/// A failure, ready to be shown.
#[derive(Debug, Clone)]
pub(crate) struct Failure {
    pub(crate) code: ExitCode,
    pub(crate) message: String,
    pub(crate) hint: Option<String>,
    /// The account whose sign-in was refused: the same for all that need it.
    pub(crate) sign_in_of: Option<String>,
    /// The account whose server did not answer as it should.
    pub(crate) down: Option<String>,
    /// What that server answered.
    pub(crate) answer: Option<Box<DavError>>,
}

impl Failure {
    pub(crate) fn new(code: ExitCode, message: impl Into<String>) -> Self {
        let (hint, sign_in_of, down, answer) = Default::default();
        Self { code, message: message.into(), hint, sign_in_of, down, answer }
    }

    pub(crate) fn usage(message: impl Into<String>) -> Self {
        Self::new(ExitCode::Usage, message)
    }

    pub(crate) fn failed(message: impl Into<String>) -> Self {
        Self::new(ExitCode::Failed, message)
    }

    /// Nothing is wrong: a person has a word to say.
    pub(crate) fn waiting(message: impl Into<String>) -> Self {
        Self::new(ExitCode::Waiting, message)
    }

    /// The sign-in of an account was refused.
    pub(crate) fn of_sign_in(self, account: &str, answer: &DavError) -> Self {
        Self { sign_in_of: Some(account.to_owned()), answer: Some(Box::new(answer.clone())), ..self }
    }

    /// The server of an account did not answer as it should.
    pub(crate) fn of_server(self, account: &str, answer: &DavError) -> Self {
        Self { down: Some(account.to_owned()), answer: Some(Box::new(answer.clone())), ..self }
    }

    pub(crate) fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hint = Some(hint.into());
        self
    }

    /// `Error:` and `Hint:`, cleaned of whatever a server may have put into the words. What waits is no error.
    pub(crate) fn lines(&self) -> String {
        // Whatever a server sends, a message is one that can be read.
        let message: String = self.message.chars().take(LONGEST).collect();
        if self.code == ExitCode::Waiting {
            let hint = self.hint.as_ref().map(|hint| format!("  {}\n", clean(hint))).unwrap_or_default();
            return format!("{}\n{hint}", clean(&message));
        }
        let hint = self.hint.as_ref().map(|hint| format!("Hint: {}\n", clean(hint))).unwrap_or_default();
        format!("Error: {}\n{hint}", clean(&message))
    }
}
