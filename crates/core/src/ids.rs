//! Newtypes for ids and tokens, so that none is taken for another.

macro_rules! text_id {
    ($(#[$doc:meta])* $name:ident) => {
        $(#[$doc])*
        #[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
        pub struct $name(Box<str>);

        impl $name {
            /// Returns the text.
            #[must_use]
            pub fn as_str(&self) -> &str {
                &self.0
            }
        }

        impl<T: Into<String>> From<T> for $name {
            fn from(text: T) -> Self {
                Self(text.into().into_boxed_str())
            }
        }

        impl std::fmt::Display for $name {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str(&self.0)
            }
        }
    };
}

text_id! {
    /// The UID of an entry (RFC 5545, 3.8.4.7).
    EventUid
}
text_id! {
    /// Where an entry stands in a calendar: a decoded path on a server, relative to the calendar's where it is in there
    /// (RFC 3986, 4.2); a file's name; or a UID within a feed.
    ObjectHref
}
text_id! {
    /// A server's name for one state of one entry (RFC 9110, 8.8.3), without `W/` but with its quotes.
    ETag
}
text_id! {
    /// A server's name for one state of a whole calendar (RFC 6578), or its ctag.
    SyncToken
}

impl ETag {
    /// Takes an ETag as a server sends it: `W/` says nothing about whether the text changed.
    #[must_use]
    pub fn from_header(raw: &str) -> Self {
        let raw = raw.trim();
        Self(raw.strip_prefix("W/").unwrap_or(raw).into())
    }

    /// Tells whether it can stand in a condition: some servers tell ETags in XML that no header can hold (RFC 9110, 8.8.3).
    #[must_use]
    pub fn fits_a_header(&self) -> bool {
        !self.0.is_empty() && self.0.bytes().all(|byte| byte == b' ' || byte.is_ascii_graphic())
    }
}
