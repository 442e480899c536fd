//! A component: properties and other components, in their order (RFC 5545, 3.4 to 3.6).

use std::borrow::Cow;

use super::Property;

/// `BEGIN:NAME` … `END:NAME`, known or unknown, with everything in it in its order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Component<'a> {
    name: Cow<'a, str>,
    items: Vec<Item<'a>>,
}

/// What a component holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Item<'a> {
    /// A content line.
    Property(Property<'a>),
    /// A component inside.
    Component(Component<'a>),
}

impl<'a> Component<'a> {
    /// Makes an empty component.
    #[must_use]
    pub fn new(name: impl Into<Cow<'a, str>>) -> Self {
        Self { name: name.into(), items: Vec::new() }
    }

    pub(super) fn with_capacity(name: Cow<'a, str>, items: usize) -> Self {
        Self { name, items: Vec::with_capacity(items) }
    }

    /// Returns the name as written.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Tells whether this component has the given name, whatever its case.
    #[must_use]
    pub fn is(&self, name: &str) -> bool {
        self.name.eq_ignore_ascii_case(name)
    }

    /// Returns everything inside, in order.
    #[must_use]
    pub fn items(&self) -> &[Item<'a>] {
        &self.items
    }

    /// Returns everything inside, in order, to change it.
    pub fn items_mut(&mut self) -> &mut Vec<Item<'a>> {
        &mut self.items
    }

    /// Takes everything out, in order.
    #[must_use]
    pub fn into_items(self) -> Vec<Item<'a>> {
        self.items
    }

    /// Adds a property behind everything else.
    pub fn push_property(&mut self, property: Property<'a>) {
        self.items.push(Item::Property(property));
    }

    /// Adds a component behind everything else.
    pub fn push_component(&mut self, component: Component<'a>) {
        self.items.push(Item::Component(component));
    }

    /// Returns the properties in order, those of inner components left out.
    pub fn properties(&self) -> impl Iterator<Item = &Property<'a>> {
        self.items.iter().filter_map(|item| match item {
            Item::Property(property) => Some(property),
            Item::Component(_) => None,
        })
    }

    /// Returns the components directly inside, in order.
    pub fn components(&self) -> impl Iterator<Item = &Component<'a>> {
        self.items.iter().filter_map(|item| match item {
            Item::Component(component) => Some(component),
            Item::Property(_) => None,
        })
    }

    /// Returns the components directly inside, in order, to change them.
    pub fn components_mut(&mut self) -> impl Iterator<Item = &mut Component<'a>> {
        self.items.iter_mut().filter_map(|item| match item {
            Item::Component(component) => Some(component),
            Item::Property(_) => None,
        })
    }

    /// Returns the first property of that name.
    #[must_use]
    pub fn property(&self, name: &str) -> Option<&Property<'a>> {
        self.properties().find(|p| p.is(name))
    }

    /// Returns the value, as written, of the first property of that name.
    #[must_use]
    pub fn value(&self, name: &str) -> Option<&str> {
        self.property(name).map(Property::value)
    }

    /// Gives every property of that name another value where it stands; adds one in front where there is none.
    pub fn set_value(&mut self, name: &str, value: &str) {
        let mut found = false;
        for item in &mut self.items {
            if let Item::Property(property) = item
                && property.is(name)
            {
                *property = property.with_value(value);
                found = true;
            }
        }
        if !found {
            self.items.insert(0, Item::Property(Property::new(name, value)));
        }
    }

    /// Keeps only the properties for which `keep` says so; inner components stay.
    pub fn retain_properties(&mut self, mut keep: impl FnMut(&Property<'a>) -> bool) {
        self.items.retain(|item| match item {
            Item::Property(property) => keep(property),
            Item::Component(_) => true,
        });
    }

    /// Calls `change` with every property of this component and of all inside it, replacing what it returns.
    pub fn map_properties(&mut self, change: &mut impl FnMut(&Property<'a>) -> Option<Property<'a>>) {
        for item in &mut self.items {
            match item {
                Item::Property(property) => {
                    if let Some(changed) = change(property) {
                        *property = changed;
                    }
                }
                Item::Component(component) => component.map_properties(change),
            }
        }
    }

    /// Calls `visit` with every property of this component and of all inside it.
    pub fn visit_properties<'s>(&'s self, visit: &mut impl FnMut(&'s Property<'a>)) {
        for item in &self.items {
            match item {
                Item::Property(property) => visit(property),
                Item::Component(component) => component.visit_properties(visit),
            }
        }
    }

    /// Detaches the component from the text it was read from.
    #[must_use]
    pub fn into_owned(self) -> Component<'static> {
        let items = self.items.into_iter().map(|item| match item {
            Item::Property(property) => Item::Property(property.into_owned()),
            Item::Component(component) => Item::Component(component.into_owned()),
        });
        Component { name: Cow::Owned(self.name.into_owned()), items: items.collect() }
    }
}
