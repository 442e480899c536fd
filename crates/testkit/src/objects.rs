//! Objects of a mirror, as a look would have noted them.

use chestnut_core::{ETag, EventUid, ObjectHref};
use chestnut_store::{CalendarId, NewObject, ObjectId, ObjectState, Store};

/// Notes an object in the mirror of a calendar.
///
/// # Panics
/// The state cannot be written.
pub fn add_object(store: &Store, calendar: CalendarId, href: &str, uid: &str, text: &str) -> ObjectId {
    let (href, uid, etag) = (ObjectHref::from(href), EventUid::from(uid), ETag::from("\"1\""));
    let new = NewObject {
        href: &href,
        etag: Some(&etag),
        state: ObjectState::Present,
        generation: 1,
        uid: Some(&uid),
        content: None,
        text: Some(text),
        span: None,
        parent: None,
    };
    store.write(|w| w.add_object(calendar, &new)).expect("written")
}
