//! In which order routes run, and whether they run in circles.

use std::collections::{BTreeMap, BTreeSet, VecDeque};

use super::route::RouteSettings;

type Named<'r> = (&'r str, &'r RouteSettings);

/// Puts routes into groups that share no calendar and can run side by side. Within a group they run one after the
/// other: what writes a calendar before what reads it, as far as that goes, else by name.
pub(crate) fn side_by_side<'r>(routes: &[Named<'r>]) -> Vec<Vec<Named<'r>>> {
    let mut groups: Vec<(BTreeSet<&str>, Vec<Named<'r>>)> = Vec::new();
    for route in in_order(routes) {
        let own: BTreeSet<&str> = route.1.ends.iter().map(String::as_str).collect();
        let (touching, others): (Vec<_>, Vec<_>) =
            groups.into_iter().partition(|(calendars, _)| !calendars.is_disjoint(&own));
        groups = others;
        let mut joined = (own, Vec::new());
        for (calendars, members) in touching {
            joined.0.extend(calendars);
            joined.1.extend(members);
        }
        joined.1.push(route);
        groups.push(joined);
    }
    // Joining groups may have put members of one behind those of another.
    groups.into_iter().map(|(_, members)| in_order(&members)).collect()
}

fn in_order<'r>(routes: &[Named<'r>]) -> Vec<Named<'r>> {
    let mut left: VecDeque<Named<'r>> = routes.iter().copied().collect();
    // How many of those that are left write it.
    let mut writers: BTreeMap<&str, usize> = BTreeMap::new();
    for calendar in routes.iter().flat_map(|route| route.1.writes()) {
        *writers.entry(calendar).or_default() += 1;
    }
    let mut ordered = Vec::new();
    while !left.is_empty() {
        let waits = |(_, route): &Named<'r>| {
            route.reads().iter().any(|calendar| {
                let own = usize::from(route.writes().contains(calendar));
                writers.get(calendar.as_str()).is_some_and(|all| *all > own)
            })
        };
        // In a circle nobody is first: the one that was named first begins.
        let next = left.iter().position(|route| !waits(route)).unwrap_or(0);
        let Some(route) = left.remove(next) else { break };
        for calendar in route.1.writes() {
            writers.entry(calendar).and_modify(|left| *left -= 1);
        }
        ordered.push(route);
    }
    ordered
}

/// Finds a circle in which a route that relays copies would bring entries back to where they come from, draws it, and names
/// that route as the configuration does. A route whose parts carry both ways is a circle by itself.
pub(crate) fn circle(routes: &BTreeMap<String, RouteSettings>) -> Option<(&str, String)> {
    for (name, relay) in routes.iter().filter(|(_, route)| route.relay) {
        for (from, to) in ways(relay) {
            if let Some(back) = path(routes, name, to, from) {
                let whole = relay.part_of.as_deref().unwrap_or(name);
                return Some((whole, format!("{from} → {to} ({whole}){back}")));
            }
        }
    }
    None
}

/// From where to where a route carries.
fn ways(route: &RouteSettings) -> Vec<(&String, &String)> {
    match route.is_two_way {
        false => vec![(&route.ends[0], &route.ends[1])],
        true => {
            let to = |from| route.ends.iter().filter(move |to| *to != from).map(move |to| (from, to));
            route.ends.iter().flat_map(to).collect()
        }
    }
}

/// The shortest way over other routes.
fn path(routes: &BTreeMap<String, RouteSettings>, but: &str, from: &str, to: &str) -> Option<String> {
    let mut seen = BTreeSet::from([from.to_owned()]);
    let mut open = VecDeque::from([(from.to_owned(), String::new())]);
    while let Some((at, drawn)) = open.pop_front() {
        for (name, route) in routes.iter().filter(|(name, _)| *name != but) {
            for (_, next) in ways(route).into_iter().filter(|(start, _)| **start == at) {
                let drawn = format!("{drawn} → {next} ({})", route.part_of.as_ref().unwrap_or(name));
                if next == to {
                    return Some(drawn);
                }
                if seen.insert(next.clone()) {
                    open.push_back((next.clone(), drawn));
                }
            }
        }
    }
    None
}
