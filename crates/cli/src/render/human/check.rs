//! Whether a configuration works, for people.

use crate::render::{Column, below, clean, style, table};
use crate::report::check::{Line, Report, Standing};
use crate::words::check_summary;

pub(crate) fn human(report: &Report, all: bool) -> String {
    let mut out = check_summary(report);
    let columns = [("", Column::Whole), ("", Column::Whole), ("", Column::Name), ("", Column::Prose)];
    let row = |line: &Line, before: Option<&&Line>| {
        let (sign, paint) = match line.standing {
            Standing::Ok => ("✓", style::GOOD),
            Standing::Remark => ("!", style::WARN),
            Standing::Wrong => ("✗", style::BAD),
            Standing::NotAsked => ("·", style::FAINT),
        };
        // Several lines about one thing name it once.
        let is_same = before.is_some_and(|before| (before.about, &before.name) == (line.about, &line.name));
        let (about, name) = if is_same { ("", String::new()) } else { (line.about, clean(&line.name)) };
        vec![style::paint(paint, sign), about.to_owned(), name, clean(&line.says)]
    };
    let is_shown = |line: &&Line| all || report.lines.len() <= ENOUGH || line.standing != Standing::Ok;
    let shown: Vec<&Line> = report.lines.iter().filter(is_shown).collect();
    let rows = shown.iter().enumerate().flat_map(|(at, line)| {
        let fix = line.fix.as_ref().map(|fix| below(&clean(fix)));
        let before = at.checked_sub(1).and_then(|at| shown.get(at));
        std::iter::once(row(line, before)).chain(fix).collect::<Vec<_>>()
    });
    out += &table(&columns, &rows.collect::<Vec<_>>());
    if shown.len() < report.lines.len() {
        out += &format!("  … and {} in order; -v names them all\n", report.lines.len() - shown.len());
    }
    out
}

/// More lines are summarised.
const ENOUGH: usize = 40;
