//! Bars on standard error for work that lasts over a second, on a terminal alone: one for each route that runs.

use std::cell::RefCell;
use std::convert::Infallible;
use std::future::Future;
use std::time::Duration;

use chestnut_engine::{Observer, Progress};
use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget, ProgressStyle};
use tokio::time::Instant;

use crate::render::clean;
use crate::words::{phase_words, waiting_words};

/// Where bars are drawn, one under the other.
pub(crate) struct Bars(Option<MultiProgress>, RefCell<Option<ProgressBar>>);

impl Bars {
    /// Makes a place for bars; without `shown` none is drawn.
    pub(crate) fn new(shown: bool) -> Self {
        Self(shown.then(|| MultiProgress::with_draw_target(ProgressDrawTarget::stderr())), RefCell::default())
    }

    /// Does some work, and says meanwhile whom it waits for.
    pub(crate) async fn meanwhile<T>(
        &self,
        whom: impl Fn() -> Option<(String, Duration)>,
        work: impl Future<Output = T>,
    ) -> T {
        tokio::select! {
            done = work => done,
            never = self.tell_of_waiting(whom) => match never {},
        }
    }

    /// Says whom something waits for, under the bars, for as long as `whom` names somebody who keeps it waiting.
    async fn tell_of_waiting(&self, whom: impl Fn() -> Option<(String, Duration)>) -> Infallible {
        let Some(all) = &self.0 else { return std::future::pending().await };
        loop {
            tokio::time::sleep(Duration::from_millis(500)).await;
            let waits = whom().filter(|(_, since)| *since >= LONG);
            let mut slot = self.1.borrow_mut();
            match waits {
                Some((host, since)) => {
                    let line = slot.get_or_insert_with(|| {
                        let style = ProgressStyle::with_template("{msg}");
                        let style = style.unwrap_or_else(|_| ProgressStyle::default_spinner());
                        all.add(ProgressBar::no_length().with_style(style))
                    });
                    line.set_message(clean(&waiting_words(&host, since.as_secs())));
                    line.tick();
                }
                None => {
                    if let Some(line) = slot.take() {
                        line.finish_and_clear();
                    }
                }
            }
        }
    }

    pub(crate) fn route(&self, name: &str) -> Bar<'_> {
        Bar { route: name.to_owned(), began: Instant::now(), bar: RefCell::new(None), all: self.0.as_ref() }
    }
}

/// Draws progress once a run has lasted a second.
pub(crate) struct Bar<'b> {
    route: String,
    began: Instant,
    bar: RefCell<Option<ProgressBar>>,
    all: Option<&'b MultiProgress>,
}

const PATIENCE: Duration = Duration::from_secs(1);
/// A server that answers later is named.
const LONG: Duration = Duration::from_secs(2);

impl Drop for Bars {
    fn drop(&mut self) {
        if let Some(line) = self.1.borrow_mut().take() {
            line.finish_and_clear();
        }
    }
}

impl Observer for Bar<'_> {
    fn progress(&self, progress: Progress) {
        let Some(all) = self.all.filter(|_| self.began.elapsed() >= PATIENCE) else { return };
        let mut slot = self.bar.borrow_mut();
        let bar = slot.get_or_insert_with(|| {
            let style = ProgressStyle::with_template("{prefix}: {msg} {bar:30} {pos}/{len}");
            let bar = ProgressBar::no_length().with_prefix(self.route.clone());
            all.add(bar.with_style(style.unwrap_or_else(|_| ProgressStyle::default_bar())))
        });
        bar.set_message(phase_words(progress.phase));
        bar.set_length(progress.total as u64);
        bar.set_position(progress.done as u64);
    }
}

impl Drop for Bar<'_> {
    fn drop(&mut self) {
        if let Some(bar) = self.bar.borrow_mut().take() {
            bar.finish_and_clear();
        }
    }
}
