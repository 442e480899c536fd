//! Reports as people read them.

pub(crate) mod account_forget;
pub(crate) mod account_list;
pub(crate) mod account_login;
pub(crate) mod account_test;
pub(crate) mod agenda;
pub(crate) mod calendar_add;
pub(crate) mod calendar_create;
pub(crate) mod calendar_list;
mod canvas;
pub(crate) mod changes;
pub(crate) mod compare;
mod differences;
pub(crate) mod free;
pub(crate) mod grid;
pub(crate) mod held;
pub(crate) mod history;
pub(crate) mod month;
pub(crate) mod overview;
pub(crate) mod preview;
pub(crate) mod probe;
pub(crate) mod route;
pub(crate) mod status;
pub(crate) mod sync;
pub(crate) mod undo;
pub(crate) mod watch;
pub(crate) mod why;
