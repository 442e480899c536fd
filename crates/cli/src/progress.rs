//! A bar on standard error for work that lasts over a second, on a terminal alone.

use std::cell::RefCell;
use std::time::Duration;

use chestnut_engine::{Observer, Phase, Progress};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use tokio::time::Instant;

/// Draws progress once a run has lasted a second.
pub(crate) struct Bar {
    route: String,
    began: Instant,
    bar: RefCell<Option<ProgressBar>>,
    shown: bool,
}

const PATIENCE: Duration = Duration::from_secs(1);

impl Bar {
    pub(crate) fn new(route: &str, shown: bool) -> Self {
        Self { route: route.to_owned(), began: Instant::now(), bar: RefCell::new(None), shown }
    }
}

impl Observer for Bar {
    fn progress(&self, progress: Progress) {
        if !self.shown || self.began.elapsed() < PATIENCE {
            return;
        }
        let mut slot = self.bar.borrow_mut();
        let bar = slot.get_or_insert_with(|| {
            let style = ProgressStyle::with_template("{prefix}: {msg} {bar:30} {pos}/{len}");
            let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr());
            bar.with_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()))
                .with_prefix(self.route.clone())
        });
        let phase = match progress.phase {
            Phase::Surveying => "looking for changes",
            Phase::Fetching => "fetching",
            Phase::Writing => "writing",
            Phase::ReadingBack => "reading back",
        };
        bar.set_message(phase);
        bar.set_length(progress.total as u64);
        bar.set_position(progress.done as u64);
    }
}

impl Drop for Bar {
    fn drop(&mut self) {
        if let Some(bar) = self.bar.borrow_mut().take() {
            bar.finish_and_clear();
        }
    }
}
