//! The core, tested on its own: tables and laws.

mod carry_forms;
mod carry_laws;
mod choosing;
mod entries;
mod free_time;
mod generate;
mod ical_text;
mod mail_table;
mod meaning;
mod merging;
mod reconcile_table;
mod recurrence;
mod replica_table;
mod snapshots;
mod values;
mod windows;
