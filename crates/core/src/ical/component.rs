//! A component: properties and other components, in their order (RFC 5545, 3.4 to 3.6).

use std::borrow::Cow;
use std::sync::OnceLock;

use super::Property;
use super::parse::{items_in, read_items};

/// `BEGIN:NAME` … `END:NAME`, known or unknown, with everything in it in its order.
///
/// What was read from a text stays that text until somebody asks what is inside, one level at a time: most of a
/// large calendar is passed over or passed on. The text was checked as a whole when it was parsed.
#[derive(Debug)]
pub struct Component<'a> {
    name: Cow<'a, str>,
    /// The lines between BEGIN and END as they came; `None` once they were changed.
    raw: Option<Cow<'a, str>>,
    items: OnceLock<Vec<Item<'a>>>,
}

impl Clone for Component<'_> {
    /// What can be read again is not copied: many a copy is only written.
    fn clone(&self) -> Self {
        let items = if self.raw.is_some() { OnceLock::new() } else { self.items.clone() };
        Self { name: self.name.clone(), raw: self.raw.clone(), items }
    }
}

impl PartialEq for Component<'_> {
    fn eq(&self, other: &Self) -> bool {
        self.name == other.name && self.items() == other.items()
    }
}

impl Eq for Component<'_> {}

/// What a component holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Item<'a> {
    /// A content line.
    Property(Property<'a>),
    /// A component inside; boxed, since most items are lines.
    Component(Box<Component<'a>>),
}

impl<'a> Component<'a> {
    /// Makes an empty component.
    #[must_use]
    pub fn new(name: impl Into<Cow<'a, str>>) -> Self {
        Self { name: name.into(), raw: None, items: OnceLock::from(Vec::new()) }
    }

    /// Wraps lines that were checked: every one has a name and a colon, every BEGIN its END.
    pub(super) fn unread(name: Cow<'a, str>, lines: Cow<'a, str>) -> Self {
        Self { name, raw: Some(lines), items: OnceLock::new() }
    }

    /// Returns the lines between BEGIN and END as they came, where nobody changed them.
    pub(super) fn raw(&self) -> Option<&str> {
        self.raw.as_deref()
    }

    fn read(&self) -> &Vec<Item<'a>> {
        self.items.get_or_init(|| match &self.raw {
            Some(Cow::Borrowed(lines)) => read_items(lines),
            Some(Cow::Owned(lines)) => read_items(lines).into_iter().map(Item::detach).collect(),
            None => Vec::new(),
        })
    }

    /// Calls `visit` with everything inside, in order, and keeps nothing of it that is not kept already.
    pub(super) fn visit_items(&self, visit: &mut dyn FnMut(&Item<'_>)) {
        match self.unread_lines() {
            Some(lines) => items_in(lines).for_each(|item| visit(&item)),
            None => self.items().iter().for_each(visit),
        }
    }

    /// The lines of which nobody has asked yet what is in them.
    fn unread_lines(&self) -> Option<&str> {
        self.raw().filter(|_| self.items.get().is_none())
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
        self.read()
    }

    /// Returns everything inside, in order, to change it.
    pub fn items_mut(&mut self) -> &mut Vec<Item<'a>> {
        self.read();
        self.raw = None;
        self.items.get_mut().expect("just read")
    }

    /// Takes everything out, in order.
    #[must_use]
    pub fn into_items(self) -> Vec<Item<'a>> {
        self.read();
        self.items.into_inner().expect("just read")
    }

    /// Adds a property behind everything else.
    pub fn push_property(&mut self, property: Property<'a>) {
        self.items_mut().push(Item::Property(property));
    }

    /// Adds a component behind everything else.
    pub fn push_component(&mut self, component: Self) {
        self.items_mut().push(Item::Component(Box::new(component)));
    }

    /// Returns the properties in order, those of inner components left out.
    pub fn properties(&self) -> impl Iterator<Item = &Property<'a>> {
        self.items().iter().filter_map(|item| match item {
            Item::Property(property) => Some(property),
            Item::Component(_) => None,
        })
    }

    /// Returns the components directly inside, in order.
    pub fn components(&self) -> impl Iterator<Item = &Component<'a>> {
        self.items().iter().filter_map(|item| match item {
            Item::Component(component) => Some(&**component),
            Item::Property(_) => None,
        })
    }

    /// Returns the components directly inside, in order, to change them.
    pub fn components_mut(&mut self) -> impl Iterator<Item = &mut Component<'a>> {
        self.items_mut().iter_mut().filter_map(|item| match item {
            Item::Component(component) => Some(&mut **component),
            Item::Property(_) => None,
        })
    }

    /// Returns the first property of that name.
    #[must_use]
    pub fn property(&self, name: &str) -> Option<&Property<'a>> {
        self.properties().find(|p| p.is(name))
    }

    /// Returns what [`Component::value`] does, and keeps nothing of the other lines: of most components of a large
    /// calendar no more is asked.
    pub(crate) fn peek(&self, name: &str) -> Option<String> {
        match self.unread_lines() {
            Some(lines) => items_in(lines).find_map(|item| match item {
                Item::Property(property) if property.is(name) => Some(property.value().to_owned()),
                Item::Property(_) | Item::Component(_) => None,
            }),
            None => self.value(name).map(str::to_owned),
        }
    }

    /// Returns the value, as written, of the first property of that name.
    #[must_use]
    pub fn value(&self, name: &str) -> Option<&str> {
        self.property(name).map(Property::value)
    }

    /// Adds items behind its properties, in front of the components inside.
    pub fn insert_before_components(&mut self, added: impl IntoIterator<Item = Item<'a>>) {
        let items = self.items_mut();
        let at = items.iter().position(|item| matches!(item, Item::Component(_))).unwrap_or(items.len());
        items.splice(at..at, added);
    }

    /// Adds properties behind its own, and components at the end.
    pub fn add(&mut self, added: impl IntoIterator<Item = Item<'a>>) {
        let (properties, components): (Vec<_>, Vec<_>) =
            added.into_iter().partition(|item| matches!(item, Item::Property(_)));
        self.insert_before_components(properties);
        self.items_mut().extend(components);
    }

    /// Gives every property of that name another value where it stands; adds one in front where there is none.
    pub fn set_value(&mut self, name: &str, value: &str) {
        let mut found = false;
        for item in self.items_mut() {
            if let Item::Property(property) = item
                && property.is(name)
            {
                *property = property.with_value(value);
                found = true;
            }
        }
        if !found {
            self.items_mut().insert(0, Item::Property(Property::new(name, value)));
        }
    }

    /// Keeps only the properties for which `keep` says so; inner components stay.
    pub fn retain_properties(&mut self, mut keep: impl FnMut(&Property<'a>) -> bool) {
        self.items_mut().retain(|item| match item {
            Item::Property(property) => keep(property),
            Item::Component(_) => true,
        });
    }

    /// Calls `change` with every property of this component and of all inside it, replacing what it returns.
    pub fn map_properties(&mut self, change: &mut impl FnMut(&Property<'a>) -> Option<Property<'a>>) {
        for item in self.items_mut() {
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
        for item in self.items() {
            match item {
                Item::Property(property) => visit(property),
                Item::Component(component) => component.visit_properties(visit),
            }
        }
    }

    /// Detaches the component from the text it was read from.
    #[must_use]
    pub fn into_owned(self) -> Component<'static> {
        self.detach()
    }

    /// As [`Component::into_owned`], for any lifetime.
    pub(super) fn detach<'b>(self) -> Component<'b> {
        let name = Cow::Owned(self.name.into_owned());
        match self.raw {
            Some(lines) => Component::unread(name, Cow::Owned(lines.into_owned())),
            None => {
                let items = self.items.into_inner().unwrap_or_default();
                let items = items.into_iter().map(Item::detach).collect::<Vec<_>>();
                Component { name, raw: None, items: OnceLock::from(items) }
            }
        }
    }
}

impl Item<'_> {
    fn detach<'b>(self) -> Item<'b> {
        match self {
            Item::Property(property) => Item::Property(property.into_owned()),
            Item::Component(component) => Item::Component(Box::new(component.detach())),
        }
    }
}
