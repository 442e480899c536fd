//! The configuration: from a TOML file to values, once; and from values to routes that can run.

mod connect;
mod durations;
mod file;
mod reader;

pub(crate) use connect::{Connections, route_key, write_private};
pub(crate) use file::{Place, RouteSettings, Settings};
