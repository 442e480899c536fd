//! Tells a program of troubles: at least once each, in their order.

use std::path::Path;
use std::process::Stdio;
use std::time::Duration;

use chestnut_engine::{Then, deliver};
use chestnut_store::{Notice, NoticeEvent, Store, StoreError, TroubleKind};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use tokio::io::AsyncWriteExt as _;

use crate::report::trouble::{about_what, moment_of, note_about};
use crate::settings::Settings;
use crate::words::{exit_words, no_time_left, nothing_to_do, trouble_advice, trouble_sentence};

/// A program has so long.
const PATIENCE: Duration = Duration::from_secs(30);

/// What the program reads; no titles, no secrets.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
struct Document<'d> {
    /// The same for every attempt.
    id: i64,
    event: NoticeEvent,
    attempt: u32,
    /// The same for beginning, reminders and end.
    trouble: i64,
    kind: TroubleKind,
    /// What sort of thing it is about: an account, a calendar, a route or a file.
    sort: &'static str,
    about: &'d str,
    began: Option<String>,
    ended: Option<String>,
    /// It ended, and began again within half an hour.
    again: bool,
    what: String,
    r#do: String,
    note: Option<&'d str>,
    facts: &'d Value,
}

/// Tells a program.
pub(crate) struct Teller<'t> {
    pub(crate) settings: &'t Settings,
    pub(crate) store: &'t Store,
}

impl Teller<'_> {
    /// Tells what is to be told. Returns how many could not be told now.
    pub(crate) async fn tell(&self, now: impl Fn() -> Timestamp) -> Result<usize, StoreError> {
        deliver(self.store, now, async |notice| self.once(notice).await).await
    }

    async fn once(&self, notice: &Notice) -> Result<(), String> {
        // Of another version: nothing is known of what it meant.
        let Ok(then) = Then::deserialize(&notice.facts) else { return Ok(()) };
        let document = Document {
            id: notice.id,
            event: notice.event,
            attempt: notice.attempt,
            trouble: notice.trouble,
            kind: then.kind,
            sort: about_what(self.settings, then.kind, &then.about),
            about: &then.about,
            began: then.began.and_then(moment_of),
            ended: then.ended.and_then(moment_of),
            again: then.again,
            what: trouble_sentence(then.kind, &then.about, &then.facts),
            r#do: match notice.event {
                NoticeEvent::End => nothing_to_do().to_owned(),
                _ => trouble_advice(then.kind, &then.about, &then.facts),
            },
            note: note_about(self.settings, &then.about),
            facts: &then.facts,
        };
        let document = serde_json::to_string(&document).expect("plain values turn into JSON");
        let Some((program, words)) =
            self.settings.left_running.on_trouble.as_ref().and_then(|w| w.split_first())
        else {
            return Ok(());
        };
        let base = self.settings.base();
        let mut command = tokio::process::Command::new(program);
        command.args(words).current_dir(if base.as_os_str().is_empty() { Path::new(".") } else { base });
        command.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null()).kill_on_drop(true);
        let work = async {
            let mut child = command.spawn().map_err(|system| format!("{program}: {system}"))?;
            if let Some(mut input) = child.stdin.take() {
                // A program that does not read all of it may have heard enough.
                drop(input.write_all(format!("{document}\n").as_bytes()).await);
            }
            let status = child.wait().await.map_err(|system| system.to_string())?;
            if status.success() { Ok(()) } else { Err(exit_words(status)) }
        };
        match tokio::time::timeout(PATIENCE, work).await {
            Ok(told) => told,
            Err(_) => Err(no_time_left(PATIENCE)),
        }
    }
}
