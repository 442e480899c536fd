//! CalDAV as values, a client that puts them in order, and one transport that opens sockets.
//!
//! [`protocol`] turns questions into requests and answers into facts, without I/O. [`Client`] asks them over any
//! [`Transport`], with retries, an upper bound of requests in flight, and a count of what was sent.
//! [`HttpTransport`] opens the connections of every run; [`connection_check`] looks at the way to a server step by
//! step. Nothing else opens one. Out of scope: what to do with entries.

pub mod connection_check;
pub mod oauth;
pub mod protocol;

mod auth;
mod class;
mod client;
mod error;
mod http_transport;
mod limits;
mod origin;
mod pace;
mod retry_policy;
mod transport;

pub use auth::{Credentials, FixedToken, SignIn, TokenAnswer, TokenSource, answer_to_challenge};
pub use class::Class;
pub use client::{Capabilities, Client, ClientOptions, Fetched, NotGiven, RequestCounts, Tally};
pub use error::{
    Asked, CertificateFault, DavError, Detail, Instead, SetupError, SignInKind, TransportError,
    TransportFault, XmlBound, XmlError,
};
pub use http_transport::{HttpOptions, HttpTransport, Proxies};
pub use origin::SignInOrigin;
pub use transport::{Answer, Request, Transport, is_loopback};
