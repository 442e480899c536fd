//! A sheet of characters with styles, for pictures made of text.

use anstyle::Style;
use unicode_width::UnicodeWidthChar as _;

/// One place on it; what is two places wide takes the next one, too.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Place {
    sign: char,
    style: Style,
    is_taken: bool,
}

const EMPTY: Place = Place { sign: ' ', style: Style::new(), is_taken: false };

#[derive(Debug)]
pub(crate) struct Canvas {
    rows: Vec<Vec<Place>>,
}

impl Canvas {
    pub(crate) fn new(width: usize, height: usize) -> Self {
        Self { rows: vec![vec![EMPTY; width]; height] }
    }

    /// Puts a text into at most `most` places of a row.
    pub(crate) fn put(&mut self, row: usize, left: usize, most: usize, text: &str, style: Style) {
        let Some(places) = self.rows.get_mut(row) else { return };
        let end = (left + most).min(places.len());
        let mut at = left;
        for sign in text.chars() {
            let width = sign.width().unwrap_or(0);
            if width == 0 {
                continue;
            }
            if at + width > end {
                break;
            }
            // Whoever stood half under it is gone.
            if places[at].is_taken && at > 0 {
                places[at - 1] = Place { sign: ' ', ..places[at - 1] };
            }
            places[at] = Place { sign, style, is_taken: false };
            if width == 2 {
                places[at + 1] = Place { sign: ' ', style, is_taken: true };
            }
            at += width;
            if places.get(at).is_some_and(|place| place.is_taken) {
                places[at] = EMPTY;
            }
        }
    }

    /// Fills places of a row with a style.
    pub(crate) fn fill(&mut self, row: usize, left: usize, width: usize, style: Style) {
        if let Some(places) = self.rows.get_mut(row) {
            let end = (left + width).min(places.len());
            for place in places.get_mut(left..end).into_iter().flatten() {
                *place = Place { style, ..EMPTY };
            }
        }
    }

    /// Lets a text flow down several rows; it is broken at blanks, where there are some.
    pub(crate) fn flow(&mut self, rows: (usize, usize), left: usize, width: usize, text: &str, style: Style) {
        let mut rest: Vec<char> = text.chars().collect();
        for row in rows.0..=rows.1 {
            if rest.is_empty() || width == 0 {
                return;
            }
            let fits = fitting(&rest, width);
            let is_broken = fits < rest.len() && rest[fits] != ' ' && row < rows.1;
            let blank = rest[..fits].iter().rposition(|sign| *sign == ' ').filter(|at| is_broken && *at > 0);
            let used = blank.unwrap_or(fits.max(1));
            let line: String = rest[..used].iter().collect();
            self.put(row, left, width, &line, style);
            rest.drain(..used);
            while rest.first() == Some(&' ') {
                rest.remove(0);
            }
        }
    }

    /// The sheet as lines, without blanks at their ends.
    pub(crate) fn text(&self) -> String {
        let mut out = String::new();
        for row in &self.rows {
            let plain = |place: &Place| place.sign == ' ' && place.style == Style::new() && !place.is_taken;
            let end = row.iter().rposition(|place| !plain(place)).map_or(0, |at| at + 1);
            let mut now = Style::new();
            for place in row[..end].iter().filter(|place| !place.is_taken) {
                if place.style != now {
                    out += &format!("{now:#}{}", place.style);
                    now = place.style;
                }
                out.push(place.sign);
            }
            out += &format!("{now:#}\n");
        }
        out
    }
}

/// How many of these characters fit into so many places.
fn fitting(text: &[char], width: usize) -> usize {
    let mut used = 0;
    let fits = |sign: &&char| {
        used += sign.width().unwrap_or(0);
        used <= width
    };
    text.iter().take_while(fits).count()
}
