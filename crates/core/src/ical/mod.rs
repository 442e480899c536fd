//! iCalendar content lines and components (RFC 5545, section 3) without loss.
//!
//! Every property, parameter, unknown component and their order survive reading and writing; only folding
//! and the kind of line end are not kept.

mod component;
mod parse;
mod property;
mod write;

pub use component::{Component, Item};
pub(crate) use parse::quote;
pub use parse::{Bound, Limits, ParseError, ParseProblem, parse, parse_one};
pub(crate) use property::is_content_line;
pub use property::{Parameter, Property};
pub use write::{fold_line, write, write_to};
