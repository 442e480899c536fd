//! What a service manager is told: systemd's protocol, over the socket that it names. Without one, nothing.

use std::time::Duration;

use sd_notify::NotifyState;

/// Tells the service manager how it is.
#[derive(Debug)]
pub(super) struct Manager {
    /// How often it wants to hear that the process is alive.
    pub(super) watchdog: Option<Duration>,
}

impl Manager {
    pub(super) fn of_process() -> Self {
        let mut micros = 0;
        let is_asked = sd_notify::watchdog_enabled(false, &mut micros);
        // Half of it, so that one late answer is no silence.
        Self { watchdog: (is_asked && micros > 0).then(|| Duration::from_micros(micros) / 2) }
    }

    pub(super) fn ready(&self) {
        Self::say(&[NotifyState::Ready]);
    }

    pub(super) fn reloading(&self) {
        match NotifyState::monotonic_usec_now() {
            Ok(moment) => Self::say(&[NotifyState::Reloading, moment]),
            Err(_) => Self::say(&[NotifyState::Reloading]),
        }
    }

    pub(super) fn stopping(&self) {
        Self::say(&[NotifyState::Stopping]);
    }

    pub(super) fn alive(&self) {
        if self.watchdog.is_some() {
            Self::say(&[NotifyState::Watchdog]);
        }
    }

    pub(super) fn status(&self, words: &str) {
        Self::say(&[NotifyState::Status(words)]);
    }

    fn say(state: &[NotifyState<'_>]) {
        // Nobody listens where no socket is named.
        drop(sd_notify::notify(false, state));
    }
}
