//! Exit statuses: the same for every command.

/// What a command came to, for scripts and monitoring.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum ExitCode {
    /// 0: all in step.
    Ok,
    /// 3: done, and something needs your decision.
    Waiting,
    /// 1: something failed.
    Failed,
    /// 2: wrong usage or configuration.
    Usage,
}

impl ExitCode {
    /// Returns the number.
    #[must_use]
    pub fn number(self) -> u8 {
        match self {
            Self::Ok => 0,
            Self::Failed => 1,
            Self::Usage => 2,
            Self::Waiting => 3,
        }
    }
}

impl From<ExitCode> for std::process::ExitCode {
    fn from(code: ExitCode) -> Self {
        Self::from(code.number())
    }
}
