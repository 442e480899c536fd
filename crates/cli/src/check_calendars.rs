//! What the calendars of an account can do, and whether their server writes to people; and a test entry written into
//! one of them. What was seen becomes steps, as on the way there.

use chestnut_caldav::protocol::Found;
use chestnut_core::RouteKey;
use chestnut_engine::{Calendar, CalendarEnd, RunError, WriteStep, try_writing};
use jiff::Timestamp;
use tokio::time::Instant;
use url::Url;

use crate::check_account::{Step, host_of};
use crate::failure::Failure;
use crate::settings::Connections;
use crate::words::{
    InWords as _, PROBE_TITLE, condition_words, fault_words, left_there, not_on_a_server, scheduling_words,
    write_step_words,
};

/// So many calendars are asked what they can do.
const MOST: usize = 50;

/// Looks at the calendars that were found.
pub(crate) struct CalendarCheck<'c> {
    pub(crate) connections: &'c Connections<'c>,
    pub(crate) account: &'c str,
    /// Whether times may show.
    pub(crate) measures: bool,
}

impl CalendarCheck<'_> {
    fn step(&self, since: Instant, url: &Url, step: &'static str, ok: bool, seen: String) -> Step {
        let passed = if self.measures { since.elapsed().as_millis() } else { 0 };
        let milliseconds = u64::try_from(passed).unwrap_or(u64::MAX);
        Step { step, ok, seen, note: None, host: host_of(url), milliseconds }
    }

    /// Asks each calendar what it can do, and whether their server writes to people.
    pub(crate) async fn look(&self, found: &mut Found) -> Result<Option<Step>, Failure> {
        let client = self.connections.client(self.account)?;
        for info in found.calendars.iter_mut().take(MOST) {
            // What is not told now is not told in the table.
            if let Ok(known) = client.calendar(&info.url).await {
                info.clone_from(&known);
            }
        }
        let own = found.calendars.iter().find(|info| info.writable != Some(false) && !info.is_shared);
        let Some(info) = own else { return Ok(None) };
        let since = Instant::now();
        Ok(Some(match client.capabilities(&info.url).await {
            Ok(can) => self.step(since, &info.url, "mail", true, scheduling_words(&can.scheduling)),
            Err(error) => self.step(since, &info.url, "mail", false, error.in_words()),
        }))
    }

    /// Writes a test entry into a calendar, changes and deletes it.
    pub(crate) async fn write(
        &self,
        calendar: &str,
        key: &[u8],
        now: Timestamp,
    ) -> Result<(Vec<Step>, Option<Failure>), Failure> {
        let end: CalendarEnd = self.connections.calendar(calendar).await?;
        let Calendar::Dav { url, .. } = &end.calendar else { return Err(not_on_a_server(calendar)) };
        let key = RouteKey::new(key, &format!("account test {calendar}"));
        let mut since = Instant::now();
        let trial = match try_writing(&end, &key, PROBE_TITLE, now).await {
            Ok(trial) => trial,
            Err(error @ RunError::Store(_)) => return Err(error.into()),
            Err(error) => {
                let step =
                    self.step(since, url, "create", false, format!("{calendar}: {}", error.in_words()));
                return Ok((vec![step], Some(error.into())));
            }
        };
        let mut steps = Vec::new();
        let mut failure = None;
        for (at, fault) in &trial.steps {
            let (word, done) = write_step_words(*at);
            let seen = match (fault, at) {
                (Some(fault), _) => fault_words(fault, calendar, calendar),
                (None, WriteStep::Condition) => {
                    format!("{calendar}: {}", condition_words(trial.keeps_conditions))
                }
                (None, _) => format!("{calendar}: {done}"),
            };
            if fault.is_some() {
                failure = Some(Failure::failed(seen.clone()));
            }
            steps.push(self.step(since, url, word, fault.is_none(), seen));
            since = Instant::now();
        }
        if trial.is_left {
            let told = left_there(calendar);
            steps.push(self.step(since, url, "delete", false, told.message.clone()));
            failure = Some(told);
        }
        Ok((steps, failure))
    }
}
