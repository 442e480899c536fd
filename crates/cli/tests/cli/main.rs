//! The built program, against stand-in servers on real sockets, in a cleared environment.

mod accounts_and_calendars;
mod agenda;
mod bad_input;
mod carrying;
mod checking;
mod choosing;
mod configuration;
mod connections;
mod demonstration;
mod desk;
mod encryption;
mod feeds;
mod job;
mod left_running;
mod on_the_wire;
mod origins;
mod proving;
mod real_servers;
mod reporting;
mod schemas;
mod set_up;
mod sign_in;
mod taking_back;
mod two_way;
mod ways_to_be_wrong;
mod widths;
