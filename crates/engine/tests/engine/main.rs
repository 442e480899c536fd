//! The engine against simulated servers in memory, on a clock that jumps.

mod bad_sources;
mod begun_anew;
mod both_ways;
mod costs;
mod cut_off;
mod dice;
mod faults;
mod free_busy;
mod habits;
mod histories;
mod hostile;
mod left_running;
mod local_calendars;
mod matching;
mod meetings;
mod one_way_histories;
mod places;
mod regressions;
mod routes;
mod targets_that_lie;
mod undoing;
mod what_copies_show;
mod windows;
