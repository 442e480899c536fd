//! What is done while nobody watches: who is told of troubles, where to ask how it is.

use std::net::SocketAddr;

use super::account::secret;
use super::calendar::{FeedSource, web_source};
use super::reader::Section;
use super::secrets::SecretSource;
use crate::failure::Failure;
use crate::words::{Problem, keys};

/// What is done while nobody watches.
#[derive(Debug, Default)]
pub(crate) struct LeftRunning {
    /// Rounds may come more often than once a minute.
    pub(crate) is_eager: bool,
    /// The program that is told when a trouble begins and ends, with its words.
    pub(crate) on_trouble: Option<Vec<String>>,
    /// What is asked after a round in which all went well.
    pub(crate) heartbeat: Option<FeedSource>,
    /// Where to listen.
    pub(crate) listen: Option<SocketAddr>,
    /// The names by which that may be asked, besides the address itself.
    pub(crate) listen_hosts: Vec<String>,
    /// What whoever asks must send.
    pub(crate) listen_token: Option<SecretSource>,
    /// The page shows what entries are called.
    pub(crate) shows_titles: bool,
}

pub(super) fn left_running(root: &Section<'_>) -> Result<LeftRunning, Failure> {
    let on_trouble = root.texts("on-trouble")?;
    if on_trouble.as_ref().is_some_and(Vec::is_empty) {
        return Err(root.wrong("on-trouble", Problem::NoProgram));
    }
    let heartbeat = if root.has("heartbeat-url") { Some(web_source(root, "heartbeat-url")?) } else { None };
    let watch = root.section("watch")?;
    if let Some(watch) = &watch {
        watch.allow_described(keys::WATCH)?;
    }
    let listen = root.text("listen")?;
    let listen = match listen {
        None => None,
        Some(text) => Some(text.parse().map_err(|_| root.wrong("listen", Problem::NotListen))?),
    };
    let listen_token = secret(root, "listen-token")?;
    if listen.is_some_and(|at: SocketAddr| !at.ip().is_loopback()) && listen_token.is_none() {
        return Err(root.wrong("listen", Problem::ListenNeedsToken));
    }
    let flag = |key| watch.as_ref().map_or(Ok(false), |watch| watch.flag(key));
    Ok(LeftRunning {
        is_eager: flag("eager")?,
        shows_titles: flag("titles")?,
        on_trouble,
        heartbeat,
        listen,
        listen_hosts: root.texts("listen-hosts")?.unwrap_or_default(),
        listen_token,
    })
}
