//! Small simulated servers: CalDAV (RFC 4791, 6578, 5397), feeds, and their sign-in.
//!
//! [`Server`] holds users, calendars and feeds; [`Server::handle`] is a function from a request to a response,
//! without sockets. [`Habit`]s are what real servers were seen to do otherwise, each switchable and combinable;
//! [`Fault`]s make single answers go wrong. [`serve()`] puts it on a port. Used by the demonstration and by tests.

mod exchange;
mod failings;
mod faults;
mod habits;
mod handle_request;
mod names;
mod object_store;
mod orchard;
mod properties;
mod reports;
mod rewriting;
mod scheduling;
mod serve;
mod sign_in;

pub use exchange::{Reply, ServerRequest};
pub use failings::Failing;
pub use faults::{Fault, FaultKind};
pub use habits::{Habit, Temper};
pub use object_store::{Collection, Object, Server, Share};
pub use orchard::{OrchardEntry, market_days, orchard_entries, orchard_server};
pub use serve::{Clock, Running, Site, Tls, serve, serve_on_thread, serve_tls_on_thread};
pub use sign_in::SignInService;
