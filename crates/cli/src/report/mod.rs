//! What commands report: plain structs, exactly what `--json` prints.

pub(crate) mod account_add;
pub(crate) mod account_forget;
pub(crate) mod account_list;
pub(crate) mod account_login;
pub(crate) mod account_move;
pub(crate) mod account_password;
pub(crate) mod account_pause;
pub(crate) mod account_test;
pub(crate) mod agenda;
pub(crate) mod calendar_add;
pub(crate) mod calendar_create;
pub(crate) mod calendar_forget;
pub(crate) mod calendar_list;
pub(crate) mod calendar_rename;
pub(crate) mod compare;
pub(crate) mod demo;
pub(crate) mod fields;
pub(crate) mod free;
pub(crate) mod held;
pub(crate) mod history;
pub(crate) mod init;
pub(crate) mod overview;
pub(crate) mod preview;
pub(crate) mod preview_text;
pub(crate) mod probe;
pub(crate) mod route;
pub(crate) mod route_edit;
#[cfg(test)]
mod schema;
pub(crate) mod snapshot;
pub(crate) mod state;
pub(crate) mod status;
pub(crate) mod sync;
pub(crate) mod trouble;
pub(crate) mod undo;
pub(crate) mod why;
