//! Accounts, for people.

use crate::render::{Column, clean, table};
use crate::report::account_list::{AccountReport, Report};

pub(crate) fn human(report: &Report) -> String {
    let columns = [
        ("Account", Column::Name),
        ("Address", Column::Whole),
        ("User", Column::Whole),
        ("Sign-in", Column::Prose),
        ("Calendars", Column::Prose),
        ("Routes", Column::Prose),
    ];
    let list = |names: &[String]| if names.is_empty() { "-".to_owned() } else { clean(&names.join(", ")) };
    let row = |a: &AccountReport| {
        let user = a.user.as_deref().unwrap_or("-");
        vec![
            clean(&a.account),
            clean(&a.url),
            clean(user),
            clean(&a.sign_in),
            list(&a.calendars),
            list(&a.routes),
        ]
    };
    table(&columns, &report.accounts.iter().map(row).collect::<Vec<_>>())
}
