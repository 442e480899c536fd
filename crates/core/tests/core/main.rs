//! The core, tested on its own: tables and laws.

mod carry_laws;
mod choosing;
mod entries;
mod generate;
mod ical_text;
mod meaning;
mod reconcile_table;
mod recurrence;
mod values;
