//! What went wrong, for people: one sentence, and what to do next.

use chestnut_caldav::{Class, DavError};

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
    /// Of which account all is concerned: the same for all that need it.
    pub(crate) fault: Option<Box<AccountFault>>,
}

/// An account whose sign-in was refused, or whose server did not answer as it should.
#[derive(Debug, Clone)]
pub(crate) struct AccountFault {
    pub(crate) account: String,
    /// What its server answered.
    pub(crate) error: DavError,
}

impl AccountFault {
    pub(crate) fn is_sign_in(&self) -> bool {
        self.error.class() == Class::Credentials
    }
}

impl Failure {
    pub(crate) fn new(code: ExitCode, message: impl Into<String>) -> Self {
        Self { code, message: message.into(), hint: None, fault: None }
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

    /// Returns the account whose sign-in was refused.
    pub(crate) fn sign_in_of(&self) -> Option<&str> {
        self.fault.as_ref().filter(|fault| fault.is_sign_in()).map(|fault| fault.account.as_str())
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
