//! What went with an account, for people.

use crate::render::clean;
use crate::report::account_forget::Report;

pub(crate) fn human(report: &Report) -> String {
    let mut out = format!("Account {} is out of the configuration.\n", clean(&report.account));
    for (words, list) in [("Deleted", &report.forgotten), ("Left where it is", &report.left)] {
        for one in list {
            out += &format!("{words}: {}\n", clean(one));
        }
    }
    out
}
