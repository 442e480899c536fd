//! Reads content lines into components. Nothing is copied unless a line is folded.

use std::borrow::Cow;

use super::{Component, Property, property::locate_value};

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

/// Why a text is not iCalendar, and where.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}, column {column}: {problem}")]
pub struct ParseError {
    /// The physical line on which the content line begins; the first is 1.
    pub line: usize,
    /// The byte within the unfolded content line; the first is 1.
    pub column: usize,
    /// What is wrong there.
    pub problem: ParseProblem,
}

/// What can be wrong with a text.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ParseProblem {
    /// Not one component in it: an empty answer, a web page, another format.
    #[error("this is no iCalendar text (it does not begin with BEGIN:)")]
    NotCalendar,
    /// A line without a colon, or without a name before it.
    #[error("a line without a name and a colon")]
    NoColon,
    /// The text ends inside a component: it was cut off.
    #[error("the text ends before END:{0}")]
    CutOff(String),
    /// `END:` that closes nothing, or something else than was opened.
    #[error("END:{found} where END:{expected} should stand")]
    WrongEnd {
        /// What the text closes.
        found: String,
        /// What was opened last; empty outside any component.
        expected: String,
    },
    /// A property before `BEGIN:` or after the last `END:`.
    #[error("a property outside any component")]
    Outside,
    /// Bytes that are not UTF-8, even after unfolding.
    #[error("bytes that are not UTF-8")]
    NotUtf8,
    /// A bound of [`Limits`] was passed.
    #[error("more than the limit of {limit} {what}")]
    TooMuch {
        /// What there is too much of.
        what: &'static str,
        /// The bound.
        limit: usize,
    },
    /// More or fewer objects than the one that was asked for.
    #[error("{0} calendar objects where one should stand")]
    NotOne(usize),
}

/// Reads every top-level component of a text (nearly always one VCALENDAR).
///
/// CRLF, LF and a byte order mark are read; blank lines are passed over; folds may stand inside a UTF-8
/// character (RFC 5545, 3.1).
///
/// # Errors
/// [`ParseError`] with line and column: not iCalendar, cut off, unbalanced, not UTF-8, or over a limit.
pub fn parse<'a>(input: &'a [u8], limits: &Limits) -> Result<Vec<Component<'a>>, ParseError> {
    let input = input.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(input);
    match std::str::from_utf8(input) {
        Ok(text) => Parser::new(limits).run(Lines::new(text)),
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
fn parse_bytes(input: &[u8], limits: &Limits) -> Result<Vec<Component<'static>>, ParseError> {
    let mut unfolded: Vec<(usize, Vec<u8>)> = Vec::new();
    for (number, line) in input.split(|b| *b == b'\n').enumerate() {
        let line = line.strip_suffix(b"\r").unwrap_or(line);
        match (line.first(), unfolded.last_mut()) {
            (Some(b' ' | b'\t'), Some((_, last))) => last.extend_from_slice(&line[1..]),
            _ => unfolded.push((number + 1, line.to_vec())),
        }
    }
    let mut parser = Parser::new(limits);
    for (number, bytes) in unfolded {
        let line = String::from_utf8(bytes).map_err(|e| ParseError {
            line: number,
            column: e.utf8_error().valid_up_to() + 1,
            problem: ParseProblem::NotUtf8,
        })?;
        parser
            .take(Cow::Owned(line))
            .map_err(|(column, problem)| ParseError { line: number, column, problem })?;
    }
    parser.finish().map_err(|problem| ParseError { line: line_number(input, input.len()), column: 1, problem })
}

fn line_number(input: &[u8], offset: usize) -> usize {
    memchr::memchr_iter(b'\n', &input[..offset]).count() + 1
}

/// Content lines of a text, unfolded, with the offset at which each begins.
struct Lines<'a> {
    text: &'a str,
    at: usize,
    ends: memchr::Memchr<'a>,
}

impl<'a> Lines<'a> {
    fn new(text: &'a str) -> Self {
        Self { text, at: 0, ends: memchr::memchr_iter(b'\n', text.as_bytes()) }
    }

    /// One physical line from `self.at`, without its line end.
    #[inline]
    fn physical(&mut self) -> &'a str {
        let end = self.ends.next().unwrap_or(self.text.len());
        let line = &self.text[self.at..end];
        self.at = end + 1;
        line.strip_suffix('\r').unwrap_or(line)
    }

    #[inline]
    fn folded(&self) -> bool {
        matches!(self.text.as_bytes().get(self.at), Some(b' ' | b'\t'))
    }
}

impl<'a> Iterator for Lines<'a> {
    type Item = (usize, Cow<'a, str>);

    #[inline]
    fn next(&mut self) -> Option<Self::Item> {
        if self.at >= self.text.len() {
            return None;
        }
        let start = self.at;
        let line = self.physical();
        if !self.folded() {
            return Some((start, Cow::Borrowed(line)));
        }
        let mut whole = String::with_capacity(line.len() * 2 + 80);
        whole.push_str(line);
        while self.folded() {
            whole.push_str(&self.physical()[1..]);
        }
        Some((start, Cow::Owned(whole)))
    }
}

/// The components that are open, and those that are complete.
struct Parser<'a, 'l> {
    limits: &'l Limits,
    open: Vec<Component<'a>>,
    done: Vec<Component<'a>>,
    lines: usize,
}

type Fault = (usize, ParseProblem);

impl<'a, 'l> Parser<'a, 'l> {
    fn new(limits: &'l Limits) -> Self {
        Self { limits, open: Vec::new(), done: Vec::new(), lines: 0 }
    }

    fn run(mut self, lines: Lines<'a>) -> Result<Vec<Component<'a>>, ParseError> {
        let text = lines.text;
        for (offset, line) in lines {
            self.take(line).map_err(|(column, problem)| ParseError {
                line: line_number(text.as_bytes(), offset),
                column,
                problem,
            })?;
        }
        let last = line_number(text.as_bytes(), text.trim_end().len());
        self.finish().map_err(|problem| ParseError { line: last, column: 1, problem })
    }

    #[inline]
    fn take(&mut self, line: Cow<'a, str>) -> Result<(), Fault> {
        if line.is_empty() {
            return Ok(());
        }
        self.lines += 1;
        if self.lines > self.limits.lines {
            return Err((1, ParseProblem::TooMuch { what: "lines", limit: self.limits.lines }));
        }
        if line.len() > self.limits.line {
            return Err((1, ParseProblem::TooMuch { what: "bytes in one line", limit: self.limits.line }));
        }
        match line.as_bytes()[0] | 0x20 {
            b'b' if has_prefix(&line, "BEGIN:") => return self.begin(line),
            b'e' if has_prefix(&line, "END:") => return self.end(&line),
            _ => {}
        }
        let Some(current) = self.open.last_mut() else {
            let nothing_yet = self.done.is_empty();
            if nothing_yet || !line.trim().is_empty() {
                let problem = if nothing_yet { ParseProblem::NotCalendar } else { ParseProblem::Outside };
                return Err((1, problem));
            }
            return Ok(());
        };
        let (name_len, value_at) = locate_value(&line).map_err(|at| (at + 1, ParseProblem::NoColon))?;
        current.push_property(Property::from_parts(line, name_len, value_at));
        Ok(())
    }

    fn begin(&mut self, line: Cow<'a, str>) -> Result<(), Fault> {
        if self.open.len() >= self.limits.depth {
            return Err((1, ParseProblem::TooMuch { what: "nested components", limit: self.limits.depth }));
        }
        let name = match line {
            Cow::Borrowed(text) => Cow::Borrowed(text[6..].trim()),
            Cow::Owned(text) => Cow::Owned(text[6..].trim().to_owned()),
        };
        // Most entries have between eight and sixteen lines: one allocation serves.
        let room = if self.open.is_empty() { 8 } else { 16 };
        self.open.push(Component::with_capacity(name, room));
        Ok(())
    }

    fn end(&mut self, line: &str) -> Result<(), Fault> {
        let found = line[4..].trim();
        let Some(component) = self.open.pop_if(|open| open.is(found)) else {
            let expected = self.open.last().map_or_else(String::new, |c| c.name().to_owned());
            return Err((1, ParseProblem::WrongEnd { found: found.to_owned(), expected }));
        };
        match self.open.last_mut() {
            Some(outer) => outer.push_component(component),
            None => self.done.push(component),
        }
        Ok(())
    }

    fn finish(mut self) -> Result<Vec<Component<'a>>, ParseProblem> {
        match self.open.pop() {
            Some(open) => Err(ParseProblem::CutOff(open.name().to_owned())),
            None if self.done.is_empty() => Err(ParseProblem::NotCalendar),
            None => Ok(self.done),
        }
    }
}

#[inline]
fn has_prefix(line: &str, prefix: &str) -> bool {
    line.as_bytes().get(..prefix.len()).is_some_and(|head| head.eq_ignore_ascii_case(prefix.as_bytes()))
}
