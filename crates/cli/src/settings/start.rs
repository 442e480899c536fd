//! Where an account's search begins: as it is given, or as the name service says (RFC 6764).

use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use chestnut_caldav::connection_check::{ServiceRecord, find_service};
use url::Url;

use super::account::Start;
use crate::environment::Environment;
use crate::failure::Failure;
use crate::words::{another_domain, not_a_resolver};

/// How long the name service may take for one answer.
const NAME_SERVICE_LIMIT: Duration = Duration::from_millis(1500);

/// Where an account's search begins, after asking the name service for a bare host (RFC 6764).
pub(crate) enum ResolvedStart {
    /// As it was given.
    Given(Url),
    /// As the name service says.
    Service { domain: String, record: ServiceRecord, url: Url },
    /// The name service sends to another domain: whether that is right, only a person can say.
    Elsewhere { domain: String, record: ServiceRecord },
}

impl ResolvedStart {
    /// Asks the name service, for a bare host.
    pub(crate) async fn of(start: &Start, resolver: Option<SocketAddr>) -> Self {
        let given = || Self::Given(start.url.clone());
        let Some((resolver, domain)) = resolver.filter(|_| start.is_bare).zip(start.url.domain()) else {
            return given();
        };
        let Some(record) = find_service(domain, resolver, NAME_SERVICE_LIMIT).await else { return given() };
        let domain = domain.to_owned();
        let inside = record.host.eq_ignore_ascii_case(&domain)
            || record.host.to_ascii_lowercase().ends_with(&format!(".{}", domain.to_ascii_lowercase()));
        let scheme = if record.tls { "https" } else { "http" };
        match Url::parse(&format!("{scheme}://{}:{}{}", record.host, record.port, record.path)) {
            Ok(url) if inside => Self::Service { domain, record, url },
            Ok(_) => Self::Elsewhere { domain, record },
            Err(_) => given(),
        }
    }

    /// Returns the address, unless a person has to say whether it is right.
    pub(crate) fn url(self, owner: &str) -> Result<Url, Failure> {
        match self {
            Self::Given(url) | Self::Service { url, .. } => Ok(url),
            Self::Elsewhere { domain, record } => Err(another_domain(owner, &domain, &record)),
        }
    }
}

/// Returns the name service to ask: `CHESTNUT_RESOLVER`, else the first of the system's.
pub(crate) fn default_resolver(environment: &Environment) -> Result<Option<SocketAddr>, Failure> {
    if let Some(text) = environment.get("CHESTNUT_RESOLVER") {
        let wrong = |_| not_a_resolver(&text);
        return text.parse().map(Some).map_err(wrong);
    }
    let text = std::fs::read_to_string("/etc/resolv.conf").unwrap_or_default();
    let servers = text.lines().filter_map(|line| line.trim().strip_prefix("nameserver"));
    Ok(servers.filter_map(|address| address.trim().parse::<IpAddr>().ok()).next().map(|ip| (ip, 53).into()))
}
