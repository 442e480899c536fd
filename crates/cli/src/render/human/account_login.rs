//! A sign-in that was done, for people.

use crate::render::{clean, style, typed};
use crate::report::account_login::Report;

pub(crate) fn human(report: &Report) -> String {
    let renewed = match report.renewable {
        true => String::new(),
        false => style::paint(
            style::WARN,
            "The service gave nothing to renew the sign-in with: it ends by itself, and must be done again.\n",
        ),
    };
    let (kept, name) = (clean(&report.kept_in), clean(&report.account));
    format!(
        "Signed in. The tokens are kept in {kept}, for you alone.\n{renewed}Next: chestnut account test {typed}\n",
        typed = typed(&name)
    )
}
