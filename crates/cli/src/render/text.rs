//! Text from calendars and servers is untrusted: what reaches the terminal has no control characters.

use anstyle::{AnsiColor, Style};
use unicode_width::UnicodeWidthChar as _;

/// Returns a text on one line, without control characters and without those that turn the direction of writing.
pub(crate) fn clean(text: &str) -> String {
    let harmless = |c: char| match c {
        '\n' | '\r' | '\t' => ' ',
        c if c.is_control() => '\u{fffd}',
        '\u{202a}'..='\u{202e}'
        | '\u{2066}'..='\u{2069}'
        | '\u{200e}'
        | '\u{200f}'
        | '\u{2028}'
        | '\u{2029}'
        // Marks of direction, and what takes no room: a text could say something else than it shows. Joiners stay, of
        // which letters and pictures are made.
        | '\u{61c}'
        | '\u{200b}'
        | '\u{2060}'..='\u{2064}'
        | '\u{feff}'
        | '\u{e0000}'..='\u{e007f}' => '\u{fffd}',
        c => c,
    };
    text.chars().map(harmless).collect()
}

/// Returns a clean text of at most `width` columns.
pub(crate) fn shorten(text: &str, width: usize) -> String {
    let text = clean(text);
    let mut used = 0;
    let mut out = String::new();
    for c in text.chars() {
        let wide = c.width().unwrap_or(0);
        if used + wide >= width && used + wide + rest_width(&text, out.len() + c.len_utf8()) > width {
            out.push('…');
            return out;
        }
        used += wide;
        out.push(c);
    }
    out
}

fn rest_width(text: &str, from: usize) -> usize {
    text[from..].chars().map(|c| c.width().unwrap_or(0)).sum()
}

/// Breaks a clean text into lines of at most `width` columns, at blanks.
pub(crate) fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in clean(text).split(' ').filter(|word| !word.is_empty()) {
        match lines.last_mut() {
            Some(line) if rest_width(line, 0) + 1 + rest_width(word, 0) <= width => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines
}

/// Breaks a clean text into lines of `width` characters, wherever that is: nothing is cut.
pub(crate) fn broken(text: &str, width: usize) -> Vec<String> {
    let characters: Vec<char> = clean(text).chars().collect();
    characters.chunks(width).map(|line| line.iter().collect()).collect()
}

/// `1 entry`, `2 entries`.
pub(crate) fn count(number: usize, one: &str, many: &str) -> String {
    format!("{number} {}", if number == 1 { one } else { many })
}

/// Named styles; colour is taken away again where it is not wanted.
pub(crate) mod style {
    use super::{AnsiColor, Style};

    pub(crate) const GOOD: Style = AnsiColor::Green.on_default();
    pub(crate) const WARN: Style = AnsiColor::Yellow.on_default();
    pub(crate) const BAD: Style = AnsiColor::Red.on_default().bold();
    pub(crate) const STRONG: Style = Style::new().bold();
    pub(crate) const FAINT: Style = Style::new().dimmed();

    /// Puts a style around a text.
    pub(crate) fn paint(style: Style, text: impl std::fmt::Display) -> String {
        format!("{style}{text}{style:#}")
    }
}
