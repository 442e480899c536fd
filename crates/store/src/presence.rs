//! Who holds what: whether the process that opened a state still runs, and has it open.

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// Who holds a lease.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Holder {
    /// The process, by its number on its machine.
    pub process: u32,
    /// Its machine, where it is another one than ours.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub machine: Option<String>,
    /// Since when.
    pub since: Timestamp,
}

/// One opened state; all of a process that are open now.
#[derive(Debug)]
pub(crate) struct Presence(u64);

static OPEN: Mutex<BTreeSet<u64>> = Mutex::new(BTreeSet::new());
static NEXT: AtomicU64 = AtomicU64::new(1);

impl Presence {
    pub(crate) fn begin() -> Self {
        let number = NEXT.fetch_add(1, Ordering::Relaxed);
        OPEN.lock().unwrap_or_else(PoisonError::into_inner).insert(number);
        Self(number)
    }

    /// Process, its beginning as the system counts it, which of its states, where its number means something, and what
    /// its machine is called.
    pub(crate) fn name(&self) -> String {
        let process = std::process::id();
        let began = began(process).unwrap_or_default();
        format!("{process}:{began}:{}:{}:{}", self.0, scope(), machine_name())
    }
}

impl Drop for Presence {
    fn drop(&mut self) {
        OPEN.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.0);
    }
}

/// When a process began, in the system's own count: a number that is given again to another process shows.
fn began(process: u32) -> Option<String> {
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).ok()?;
    // The name before may hold anything; field 22 is the 20th behind it.
    stat.rsplit_once(')')?.1.split_whitespace().nth(19).map(str::to_owned)
}

/// Where numbers of processes mean the same: one start of one machine, or of one container on it. Empty where that cannot
/// be known.
fn scope() -> String {
    let boot = std::fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default();
    let processes = std::fs::read_link("/proc/self/ns/pid").unwrap_or_default();
    format!("{} {}", boot.trim(), processes.display()).replace(':', "-")
}

/// Returns what this machine is called, without colons.
#[must_use]
pub fn machine_name() -> String {
    let name = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    name.trim().replace(':', "-")
}

/// The machine of a holder, where it is another one than ours.
fn machine(holder: &str) -> Option<String> {
    let mut parts = holder.splitn(5, ':').skip(3);
    let (its, name) = (parts.next()?, parts.next()?);
    (its != scope()).then(|| name.to_owned())
}

/// Tells whether a holder still runs; `None` where that cannot be known.
pub(crate) fn is_alive(holder: &str) -> Option<bool> {
    let mut parts = holder.split(':');
    let process: u32 = parts.next()?.parse().ok()?;
    let began_then = parts.next()?;
    let number: u64 = parts.next()?.parse().ok()?;
    if began_then.is_empty() || parts.next().is_some_and(|its| its != scope()) {
        return None;
    }
    if process == std::process::id() && began(process).unwrap_or_default() == began_then {
        return Some(OPEN.lock().unwrap_or_else(PoisonError::into_inner).contains(&number));
    }
    Some(began(process).as_deref() == Some(began_then))
}

/// Who holds leases.
pub(crate) const HOLDERS: &str = "SELECT holder, since, until FROM lease WHERE holder <> ''";

/// Who a row says holds a lease, since when and until when, if that one is still there as far as anybody knows.
pub(crate) fn present_holder(
    (holder, since, until): (String, i64, i64),
    now: i64,
    is_shared: bool,
) -> Option<Holder> {
    let is_there = match is_alive(&holder) {
        // Whoever was stopped for so long that others may have gone on does not hold it any more.
        Some(true) => !is_shared || until > now,
        Some(false) => false,
        None => until > now,
    };
    is_there.then(|| Holder {
        process: holder.split(':').next().and_then(|process| process.parse().ok()).unwrap_or(0),
        machine: machine(&holder),
        since: Timestamp::from_second(since).unwrap_or_default(),
    })
}
