//! A calendar that was made, for people.

use crate::render::{clean, typed};
use crate::report::calendar_create::Report;

pub(crate) fn human(report: &Report) -> String {
    let Report { account, name, path, called, differs, .. } = report;
    let mut out = format!("Made {:?} at account {account}: {}\n", clean(name), clean(path));
    for difference in differs {
        out += &format!("The server made it otherwise than it was asked: {}.\n", clean(difference));
    }
    out += &format!(
        "The configuration calls it {called}.\nNext: chestnut route add NAME --to {typed}\n",
        typed = typed(called)
    );
    out
}
