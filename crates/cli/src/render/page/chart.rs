//! Changes over time, as bars.

use maud::{Markup, html};

use crate::report::overview::Step;

/// For which width it is drawn.
#[derive(Debug, Clone, Copy)]
pub(super) enum Size {
    Wide,
    Narrow,
}

/// How high the highest bar is, and what stands below and above it.
const HIGH: f64 = 110.0;
const ABOVE: f64 = 22.0;
const BELOW: f64 = 24.0;

/// Draws it. A bar that would make all others flat is cut, with its number.
pub(super) fn chart(steps: &[Step], size: Size) -> Markup {
    let (width, class, labels) = match size {
        Size::Wide => (1080.0, "wide full", 12),
        Size::Narrow => (350.0, "narrow", 4),
    };
    let mut all: Vec<usize> = steps.iter().map(|step| step.did.changes()).collect();
    all.sort_unstable();
    let (highest, next) = (all.last().copied().unwrap_or(0), all.iter().rev().nth(1).copied().unwrap_or(0));
    let is_cut = next > 0 && highest > next * 5;
    let top = if is_cut { next * 3 / 2 } else { highest }.max(1);
    let left = 8.0 + 7.5 * top.to_string().len() as f64;
    let pitch = (width - left) / steps.len().max(1) as f64;
    let bar = (pitch * 0.72).min(34.0);
    let every = steps.len().div_ceil(labels).max(1);
    let scale = |number: usize| number as f64 / top as f64 * HIGH;
    let base = ABOVE + HIGH;
    let each =
        steps.first().zip(steps.get(1)).is_some_and(|(a, b)| a.first.tomorrow().is_ok_and(|d| d < b.first));
    let title = if each { "Changes week by week" } else { "Changes day by day" };
    html! {
        svg class=(class) viewBox=(format!("0 0 {width} {}", base + BELOW)) width=(width) height=(base + BELOW)
            role="img" aria-label=(title) {
            @for number in [0, top] {
                line.rule x1=(left) x2=(width) y1=(base - scale(number)) y2=(base - scale(number)) {}
                text.dim x=(left - 5.0) y=(base - scale(number) + 4.0) font-size="12" text-anchor="end" { (number) }
            }
            @for (at, step) in steps.iter().enumerate() {
                (bar_of(step, left + (at as f64 + 0.5) * pitch, bar, base, &scale, top))
                @if at % every == 0 {
                    text.dim x=(rounded(left + (at as f64 + 0.5) * pitch)) y=(base + 17.0) font-size="12"
                        text-anchor=(if at == 0 { "start" } else { "middle" }) {
                        (step.first.strftime("%-d %b"))
                    }
                }
            }
        }
        p.legend.(class.split(" ").next().unwrap_or(class)) {
            (swatch("created")) " created " (swatch("updated")) " updated " (swatch("deleted")) " deleted"
            @if is_cut { "; a bar that is cut has its number" }
        }
    }
}

fn swatch(class: &str) -> Markup {
    html! {
        svg.swatch width="12" height="12" viewBox="0 0 12 12" aria-hidden="true" {
            rect class=(class) width="12" height="12" {}
        }
    }
}

fn rounded(number: f64) -> f64 {
    (number * 10.0).round() / 10.0
}

fn bar_of(
    step: &Step,
    middle: f64,
    width: f64,
    base: f64,
    scale: &dyn Fn(usize) -> f64,
    top: usize,
) -> Markup {
    let did = &step.did;
    let all = did.changes();
    let shrink = if all > top { top as f64 / all as f64 } else { 1.0 };
    let mut y = base;
    let parts = [("created", did.created), ("updated", did.updated), ("deleted", did.deleted)];
    let parts = parts.map(|(class, number)| {
        let high = scale(number) * shrink;
        y -= high;
        (class, y, high)
    });
    let left = rounded(middle - width / 2.0);
    html! {
        @if all > 0 {
            g {
                title {
                    (step.first) ": " (did.created) " created, " (did.updated) " updated, " (did.deleted) " deleted"
                }
                @for (class, y, high) in parts {
                    @if high > 0.0 {
                        rect class=(class) x=(left) y=(rounded(y)) width=(rounded(width))
                            height=(rounded(high.max(1.0))) {}
                    }
                }
                @if all > top {
                    text x=(rounded(middle)) y=(ABOVE - 8.0) font-size="12" text-anchor="middle" { (all) }
                    path.rule d=(format!("M{left} {}l{} -5", ABOVE + 10.0, rounded(width))) {}
                }
            }
        }
    }
}
