//! `chestnut watch`: keeps routes running. Read first: [`run`], then `rounds`, which is what happens when something
//! is due; when that is, is decided in the engine (`Pace`).

mod begin;
mod files;
mod health;
mod listen;
mod log;
mod manager;
mod placed;
mod presence;
mod rounds;
mod shared;
mod signals;
mod unit;
mod view;
mod work;

pub(crate) use begin::{Asked, run};
pub(crate) use log::LogFormat;
pub(crate) use presence::{Presence, Watcher, watching};
pub(crate) use unit::print as print_unit;
