//! The time zones of a calendar that entries from elsewhere are written into.

use std::collections::{BTreeMap, btree_map};

use crate::canonical::have_same_rules;
use crate::entry::{Entry, zone_id};
use crate::ical::{Component, Item};
use crate::recurrence::{agrees_since, local_seconds};
use crate::zones::{numbered, resolve_zone};

/// The zones of a calendar, by the name under which each stands.
#[derive(Default)]
pub(crate) struct JoinedZones {
    zones: BTreeMap<String, Component<'static>>,
    /// Names whose VTIMEZONE was put in the place of one that began too late.
    widened: Vec<String>,
    /// Since when a VTIMEZONE says what the database says: many entries bring the same few along.
    looked_at: Vec<(Component<'static>, Option<i64>)>,
}

impl JoinedZones {
    pub(crate) fn standing_in(items: &[Item<'static>]) -> Self {
        let mut zones = BTreeMap::new();
        for item in items {
            if let Item::Component(c) = item
                && c.is("VTIMEZONE")
            {
                zones.entry(zone_id(c)).or_insert_with(|| (**c).clone());
            }
        }
        Self { zones, ..Self::default() }
    }

    /// Adds an entry's components, and the zones it needs that do not stand there yet. To be ended by
    /// [`JoinedZones::widen`].
    pub(crate) fn add(&mut self, entry: &Entry, items: &mut Vec<Item<'static>>) {
        let mut renamed = BTreeMap::new();
        for zone in entry.object().components().filter(|c| c.is("VTIMEZONE")) {
            let id = zone_id(zone);
            let name = self.name_for(&id, zone, entry);
            let is_renamed = name != id;
            if is_renamed {
                renamed.insert(id, name.clone());
            }
            if let btree_map::Entry::Vacant(free) = self.zones.entry(name) {
                let mut zone = zone.clone();
                if is_renamed {
                    zone.set_value("TZID", free.key());
                }
                items.push(Item::Component(Box::new(zone.clone())));
                free.insert(zone);
            }
        }
        items.extend(entry.components().cloned().map(|mut component| {
            // What is not changed stays the text that it is.
            if !renamed.is_empty() {
                component.map_properties(&mut |p| {
                    let to = renamed.get(p.param("TZID")?.trim())?;
                    Some(p.with_param("TZID", to))
                });
            }
            Item::Component(Box::new(component))
        }));
    }

    /// Puts the VTIMEZONEs that reach further back in the place of those that began too late.
    pub(crate) fn widen(self, items: &mut [Item<'static>]) {
        for item in items {
            if let Item::Component(c) = item
                && c.is("VTIMEZONE")
                && self.widened.contains(&zone_id(c))
                && let Some(wider) = self.zones.get(&zone_id(c))
            {
                **c = wider.clone();
            }
        }
    }

    /// Returns a name under which this zone stands already, or under which it may be added.
    fn name_for(&mut self, id: &str, zone: &Component<'static>, entry: &Entry) -> String {
        if self.takes(id, zone, entry) {
            return id.to_owned();
        }
        let place = resolve_zone(id).map(|known| known.name).filter(|name| name.contains('/'));
        for number in 2.. {
            // A number in front of a place leaves it the same place to everybody who reads names.
            let name = match &place {
                Some(place) => format!("/{number}/{place}"),
                None => numbered(id, number),
            };
            let mut own = zone.clone();
            own.set_value("TZID", &name);
            if self.takes(&name, &own, entry) {
                return name;
            }
        }
        unreachable!("there are more numbers than zones")
    }

    /// Tells whether a name is free for an entry's VTIMEZONE, or what stands under it will do: it is the same, or both
    /// say what the database says of that name, and differ in the years with which they begin alone. Takes the
    /// entry's where the other begins too late for it. Rules of one's own have to be the same rules, in any order: what an
    /// entry with such a zone means is told by them.
    fn takes(&mut self, name: &str, own: &Component<'static>, entry: &Entry) -> bool {
        let standing = match self.zones.get(name) {
            Some(standing) if standing != own => standing.clone(),
            _ => return true,
        };
        let (Some(since), Some(own_since)) = (self.agrees(name, &standing), self.agrees(name, own)) else {
            return have_same_rules(&standing, own);
        };
        let needed = entry.start().map_or(i64::MIN, |(start, _)| local_seconds(start));
        if since > own_since && since > needed {
            self.zones.insert(name.to_owned(), own.clone());
            self.widened.push(name.to_owned());
        }
        true
    }

    fn agrees(&mut self, name: &str, zone: &Component<'static>) -> Option<i64> {
        if let Some((_, since)) = self.looked_at.iter().find(|(known, _)| known == zone) {
            return *since;
        }
        let since = resolve_zone(name).and_then(|known| agrees_since(zone, &known.rules));
        self.looked_at.push((zone.clone(), since));
        since
    }
}
