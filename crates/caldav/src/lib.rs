//! CalDAV as values, a client that puts them in order, and one transport that opens sockets.
//!
//! [`protocol`] turns questions into requests and answers into facts, without I/O. [`Client`] asks them over any
//! [`Transport`], with retries, an upper bound of requests in flight, and a count of what was sent.
//! [`HttpTransport`] is the only place that opens a connection. Out of scope: what to do with entries.

pub mod protocol;

mod auth;
mod client;
mod error;
mod http_transport;
mod pace;
mod retry_policy;
mod transport;

pub use auth::Credentials;
pub use client::{Capabilities, Client, ClientOptions, Fetched, RequestCounts};
pub use error::{Class, DavError};
pub use http_transport::{HttpOptions, HttpTransport};
pub use transport::{Answer, Request, Transport, TransportError, TransportFault, is_loopback};
