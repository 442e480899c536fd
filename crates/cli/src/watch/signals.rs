//! What the system and people tell a running process.

/// What is asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Signal {
    /// End: what is in flight is finished first. Once more: at once.
    Stop,
    /// Read the configuration again.
    Reload,
    /// Everything is due now.
    All,
}

#[cfg(unix)]
pub(super) struct Signals {
    terminate: tokio::signal::unix::Signal,
    interrupt: tokio::signal::unix::Signal,
    hangup: tokio::signal::unix::Signal,
    user: tokio::signal::unix::Signal,
}

#[cfg(unix)]
impl Signals {
    pub(super) fn new() -> std::io::Result<Self> {
        use tokio::signal::unix::{SignalKind, signal};
        Ok(Self {
            terminate: signal(SignalKind::terminate())?,
            interrupt: signal(SignalKind::interrupt())?,
            hangup: signal(SignalKind::hangup())?,
            user: signal(SignalKind::user_defined1())?,
        })
    }

    pub(super) async fn next(&mut self) -> Signal {
        tokio::select! {
            _ = self.terminate.recv() => Signal::Stop,
            _ = self.interrupt.recv() => Signal::Stop,
            _ = self.hangup.recv() => Signal::Reload,
            _ = self.user.recv() => Signal::All,
        }
    }
}

#[cfg(not(unix))]
pub(super) struct Signals;

#[cfg(not(unix))]
impl Signals {
    pub(super) fn new() -> std::io::Result<Self> {
        Ok(Self)
    }

    pub(super) async fn next(&mut self) -> Signal {
        if tokio::signal::ctrl_c().await.is_err() {
            std::future::pending::<()>().await;
        }
        Signal::Stop
    }
}
