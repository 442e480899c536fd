//! To which servers a sign-in may go: the account's own, and those that a person has named.

use url::Url;

/// Another origin that gets an account's sign-in: `https://p42.cloud.example`, or `https://*.cloud.example`, where the
/// star stands for exactly one label.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignInOrigin {
    scheme: String,
    /// What stands before the rest of the host: one label, whichever.
    any_label: bool,
    host: String,
    port: Option<u16>,
}

impl SignInOrigin {
    /// Reads an origin; `None` where it is more or less than one: a path, a user, a star elsewhere.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let (scheme, rest) = text.trim().split_once("://")?;
        let any_label = rest.starts_with("*.");
        let url = Url::parse(&format!("{scheme}://{}", rest.trim_start_matches("*."))).ok()?;
        let is_origin = url.path() == "/" && url.query().is_none() && url.fragment().is_none();
        let is_plain = url.username().is_empty() && url.password().is_none();
        let host = url.host_str()?.to_owned();
        // A star above a whole top-level domain would be everybody.
        let is_narrow = !any_label || host.contains('.') && url.domain().is_some();
        (is_origin
            && is_plain
            && is_narrow
            && matches!(url.scheme(), "http" | "https")
            && !host.contains('*'))
        .then(|| Self { scheme: url.scheme().to_owned(), any_label, host, port: url.port_or_known_default() })
    }

    /// Tells whether an address is at it.
    #[must_use]
    pub fn is_of(&self, url: &Url) -> bool {
        let host = url.host_str().unwrap_or_default();
        let is_host = match self.any_label {
            false => host == self.host,
            true => host.split_once('.').is_some_and(|(label, rest)| !label.is_empty() && rest == self.host),
        };
        url.scheme() == self.scheme && is_host && url.port_or_known_default() == self.port
    }
}

/// Tells whether the sign-in of an account whose server is at `own` may go to `url`. From http to https of one host it is
/// the same account; never the other way.
pub(crate) fn may_sign_in(own: &Url, also: &[SignInOrigin], url: &Url) -> bool {
    own.origin() == url.origin() || is_upward(own, url) || also.iter().any(|origin| origin.is_of(url))
}

/// From http to https of one host.
pub(crate) fn is_upward(from: &Url, to: &Url) -> bool {
    from.scheme() == "http" && to.scheme() == "https" && from.host_str() == to.host_str()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_star_is_one_label_and_nothing_goes_down() {
        let url = |text: &str| Url::parse(text).expect("an address");
        let own = url("https://cloud.example/");
        let also: Vec<_> = ["https://*.cloud.example", "https://dav.orchard.example:8443"]
            .map(|o| SignInOrigin::parse(o).expect(o))
            .into();
        for (to, may) in [
            ("https://cloud.example/x", true),
            ("https://p42.cloud.example/", true),
            ("https://P42.CLOUD.example/", true),
            ("https://a.p42.cloud.example/", false),
            ("https://p42.cloud.example.evil.example/", false),
            ("https://evil-cloud.example/", false),
            ("http://p42.cloud.example/", false),
            ("https://p42.cloud.example:8443/", false),
            ("http://cloud.example/", false),
            ("https://dav.orchard.example:8443/", true),
            ("https://dav.orchard.example/", false),
        ] {
            assert_eq!(may_sign_in(&own, &also, &url(to)), may, "{to}");
        }
        let plain = url("http://hall.example:5232/");
        assert!(may_sign_in(&plain, &[], &url("https://hall.example/")));
        assert!(!may_sign_in(&plain, &[], &url("http://hall.example/")));
        for no in [
            "cloud.example",
            "https://*",
            "https://*.example",
            "https://a.*.example",
            "https://x.example/path",
            "https://u@x.example",
            "ftp://x.example",
            "https://*.10.0.0.1",
            "",
        ] {
            assert_eq!(SignInOrigin::parse(no), None, "{no}");
        }
    }
}
