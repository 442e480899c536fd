//! Words, tables and JSON for what commands found.

pub(crate) mod human;
mod json;
mod many;
mod moments;
pub(crate) mod page;
mod table;
pub(crate) mod text;

pub(crate) use json::json;
pub(crate) use many::{and_more, summarised};
pub(crate) use moments::{
    Clock, age_text, day_and_hour, day_and_time, midnight, moment_text, span_text, start_day, start_text,
    zone_name,
};
pub(crate) use table::{Column, align_days, below, fit, table};
pub(crate) use text::{broken, clean, count, readable, shorten, signed, style, typed, wrap};
