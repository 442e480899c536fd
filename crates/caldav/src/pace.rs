//! How many requests at once: an upper bound from the configuration, and below it what the server likes.

use std::cell::RefCell;
use std::rc::Rc;

use tokio::sync::Notify;
use tokio::time::Instant;

/// Lets requests through: one at first, more while more come back per second, fewer when the server says so.
#[derive(Debug, Clone)]
pub(crate) struct Pace {
    state: Rc<RefCell<State>>,
    freed: Rc<Notify>,
}

/// How a server bears what it is asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Strain {
    /// It answers.
    None,
    /// It fails for now: once in a while that says nothing about how much it is asked.
    Fails,
    /// It says that it is asked too much.
    TooMuch,
}

#[derive(Debug)]
struct State {
    max: usize,
    limit: usize,
    in_flight: usize,
    /// Requests that wait for their turn.
    waiting: usize,
    /// The number in force before the last step up, and its rate.
    before: Option<(usize, f64)>,
    window_start: Option<Instant>,
    window_done: usize,
    /// Answers since the last that failed.
    since_failure: usize,
    /// Windows to sit out before another step up.
    hold: usize,
    /// How many it will be when the server asks for less the next time: more each time, fewer again while all goes well.
    next_hold: usize,
}

/// Answers in one measuring window, for each request in flight.
const WINDOW: usize = 6;
const SHORT_HOLD: usize = 1;
const HOLD: usize = 12;
/// More at once must bring at least this much, else it only makes each answer slower.
const WORTH_IT: f64 = 1.1;

impl Pace {
    pub(crate) fn new(max: usize) -> Self {
        let state = State {
            max: max.max(1),
            limit: 1,
            in_flight: 0,
            waiting: 0,
            before: None,
            window_start: None,
            window_done: 0,
            since_failure: usize::MAX,
            hold: 0,
            next_hold: SHORT_HOLD,
        };
        Self { state: Rc::new(RefCell::new(state)), freed: Rc::new(Notify::new()) }
    }

    /// Waits until one more request may be in flight.
    pub(crate) async fn enter(&self) -> Permit {
        let mut waited = false;
        loop {
            let freed = self.freed.notified();
            {
                let mut state = self.state.borrow_mut();
                if state.in_flight < state.limit {
                    state.in_flight += 1;
                    state.waiting -= usize::from(waited);
                    return Permit { pace: self.clone() };
                }
                state.waiting += usize::from(!waited);
                waited = true;
            }
            freed.await;
        }
    }

    /// Counts an answer.
    pub(crate) fn answered(&self, strain: Strain) {
        let mut state = self.state.borrow_mut();
        let now = Instant::now();
        let is_alone = state.since_failure >= WINDOW * state.limit;
        state.since_failure = if strain == Strain::None { state.since_failure.saturating_add(1) } else { 0 };
        if strain == Strain::Fails && is_alone {
            state.start_window(now);
            return;
        }
        if strain != Strain::None {
            state.limit = (state.limit / 2).max(1);
            state.hold = state.next_hold;
            state.next_hold = (state.next_hold * 3).min(HOLD);
            state.start_window(now);
            state.before = None;
            return;
        }
        // Only a window in which the limit was used up says anything about it.
        if state.waiting == 0 && state.in_flight < state.limit {
            state.start_window(now);
            return;
        }
        state.window_done += 1;
        if state.window_done < WINDOW * state.limit {
            return;
        }
        let since = state.window_start.unwrap_or(now);
        let rate = state.window_done as f64 / now.duration_since(since).as_secs_f64().max(1e-6);
        state.judge(rate);
        state.start_window(now);
    }
}

impl State {
    fn start_window(&mut self, now: Instant) {
        self.window_start = Some(now);
        self.window_done = 0;
    }

    fn judge(&mut self, rate: f64) {
        if self.window_start.is_none() {
            return;
        }
        if let Some((before, before_rate)) = self.before.take()
            && rate < before_rate * WORTH_IT
        {
            self.limit = before;
            self.hold = HOLD;
        } else if self.hold > 0 {
            self.hold -= 1;
        } else if self.limit == self.max {
            self.next_hold = (self.next_hold - 1).max(SHORT_HOLD);
        } else if self.limit < self.max {
            self.before = Some((self.limit, rate));
            self.limit = (self.limit * 2).min(self.max);
        }
    }
}

/// The right to have one request in flight.
#[derive(Debug)]
pub(crate) struct Permit {
    pace: Pace,
}

impl Drop for Permit {
    fn drop(&mut self) {
        self.pace.state.borrow_mut().in_flight -= 1;
        self.pace.freed.notify_waiters();
    }
}
