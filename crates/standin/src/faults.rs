//! Single answers that go wrong, on demand.

use serde::{Deserialize, Serialize};

/// What goes wrong.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FaultKind {
    /// This status instead of the work, perhaps with Retry-After in seconds.
    Status {
        /// The status.
        code: u16,
        /// Seconds to wait.
        #[serde(default)]
        retry_after: Option<u64>,
    },
    /// The work is done, and the connection breaks before the answer.
    LoseAnswer,
    /// The answer is cut after half its body.
    HalfBody,
    /// The answer comes late, by so many milliseconds.
    Delay(u64),
    /// This body instead of the answer.
    Body {
        /// The status.
        code: u16,
        /// The content type.
        content_type: String,
        /// The text.
        text: String,
    },
}

/// A fault, and which requests it meets.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fault {
    /// Only this method; any where it is missing.
    #[serde(default)]
    pub method: Option<String>,
    /// Only paths that contain this.
    #[serde(default)]
    pub path: Option<String>,
    /// So many requests are passed over first.
    #[serde(default)]
    pub after: usize,
    /// So many requests are met; 0 means all.
    #[serde(default)]
    pub times: usize,
    /// What happens.
    pub kind: FaultKind,
}

impl Fault {
    /// Makes a fault that meets every request of a method.
    #[must_use]
    pub fn always(method: &str, kind: FaultKind) -> Self {
        Self { method: Some(method.to_owned()), path: None, after: 0, times: 0, kind }
    }

    /// Makes a fault that meets the next request of a method.
    #[must_use]
    pub fn once(method: &str, kind: FaultKind) -> Self {
        Self { times: 1, ..Self::always(method, kind) }
    }

    fn meets(&self, method: &str, path: &str) -> bool {
        self.method.as_deref().is_none_or(|m| m == method)
            && self.path.as_deref().is_none_or(|p| path.contains(p))
    }
}

/// Returns what goes wrong with this request, and uses the fault up where it is counted.
pub(crate) fn take_fault(faults: &mut Vec<Fault>, method: &str, path: &str) -> Option<FaultKind> {
    let at = faults.iter_mut().position(|fault| {
        let met = fault.meets(method, path);
        let waits = met && fault.after > 0;
        fault.after -= usize::from(waits);
        met && !waits
    })?;
    let kind = faults[at].kind.clone();
    match faults[at].times {
        0 => {}
        1 => drop(faults.remove(at)),
        _ => faults[at].times -= 1,
    }
    Some(kind)
}
