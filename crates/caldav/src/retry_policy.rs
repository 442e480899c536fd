//! Whether to send a request again, and after how long.

use std::time::Duration;

use crate::error::{TransportError, TransportFault};
use crate::transport::Answer;

/// Pauses before the second, third and fourth try.
const PAUSES: [Duration; 3] =
    [Duration::from_millis(400), Duration::from_millis(1600), Duration::from_secs(5)];
/// A server that asks for more patience than this is left alone until the next run.
pub(crate) const LONGEST_WAIT: Duration = Duration::from_secs(60);

/// Returns how long to wait before try number `tries + 1`, or `None` to give up.
pub(crate) fn pause_before_retry(outcome: &Result<Answer, TransportError>, tries: usize) -> Option<Duration> {
    let growing = PAUSES.get(tries.checked_sub(1)?).copied();
    match outcome {
        Ok(answer) if is_transient(answer.status) => match retry_after(answer) {
            Some(wait) if wait > LONGEST_WAIT => None,
            Some(wait) => growing.map(|_| wait),
            None => growing,
        },
        Ok(_) => None,
        Err(error) => match error.fault {
            TransportFault::Timeout | TransportFault::Broken => growing,
            // Where nothing listens, somebody waits for the answer: a server that is started again is met by the next run.
            TransportFault::Connect => growing.filter(|_| tries == 1),
            _ => None,
        },
    }
}

/// Tells whether a status may pass by itself. 507 and 501 do not.
pub(crate) fn is_transient(status: u16) -> bool {
    matches!(status, 408 | 423 | 425 | 429 | 500 | 502 | 503 | 504)
}

/// Tells whether an answer asks for more patience than a request has.
pub(crate) fn wants_long_patience(answer: &Answer, patience: Duration) -> bool {
    let may_say_so = is_transient(answer.status) || matches!(answer.status, 301 | 302 | 307 | 308);
    may_say_so && retry_after(answer).is_some_and(|wait| wait > patience)
}

/// Reads Retry-After: seconds, or a date measured against the server's own clock (RFC 9110, 10.2.3).
pub(crate) fn retry_after(answer: &Answer) -> Option<Duration> {
    let text = answer.header("retry-after")?.trim();
    if let Ok(seconds) = text.parse() {
        return Some(Duration::from_secs(seconds));
    }
    let at =
        httpdate::parse_http_date(text).ok()?.duration_since(std::time::UNIX_EPOCH).ok()?.as_secs() as i64;
    Some(Duration::from_secs(u64::try_from(at - answer.date()?).unwrap_or(0)))
}
