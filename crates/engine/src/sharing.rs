//! How several machines share the routes of one state, without asking each other.

use std::collections::{BTreeMap, BTreeSet};

use sha2::{Digest as _, Sha256};

/// Returns the group of each route: routes that share calendars, directly or through others, are in one. It is named
/// after one of its calendars.
pub(crate) fn groups<'r>(
    routes: impl Iterator<Item = (&'r str, &'r [String])> + Clone,
) -> BTreeMap<&'r str, &'r str> {
    let mut group_of: BTreeMap<&str, &str> = BTreeMap::new();
    fn root<'g>(group_of: &BTreeMap<&'g str, &'g str>, name: &'g str) -> &'g str {
        let mut at = name;
        while let Some(next) = group_of.get(at).filter(|next| **next != at) {
            at = next;
        }
        at
    }
    for (_, calendars) in routes.clone() {
        let Some(first) = calendars.first() else { continue };
        for calendar in calendars {
            let (a, b) = (root(&group_of, first), root(&group_of, calendar));
            let (low, high) = if a < b { (a, b) } else { (b, a) };
            group_of.insert(high, low);
            group_of.entry(low).or_insert(low);
        }
    }
    let group = |calendars: &'r [String]| calendars.first().map_or("", |first| root(&group_of, first));
    routes.map(|(name, calendars)| (name, group(calendars))).collect()
}

/// Returns the routes that one of several watches runs. All come to the same without a word between them, routes that
/// share calendars stay together, and where one watch ends, the others take over its routes and keep their own.
#[must_use]
pub fn share_of<'r>(
    me: &str,
    all: &[String],
    routes: impl Iterator<Item = (&'r str, &'r [String])> + Clone,
) -> BTreeSet<String> {
    let weight = |watch: &str, group: &str| Sha256::digest(format!("{watch}\n{group}"));
    let is_mine = |group: &str| {
        let heaviest = all.iter().max_by_key(|watch| weight(watch, group));
        heaviest.is_some_and(|watch| watch == me)
    };
    groups(routes).into_iter().filter(|(_, group)| is_mine(group)).map(|(name, _)| name.to_owned()).collect()
}

/// Tells whether a route, by the places where its calendars were, has a file or a folder of another machine.
#[must_use]
pub fn is_of_another_machine(ends: &str, machine: &str) -> bool {
    let places = ends.lines().filter_map(|line| line.split_once(' ')).map(|(_, place)| place);
    let mut local =
        places.filter_map(|place| place.strip_prefix("file ").or_else(|| place.strip_prefix("folder ")));
    local.any(|place| !place.strip_prefix(machine).is_some_and(|rest| rest.starts_with(':')))
}

#[cfg(test)]
mod tests {
    use std::collections::{BTreeMap, BTreeSet};

    use super::{is_of_another_machine, share_of};

    #[test]
    fn every_route_has_one_watch_and_few_move() {
        let names = |route: usize| vec![format!("calendar-{}", route / 2), format!("board-{route}")];
        let routes: BTreeMap<String, Vec<String>> =
            (0..200).map(|route| (format!("route-{route}"), names(route))).collect();
        let all: Vec<String> = ["press", "market", "van"].map(str::to_owned).into();
        let of = |me: &str, all: &[String]| {
            share_of(me, all, routes.iter().map(|(name, ends)| (name.as_str(), &ends[..])))
        };
        let shares: Vec<_> = all.iter().map(|me| of(me, &all)).collect();
        assert_eq!(shares.iter().map(BTreeSet::len).sum::<usize>(), routes.len());
        assert!(shares.iter().all(|share| share.len() > 40), "about as much for each");
        for pair in 0..100 {
            let holds = |share: &&BTreeSet<String>| share.contains(&format!("route-{}", pair * 2));
            let share = shares.iter().find(holds).expect("somebody runs it");
            assert!(share.contains(&format!("route-{}", pair * 2 + 1)), "one calendar is read by one watch");
        }
        let left: Vec<String> = all[..2].to_vec();
        for me in 0..2 {
            assert!(of(&left[me], &left).is_superset(&shares[me]), "nobody gives away its own");
        }
        assert_eq!(of(&left[0], &left).len() + of(&left[1], &left).len(), routes.len());
    }

    #[test]
    fn files_belong_to_their_machine() {
        assert!(!is_of_another_machine("from dav a\nto file press:/srv/kiosk.ics", "press"));
        assert!(is_of_another_machine("from dav a\nto file press:/srv/kiosk.ics", "pres"));
        assert!(!is_of_another_machine("from dav a\nto dav b", "market"));
    }
}
