//! Text from calendars and servers is untrusted: what reaches the terminal has no control characters.

use anstyle::{Ansi256Color, Style};
use unicode_width::{UnicodeWidthChar as _, UnicodeWidthStr as _};

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

/// Returns a name as it is typed in a command: in quotation marks where a shell would take it apart.
pub(crate) fn typed(name: &str) -> String {
    shell_words::quote(&clean(name)).into_owned()
}

/// No honest title or reason is longer; one that is must not bury what stands around it.
const LONGEST: usize = 150;

/// Returns a clean text, whole unless it is absurdly long.
pub(crate) fn readable(text: &str) -> String {
    shorten(text, LONGEST)
}

/// Returns what is done to an entry with a sign before it, which carries the meaning where there is no colour.
pub(crate) fn signed(action: &str) -> String {
    let (sign, paint) = match action {
        "create" | "created" | "create again" => ('+', style::GOOD),
        "update" | "updated" | "put back" => ('~', style::WARN),
        "delete" | "deleted" => ('−', style::BAD),
        _ => return format!("  {action}"),
    };
    style::paint(paint, format!("{sign} {action}"))
}

/// Returns a clean text of at most `limit` columns.
pub(crate) fn shorten(text: &str, limit: usize) -> String {
    cut(&clean(text), limit, false)
}

/// Breaks a clean text into lines of at most `limit` columns, at blanks.
pub(crate) fn wrap(text: &str, limit: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in clean(text).split(' ').filter(|word| !word.is_empty()) {
        match lines.last_mut() {
            Some(line) if width(line) + 1 + width(word) <= limit => {
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

/// Returns a text without its colours.
pub(crate) fn plain(text: &str) -> String {
    anstream::adapter::strip_str(text).to_string()
}

/// How many columns a text takes on a terminal; its colours take none.
pub(crate) fn width(text: &str) -> usize {
    // Most cells of a long table have no colour.
    if text.contains('\u{1b}') { plain(text).width() } else { text.width() }
}

/// The pieces of a painted text, with their widths: one character, or one mark of colour, which has none.
fn pieces(text: &str) -> Vec<(&str, usize)> {
    let mut pieces = Vec::new();
    let mut rest = text;
    while let Some(first) = rest.chars().next() {
        let (length, wide) = match (first, rest.find('m')) {
            ('\u{1b}', Some(end)) => (end + 1, 0),
            _ => (first.len_utf8(), first.width().unwrap_or(0)),
        };
        let (piece, left) = rest.split_at(length);
        pieces.push((piece, wide));
        rest = left;
    }
    pieces
}

/// Cuts a clean text, painted or not, to at most `limit` columns; what is gone from its middle or its end is marked.
pub(crate) fn cut(text: &str, limit: usize, in_middle: bool) -> String {
    if width(text) <= limit {
        return text.to_owned();
    }
    let pieces = pieces(text);
    let room = limit.saturating_sub(1);
    let at_end = if in_middle { room / 2 } else { 0 };
    let fits = |from: &mut dyn Iterator<Item = &(&str, usize)>, room: usize| {
        let mut used = 0;
        from.take_while(|(_, wide)| {
            used += wide;
            used <= room
        })
        .count()
    };
    let head = fits(&mut pieces.iter(), room - at_end);
    let tail = pieces.len() - fits(&mut pieces.iter().rev(), at_end).min(pieces.len() - head);
    let mut out: String = pieces[..head].iter().map(|(piece, _)| *piece).collect();
    out.push('…');
    // Colours that begin or end within what is gone do so all the same.
    out.extend(
        pieces[head..tail].iter().filter(|(piece, _)| piece.starts_with('\u{1b}')).map(|(piece, _)| *piece),
    );
    out.extend(pieces[tail..].iter().map(|(piece, _)| *piece));
    out
}

/// Breaks a line, painted or not, at blanks into lines of at most `limit` columns; what follows is set in. A word that is
/// wider, and a command between backticks, stays whole: whoever copies it gets all of it.
pub(crate) fn broken_at_blanks(line: &str, limit: usize) -> Vec<String> {
    let indent = line.len() - line.trim_start_matches(' ').len();
    broken_with(line, limit, indent, (indent + 2).min(limit / 3))
}

/// Breaks a cell of a table, painted as a whole or not at all, into lines of at most `limit` columns.
pub(crate) fn broken_within(cell: &str, limit: usize) -> String {
    let is_painted = cell.starts_with('\u{1b}') && cell.ends_with('m');
    let marks = if is_painted { (cell.find('m'), cell.rfind('\u{1b}')) } else { (None, None) };
    let (begin, inner, end) = match marks {
        (Some(begin), Some(end)) if begin < end => (&cell[..=begin], &cell[begin + 1..end], &cell[end..]),
        _ => ("", cell, ""),
    };
    let lines = broken_with(inner, limit, 0, 0).into_iter().map(|line| format!("{begin}{line}{end}"));
    lines.collect::<Vec<_>>().join("\n")
}

/// The same, set in by `inset` columns from the second line on; the first is by `indent`.
pub(crate) fn broken_with(line: &str, limit: usize, indent: usize, inset: usize) -> Vec<String> {
    if width(line) <= limit {
        return vec![line.to_owned()];
    }
    let inset = " ".repeat(inset);
    let mut lines = vec![line[..indent].to_owned()];
    let mut used = indent;
    let mut gap = 0;
    for word in words(&line[indent..]) {
        let wide = width(word);
        if word.is_empty() {
            gap += 1;
            continue;
        }
        let is_first = lines.last().is_some_and(|line| line.trim().is_empty());
        if !is_first && used + gap + wide > limit {
            lines.push(inset.clone());
            (used, gap) = (inset.len(), 0);
        }
        if let Some(last) = lines.last_mut() {
            last.push_str(&" ".repeat(gap));
            last.push_str(word);
        }
        used += gap + wide;
        gap = 1;
    }
    lines
}

/// The words of a line, empty ones where blanks follow each other; what stands between backticks is one.
pub(crate) fn words(line: &str) -> Vec<&str> {
    let mut words = Vec::new();
    let (mut from, mut is_command) = (0, false);
    for (at, c) in line.char_indices() {
        match c {
            '`' => is_command = !is_command && line[at + 1..].contains('`'),
            ' ' if !is_command => {
                words.push(&line[from..at]);
                from = at + 1;
            }
            _ => {}
        }
    }
    words.push(&line[from..]);
    words
}

/// `1 entry`, `2 entries`.
pub(crate) fn count(number: usize, one: &str, many: &str) -> String {
    format!("{number} {}", if number == 1 { one } else { many })
}

/// Named styles; colour is taken away again where it is not wanted.
pub(crate) mod style {
    use super::{Ansi256Color, Style};

    /// Three of the 256 colours (xterm's cube) that can be read on black and on white alike: a contrast of 4.5 and more
    /// with both. The sixteen that every terminal has are as its owner set them, and bright yellow on white is none.
    pub(crate) const LEGIBLE: [Ansi256Color; 3] = [Ansi256Color(29), Ansi256Color(131), Ansi256Color(163)];
    pub(crate) const GOOD: Style = LEGIBLE[0].on_default();
    pub(crate) const WARN: Style = LEGIBLE[1].on_default();
    pub(crate) const BAD: Style = LEGIBLE[2].on_default().bold();
    pub(crate) const STRONG: Style = Style::new().bold();
    pub(crate) const FAINT: Style = Style::new().dimmed();

    /// Puts a style around a text.
    pub(crate) fn paint(style: Style, text: impl std::fmt::Display) -> String {
        format!("{style}{text}{style:#}")
    }
}

#[cfg(test)]
mod tests {
    use super::style::LEGIBLE;

    /// Relative luminance and contrast as WCAG 2 defines them.
    #[test]
    fn colours_are_legible_on_black_and_on_white() {
        let linear = |level: u8| {
            let part = f64::from(level) / 255.0;
            if part <= 0.03928 { part / 12.92 } else { ((part + 0.055) / 1.055).powf(2.4) }
        };
        for color in LEGIBLE {
            let at = color.0 - 16;
            let [r, g, b] = [at / 36, at / 6 % 6, at % 6]
                .map(|step| linear([0, 95, 135, 175, 215, 255][usize::from(step)]));
            let luminance = 0.2126 * r + 0.7152 * g + 0.0722 * b;
            assert!(1.05 / (luminance + 0.05) >= 4.5 && (luminance + 0.05) / 0.05 >= 4.5, "{color:?}");
        }
    }
}
