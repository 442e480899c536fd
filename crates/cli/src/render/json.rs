//! Reports as programs read them.

/// Turns a report into the one JSON document of a command.
pub(crate) fn json(report: &impl serde::Serialize) -> String {
    let mut text = serde_json::to_string_pretty(report).expect("reports turn into JSON");
    text.push('\n');
    text
}
