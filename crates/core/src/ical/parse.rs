//! Reads content lines into components. Nothing is copied unless a line is folded.

use std::borrow::Cow;

use serde::{Deserialize, Serialize};

use super::{Component, Item, Property, property::is_content_line};

/// Bounds on what is read, so that hostile input ends in an error and not in exhausted memory.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits {
    /// Longest unfolded line, in bytes (an inline attachment is one line).
    pub line: usize,
    /// Deepest nesting of components.
    pub depth: usize,
    /// Most content lines in all.
    pub lines: usize,
}

impl Default for Limits {
    fn default() -> Self {
        Self { line: 64 << 20, depth: 16, lines: 50_000_000 }
    }
}

/// The name of a component, for an error, where it is one of the standard's; else `…`. In a text that is not understood a
/// name may be anything: as long as the whole text, or the secret by which it was asked for.
pub(crate) fn quote(name: &str) -> String {
    let standards = [
        "VCALENDAR",
        "VEVENT",
        "VTODO",
        "VJOURNAL",
        "VFREEBUSY",
        "VTIMEZONE",
        "VALARM",
        "STANDARD",
        "DAYLIGHT",
        "VAVAILABILITY",
        "AVAILABLE",
        "VLOCATION",
        "VRESOURCE",
        "PARTICIPANT",
        "VCARD",
    ];
    let standard = standards.iter().find(|standard| name.eq_ignore_ascii_case(standard));
    standard.map_or_else(|| "…".to_owned(), |standard| (*standard).to_owned())
}

/// Why a text is not iCalendar, and where. Its display form is for developers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[error("{self:?}")]
pub struct ParseError {
    /// The physical line on which the content line begins; the first is 1.
    pub line: usize,
    /// The byte within the unfolded content line; the first is 1.
    pub column: usize,
    /// What is wrong there.
    pub problem: ParseProblem,
}

/// What can be wrong with a text.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum ParseProblem {
    /// Not one component in it: an empty answer, a web page, another format.
    NotCalendar,
    /// A line without a colon, or without a name before it.
    NoColon,
    /// `BEGIN:` with nothing behind it, or with what is no name (RFC 5545, 3.1: letters, digits and hyphens).
    NoName,
    /// The text ends inside a component, which is named: it was cut off. Untrusted text.
    CutOff(String),
    /// `END:` that closes nothing, or something else than was opened.
    WrongEnd {
        /// What the text closes; untrusted text.
        found: String,
        /// What was opened last; empty outside any component; untrusted text.
        expected: String,
    },
    /// A property before `BEGIN:` or after the last `END:`.
    Outside,
    /// Bytes that are not UTF-8, even after unfolding.
    NotUtf8,
    /// A bound of [`Limits`] was passed.
    TooMuch {
        /// What there is too much of.
        what: Bound,
        /// The bound.
        limit: usize,
    },
    /// More or fewer objects than the one that was asked for.
    NotOne(usize),
}

/// What [`Limits`] bounds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Bound {
    /// The lines of a text.
    Lines,
    /// The days that one entry names one by one (RFC 5545, 3.8.5).
    Days,
    /// The bytes of one entry.
    EntryBytes,
    /// The bytes of one unfolded line.
    LineBytes,
    /// Components inside one another.
    Depth,
}

/// The longest name of a component, in bytes: its line needs no folding.
const LONGEST_NAME: usize = 64;

/// Reads every top-level component of a text (nearly always one VCALENDAR).
///
/// CRLF, LF and a byte order mark are read; blank lines are passed over; folds may stand inside a UTF-8
/// character (RFC 5545, 3.1). Every line is checked here; what is inside components is taken apart when it is
/// asked for.
///
/// # Errors
/// [`ParseError`] with line and column: not iCalendar, cut off, unbalanced, not UTF-8, or over a limit.
pub fn parse<'a>(input: &'a [u8], limits: &Limits) -> Result<Vec<Component<'a>>, ParseError> {
    let input = input.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(input);
    match std::str::from_utf8(input) {
        Ok(text) => Checker::new(limits).run(text),
        Err(_) => parse_bytes(input, limits),
    }
}

/// Reads a text that must be exactly one component.
///
/// # Errors
/// As [`parse`], and [`ParseProblem::NotOne`].
pub fn parse_one<'a>(input: &'a [u8], limits: &Limits) -> Result<Component<'a>, ParseError> {
    let mut objects = parse(input, limits)?;
    match (objects.pop(), objects.len()) {
        (Some(object), 0) => Ok(object),
        (_, others) => Err(ParseError { line: 1, column: 1, problem: ParseProblem::NotOne(others + 1) }),
    }
}

/// The slow way, for folds inside a character: unfold the bytes first, then look for UTF-8 line by line.
fn parse_bytes<'b>(input: &[u8], limits: &Limits) -> Result<Vec<Component<'b>>, ParseError> {
    let mut unfolded: Vec<(usize, Vec<u8>)> = Vec::new();
    for (number, line) in input.split(|b| *b == b'\n').enumerate() {
        let line = line.strip_suffix(b"\r").unwrap_or(line);
        match (line.first(), unfolded.last_mut()) {
            (Some(b' ' | b'\t'), Some((_, last))) => last.extend_from_slice(&line[1..]),
            _ => unfolded.push((number + 1, line.to_vec())),
        }
    }
    let mut text = String::with_capacity(input.len());
    let mut numbers = Vec::with_capacity(unfolded.len());
    for (number, bytes) in unfolded {
        let line = String::from_utf8(bytes).map_err(|e| ParseError {
            line: number,
            column: e.utf8_error().valid_up_to() + 1,
            problem: ParseProblem::NotUtf8,
        })?;
        numbers.push(number);
        text.push_str(&line);
        text.push('\n');
    }
    match Checker::new(limits).run(&text) {
        Ok(components) => Ok(components.into_iter().map(Component::detach).collect()),
        // Lines were joined: tell the number that the line has in the input.
        Err(error) => {
            Err(ParseError { line: numbers.get(error.line - 1).copied().unwrap_or(error.line), ..error })
        }
    }
}

fn line_number(input: &[u8], offset: usize) -> usize {
    memchr::memchr_iter(b'\n', &input[..offset]).count() + 1
}

/// One content line, and where it stands in its text.
struct Line<'a> {
    /// Unfolded; borrowed unless it was folded.
    text: Cow<'a, str>,
    start: usize,
    /// Where the next line begins.
    next: usize,
}

/// Content lines of a text, unfolded.
struct Lines<'a> {
    text: &'a str,
    at: usize,
    ends: memchr::Memchr<'a>,
}

impl<'a> Lines<'a> {
    fn new(text: &'a str) -> Self {
        Self { text, at: 0, ends: memchr::memchr_iter(b'\n', text.as_bytes()) }
    }

    /// One physical line without its line end.
    #[inline]
    fn physical(&mut self) -> &'a str {
        let end = self.ends.next().unwrap_or(self.text.len());
        let start = std::mem::replace(&mut self.at, end + 1);
        let line = &self.text[start..end];
        line.strip_suffix('\r').unwrap_or(line)
    }

    #[inline]
    fn goes_on(&self) -> bool {
        matches!(self.text.as_bytes().get(self.at), Some(b' ' | b'\t'))
    }

    /// Joins a folded line; the folds are gone for good.
    #[cold]
    fn unfold(&mut self, first: &str) -> String {
        let mut whole = String::with_capacity(first.len() + 80);
        whole.push_str(first);
        while self.goes_on() {
            whole.push_str(&self.physical()[1..]);
        }
        whole
    }
}

impl<'a> Iterator for Lines<'a> {
    type Item = Line<'a>;

    #[inline]
    fn next(&mut self) -> Option<Line<'a>> {
        if self.at >= self.text.len() {
            return None;
        }
        let start = self.at;
        let line = self.physical();
        let text = if self.goes_on() { Cow::Owned(self.unfold(line)) } else { Cow::Borrowed(line) };
        Some(Line { text, start, next: self.at.min(self.text.len()) })
    }
}

/// What a content line is.
enum Mark<'l> {
    Begin(&'l str),
    End(&'l str),
    Other,
}

#[inline]
fn mark(line: &str) -> Mark<'_> {
    let bytes = line.as_bytes();
    match bytes.first().map(|b| b | 0x20) {
        Some(b'b') if has_prefix(bytes, b"BEGIN:") => Mark::Begin(line[6..].trim_ascii()),
        Some(b'e') if has_prefix(bytes, b"END:") => Mark::End(line[4..].trim_ascii()),
        _ => Mark::Other,
    }
}

/// Checks every line, and finds the top-level components.
struct Checker<'a, 'l> {
    limits: &'l Limits,
    /// The names of open components.
    open: Vec<Cow<'a, str>>,
    /// Where the lines of the outermost open component begin.
    body: usize,
    done: Vec<Component<'a>>,
    lines: usize,
    /// Bytes of the content line so far, its folds included.
    length: usize,
}

/// A fault, and its column. Boxed, so that a line without fault returns a null pointer and no more.
struct Fault(usize, ParseProblem);

type Checked = Result<(), Box<Fault>>;

fn fault(column: usize, problem: ParseProblem) -> Checked {
    Err(Box::new(Fault(column, problem)))
}

impl<'a, 'l> Checker<'a, 'l> {
    fn new(limits: &'l Limits) -> Self {
        Self { limits, open: Vec::new(), body: 0, done: Vec::new(), lines: 0, length: 0 }
    }

    fn run(mut self, text: &'a str) -> Result<Vec<Component<'a>>, ParseError> {
        let bytes = text.as_bytes();
        let mut lines = Lines::new(text);
        while lines.at < bytes.len() {
            let start = lines.at;
            let end = lines.ends.next().unwrap_or(bytes.len());
            lines.at = end + 1;
            // BEGIN, END, and the rest of a folded line; everything else is a property that begins here.
            let special = matches!(bytes[start] | 0x20, b'b' | b'e' | b' ' | b')') || self.open.is_empty();
            let checked = if special {
                self.take_special(text, start, end, &mut lines)
            } else {
                let line = &bytes[start..end];
                self.lines += 1;
                self.length = line.len();
                match self.lines <= self.limits.lines
                    && line.len() <= self.limits.line
                    && is_content_line(line).is_ok()
                {
                    true => Ok(()),
                    false => self.take_odd(text, start, end, &mut lines),
                }
            };
            if let Err(fault) = checked {
                return Err(ParseError {
                    line: line_number(bytes, start),
                    column: fault.0,
                    problem: fault.1,
                });
            }
        }
        let last = line_number(bytes, text.trim_end().len());
        match self.open.pop() {
            Some(name) => Err(ParseProblem::CutOff(quote(&name))),
            None if self.done.is_empty() => Err(ParseProblem::NotCalendar),
            None => return Ok(self.done),
        }
        .map_err(|problem| ParseError { line: last, column: 1, problem })
    }

    /// A line that may be BEGIN or END, or goes on with a folded one.
    fn take_special(&mut self, text: &'a str, start: usize, end: usize, lines: &mut Lines<'a>) -> Checked {
        let bytes = text.as_bytes();
        if matches!(bytes[start], b' ' | b'\t') && !self.open.is_empty() && start > self.body {
            // The line it belongs to was checked already; all that can be wrong is its length.
            self.length += end - start;
            return if self.length > self.limits.line { self.too_much() } else { Ok(()) };
        }
        let plain = !lines.goes_on() && self.lines < self.limits.lines && end - start <= self.limits.line;
        let stop = end - usize::from(end > start && bytes[end - 1] == b'\r');
        match &bytes[start..stop] {
            // As everybody writes them; other ways of writing them take the longer way below.
            [b'B', b'E', b'G', b'I', b'N', b':', ..] if plain => {
                self.lines += 1;
                return self
                    .begin(Cow::Borrowed(text[start + 6..stop].trim_ascii()), lines.at.min(text.len()));
            }
            [b'E', b'N', b'D', b':', name @ ..]
                if plain
                    && self.open.len() > 1
                    && self.open.last().is_some_and(|open| open.as_bytes() == name) =>
            {
                self.lines += 1;
                self.open.pop();
                return Ok(());
            }
            _ => {}
        }
        let line = text[start..end].strip_suffix('\r').unwrap_or(&text[start..end]);
        let body = &text[self.body.min(start)..start];
        if lines.goes_on() {
            let whole = lines.unfold(line);
            let keep = |name: &str| Cow::Owned(name.to_owned());
            self.take(&whole, keep, body, lines.at.min(text.len()))
        } else {
            self.take(line, Cow::Borrowed, body, lines.at.min(text.len()))
        }
    }

    /// A blank line, a fault, or a line that is folded before its colon.
    #[cold]
    fn take_odd(&mut self, text: &'a str, start: usize, end: usize, lines: &mut Lines<'a>) -> Checked {
        self.lines -= 1;
        let line = text[start..end].strip_suffix('\r').unwrap_or(&text[start..end]);
        let whole = match lines.goes_on() {
            // What a blank line goes on with belongs to nothing: it may look like any line.
            true if line.is_empty() => return fault(1, ParseProblem::NoColon),
            true => Cow::Owned(lines.unfold(line)),
            false => Cow::Borrowed(line),
        };
        self.take_property(whole.as_bytes())
    }

    fn take_property(&mut self, line: &[u8]) -> Checked {
        if line.is_empty() {
            return Ok(());
        }
        self.lines += 1;
        self.length = line.len();
        if self.lines > self.limits.lines || line.len() > self.limits.line {
            return self.too_much();
        }
        is_content_line(line).map_err(|at| Box::new(Fault(at + 1, ParseProblem::NoColon)))
    }

    /// Takes a line that may be BEGIN or END. `body` are the lines of the outermost component so far, `next` is
    /// where the next line begins; `keep` makes a name last.
    #[inline]
    fn take<'n>(
        &mut self,
        line: &'n str,
        keep: impl Fn(&'n str) -> Cow<'a, str>,
        body: &'a str,
        next: usize,
    ) -> Checked {
        let mark = mark(line);
        if matches!(mark, Mark::Other) && self.open.is_empty() {
            return self.outside(line.as_bytes());
        }
        self.take_property(line.as_bytes())?;
        match mark {
            Mark::Other => Ok(()),
            Mark::Begin(name) => self.begin(keep(name), next),
            Mark::End(name) => self.end(name, body),
        }
    }

    #[cold]
    fn too_much(&self) -> Checked {
        let (what, limit) = match self.lines > self.limits.lines {
            true => (Bound::Lines, self.limits.lines),
            false => (Bound::LineBytes, self.limits.line),
        };
        fault(1, ParseProblem::TooMuch { what, limit })
    }

    /// Blanks around components are no fault.
    #[cold]
    fn outside(&self, line: &[u8]) -> Checked {
        match (line.is_empty(), self.done.is_empty(), line.iter().all(u8::is_ascii_whitespace)) {
            (true, ..) | (false, false, true) => Ok(()),
            (false, true, _) => fault(1, ParseProblem::NotCalendar),
            (false, false, false) => fault(1, ParseProblem::Outside),
        }
    }

    fn begin(&mut self, name: Cow<'a, str>, body: usize) -> Checked {
        if self.open.len() >= self.limits.depth {
            return fault(1, ParseProblem::TooMuch { what: Bound::Depth, limit: self.limits.depth });
        }
        let is_of_a_name = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_' | b'.');
        if name.is_empty() || name.len() > LONGEST_NAME || !name.bytes().all(is_of_a_name) {
            return fault(7, ParseProblem::NoName);
        }
        if self.open.is_empty() {
            self.body = body;
        }
        self.open.push(name);
        Ok(())
    }

    fn end(&mut self, found: &str, lines: &'a str) -> Checked {
        let Some(name) = self.open.pop_if(|name| name == found || name.eq_ignore_ascii_case(found)) else {
            let expected = self.open.last().map_or_else(String::new, |name| quote(name));
            return fault(1, ParseProblem::WrongEnd { found: quote(found), expected });
        };
        if self.open.is_empty() {
            self.done.push(Component::unread(name, Cow::Borrowed(lines)));
        }
        Ok(())
    }
}

/// Names are nearly always the same few: they need no allocation.
fn known_name(name: &str) -> Cow<'static, str> {
    const NAMES: &[&str] =
        &["VCALENDAR", "VEVENT", "VTODO", "VJOURNAL", "VALARM", "VTIMEZONE", "STANDARD", "DAYLIGHT"];
    let known = NAMES.iter().find(|known| **known == name);
    known.map_or_else(|| Cow::Owned(name.to_owned()), |known| Cow::Borrowed(*known))
}

/// Takes checked lines apart, one level deep: components inside stay unread.
pub(super) fn read_items(text: &str) -> Vec<Item<'_>> {
    let mut items = Vec::with_capacity(16);
    items.extend(items_in(text));
    items
}

/// Gives what [`read_items`] does, one after the other, for who keeps nothing of it.
pub(super) fn items_in(text: &str) -> impl Iterator<Item = Item<'_>> {
    let mut lines = Lines::new(text);
    std::iter::from_fn(move || {
        while let Some(line) = lines.next() {
            match mark(&line.text) {
                Mark::Begin(name) => {
                    let name = known_name(name);
                    let body = skip_component(text, line.next, &mut lines);
                    return Some(Item::Component(Box::new(Component::unread(name, Cow::Borrowed(body)))));
                }
                Mark::Other if !line.text.is_empty() => {
                    return Some(Item::Property(Property::from_line(line.text)));
                }
                Mark::End(_) | Mark::Other => {}
            }
        }
        None
    })
}

/// Returns the lines up to the END that closes what was just begun.
fn skip_component<'a>(text: &'a str, from: usize, lines: &mut Lines<'a>) -> &'a str {
    let mut depth = 1;
    for line in lines {
        match mark(&line.text) {
            Mark::Begin(_) => depth += 1,
            Mark::End(_) => depth -= 1,
            Mark::Other => {}
        }
        if depth == 0 {
            return &text[from..line.start];
        }
    }
    &text[from..]
}

#[inline]
fn has_prefix(line: &[u8], prefix: &[u8]) -> bool {
    line.get(..prefix.len()).is_some_and(|head| head == prefix || head.eq_ignore_ascii_case(prefix))
}
