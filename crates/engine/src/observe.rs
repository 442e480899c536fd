//! What a run tells while it works.

/// What a run is doing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Phase {
    /// Asking both calendars what changed.
    Surveying,
    /// Fetching changed entries.
    Fetching,
    /// Writing and deleting.
    Writing,
    /// Reading back what was written.
    ReadingBack,
}

/// How far it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Progress {
    /// What it is doing.
    pub phase: Phase,
    /// Entries done.
    pub done: usize,
    /// Entries in all; 0 where that is not known.
    pub total: usize,
}

/// Watches a run.
pub trait Observer {
    /// Takes note of progress.
    fn progress(&self, progress: Progress);
}

/// Watches nothing.
#[derive(Debug, Clone, Copy)]
pub struct Silent;

impl Observer for Silent {
    fn progress(&self, _: Progress) {}
}
