//! The engine against simulated servers in memory, on a clock that jumps.

mod bad_sources;
mod costs;
mod cut_off;
mod faults;
mod habits;
mod local_calendars;
mod matching;
mod routes;
mod targets_that_lie;
