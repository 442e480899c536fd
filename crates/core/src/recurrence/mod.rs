//! When entries take place: rules, series and their exceptions, zones (RFC 5545, 3.3.10, 3.6.5, 3.8.5).
//!
//! [`Rule`] is a rule as it is written; [`Occurrences`] puts an entry's rules, dates and changed occurrences
//! together and answers what stands in a window. Everything is worked out on local time, skipping ahead to the
//! window, within a [`Budget`]: over it is an error, never a shorter list.

mod days;
mod expand;
mod rule;
mod series;
mod write_zone;
mod zone;

pub use expand::{Budget, OverBudget};
pub use rule::{Freq, Rule, RuleError};
pub use series::{Instance, Moment, Occurrences, SeriesError};
pub use write_zone::write_zone;
pub use zone::{Described, Zone};
pub(crate) use zone::{ZonesBeside, agrees_since, local_seconds};
