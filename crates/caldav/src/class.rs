//! What helps against an error.

/// What helps: the remedy, not the cause.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Class {
    /// Try again later.
    Retry,
    /// Read again, and decide again.
    Conflict,
    /// It is not there.
    NotFound,
    /// Mend user name or password.
    Credentials,
    /// Ask for the right to do it.
    Forbidden,
    /// It does not fit.
    TooLarge,
    /// The answer or the text is broken.
    Malformed,
    /// The server cannot do it.
    Unsupported,
    /// It may have happened: look before sending it again.
    OutcomeUnknown,
}
