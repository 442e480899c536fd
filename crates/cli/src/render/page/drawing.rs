//! Who feeds whom: calendars one under the other, and lines beside them. Routes that write one calendar share a line.

use std::collections::BTreeMap;

use maud::{Markup, html};

use super::class_of;
use crate::render::{clean, shorten};
use crate::report::overview::Calendar;
use crate::report::status::RouteStatus;

/// Sizes, in units of the picture.
const ROW: usize = 30;
const HEAD: usize = 26;
/// Between lines that leave one calendar.
const APART: usize = 16;

/// What differs by the room there is.
struct Measures {
    class: &'static str,
    /// How wide a calendar is, and how many letters its name has.
    calendar: usize,
    letters: usize,
    /// From there to the first line, and how many letters of the route's name stand there; its number, where there is
    /// no room.
    stub: usize,
    named: Option<usize>,
    /// How far lines are apart at most, and how wide they are all together.
    gap: usize,
    lanes: usize,
}

const WIDE: Measures =
    Measures { class: "wide", calendar: 290, letters: 27, stub: 230, named: Some(30), gap: 40, lanes: 480 };
const NARROW: Measures =
    Measures { class: "narrow", calendar: 190, letters: 16, stub: 44, named: None, gap: 22, lanes: 110 };

/// One end of a route.
struct End {
    /// The calendar, by its place.
    calendar: usize,
    /// The route, by its number.
    route: usize,
    is_written: bool,
    /// How far down it is.
    y: usize,
}

/// One line: what feeds one calendar, or calendars that are kept alike.
struct Line {
    ends: Vec<End>,
    lane: usize,
}

/// Draws it for wide and for narrow pages. Routes have the numbers of their places, from 1 on.
pub(super) fn drawing(calendars: &[Calendar], routes: &[RouteStatus]) -> Markup {
    let mut lines = lines(calendars, routes);
    let mut heads: Vec<(usize, String)> = Vec::new();
    let mut boxes: Vec<(usize, usize)> = Vec::new();
    let mut y = 4;
    for (at, calendar) in calendars.iter().enumerate() {
        let is_first = at == 0 || calendars[at - 1].account != calendar.account;
        if is_first && calendars.iter().any(|one| one.account.is_some()) {
            let words = calendar.account.as_deref().map_or("no sign-in".to_owned(), clean);
            heads.push((y + HEAD - 8, words));
            y += HEAD;
        }
        let mut ends: Vec<&mut End> =
            lines.iter_mut().flat_map(|line| &mut line.ends).filter(|end| end.calendar == at).collect();
        let height = ROW.max(ends.len() * APART + 12);
        let first = y + 2 + (height - ends.len().saturating_sub(1) * APART) / 2;
        ends.iter_mut().enumerate().for_each(|(number, end)| end.y = first + number * APART);
        boxes.push((y, height));
        y += height + 8;
    }
    let lanes = give_lanes(&mut lines);
    let picture = |measures: &Measures| {
        let gap = (measures.lanes / lanes.max(1)).clamp(6, measures.gap);
        let x = |lane: usize| measures.calendar + measures.stub + lane * gap;
        let (calendar, width) = (measures.calendar, x(lanes.saturating_sub(1)) + 6);
        html! {
            svg class=(measures.class) viewBox=(format!("0 0 {width} {y}")) width=(width) height=(y) role="img"
                aria-label="Calendars, and the routes between them" {
                @for (y, words) in &heads { text.dim x="0" y=(y) font-size="12" { (shorten(words, 30)) } }
                @for line in &lines { (draw_line(line, routes, x(line.lane), measures)) }
                @for (one, (y, height)) in calendars.iter().zip(&boxes) {
                    rect.box x="0.5" y=(y) width=(calendar) height=(height) rx="5" {}
                    text x="10" y=(y + height / 2 + 5) font-size="14" { (shorten(&one.name, measures.letters)) }
                    text.dim x=(calendar - 8) y=(y + height / 2 + 4) font-size="11" text-anchor="end" {
                        (if one.uncovered { "no route" } else { one.kind })
                    }
                }
            }
        }
    };
    html! { (picture(&WIDE)) (picture(&NARROW)) }
}

fn lines(calendars: &[Calendar], routes: &[RouteStatus]) -> Vec<Line> {
    let place = |name: &String| calendars.iter().position(|calendar| calendar.name == *name);
    let mut feeding: BTreeMap<usize, Line> = BTreeMap::new();
    let mut alike = Vec::new();
    for (route, status) in routes.iter().enumerate() {
        let places: Vec<usize> = status.calendars.iter().filter_map(place).collect();
        let end = |calendar: usize, is_written: bool| End { calendar, route, is_written, y: 0 };
        if status.two_way {
            alike.push(Line { ends: places.into_iter().map(|at| end(at, true)).collect(), lane: 0 });
        } else if let [from, to] = places[..] {
            let line = feeding.entry(to).or_insert_with(|| Line { ends: vec![end(to, true)], lane: 0 });
            line.ends.push(end(from, false));
        }
    }
    feeding.into_values().chain(alike).collect()
}

/// Lines that are beside one another do not cover one another; short ones are near the calendars. Returns how many
/// lanes there are.
fn give_lanes(lines: &mut [Line]) -> usize {
    let span = |line: &Line| {
        let all = || line.ends.iter().map(|end| end.y);
        (all().min().unwrap_or(0), all().max().unwrap_or(0))
    };
    let mut order: Vec<usize> = (0..lines.len()).collect();
    order.sort_by_key(|at| {
        let (from, to) = span(&lines[*at]);
        (to - from, from)
    });
    let mut lanes: Vec<Vec<(usize, usize)>> = Vec::new();
    for at in order {
        let (from, to) = span(&lines[at]);
        let is_free = |taken: &Vec<(usize, usize)>| taken.iter().all(|one| to < one.0 || from > one.1);
        let lane = lanes.iter().position(is_free).unwrap_or(lanes.len());
        if lane == lanes.len() {
            lanes.push(Vec::new());
        }
        lanes[lane].push((from, to));
        lines[at].lane = lane;
    }
    lanes.len()
}

/// The line is nobody's; each end has the class of its route.
fn draw_line(line: &Line, routes: &[RouteStatus], x: usize, measures: &Measures) -> Markup {
    let from = line.ends.iter().map(|end| end.y).min().unwrap_or(0);
    let to = line.ends.iter().map(|end| end.y).max().unwrap_or(0);
    let is_two_way = line.ends.iter().all(|end| end.is_written);
    let edge = measures.calendar + 1;
    let tag = |end: &End| match measures.named {
        Some(letters) => format!("{} {}", end.route + 1, shorten(&routes[end.route].route, letters)),
        None => (end.route + 1).to_string(),
    };
    html! {
        g.rest { path.way d=(format!("M{x} {from}V{to}")) {} }
        @for end in &line.ends {
            @let is_of_one = !end.is_written || is_two_way;
            g class=(if is_of_one { class_of(&routes[end.route]) } else { "rest" }) {
                @if is_of_one { title { (clean(&routes[end.route].route)) ": " (clean(&routes[end.route].way)) } }
                path.way d=(format!("M{edge} {}H{x}", end.y)) {}
                circle.tip cx=(x) cy=(end.y) r="3" {}
                @if end.is_written { path.tip d=(format!("M{edge} {}l10 -5v10z", end.y)) {} }
                @if is_of_one { text.tag x=(edge + 18) y=(end.y - 3) font-size="11" { (tag(end)) } }
            }
        }
    }
}
