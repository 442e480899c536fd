//! Where the state is kept: in a file, or in a database that several machines share.

use std::path::PathBuf;

use jiff::SignedDuration;
use url::Url;

use super::account::secret;
use super::reader::Section;
use super::secrets::SecretSource;
use crate::failure::Failure;
use crate::words::{Problem, keys};

/// The bounds of a lease, in seconds: who is slow for a moment must not lose it, and who waits must not wait for ever.
const LEASE: (usize, usize) = (10, 3600);
const USUAL_LEASE: u32 = 60;

/// Where the state is kept.
#[derive(Debug, Clone, Default)]
pub(crate) enum StateSettings {
    /// In a file beside the configuration, named after it.
    #[default]
    Beside,
    /// In this file.
    File(PathBuf),
    /// In a database of PostgreSQL.
    Postgres {
        url: String,
        password: Option<SecretSource>,
        /// The authorities that may vouch for the server.
        ca: Option<PathBuf>,
        /// How long a lease lasts of which nothing is heard, in seconds.
        lease: u32,
    },
}

impl StateSettings {
    /// Tells whether another one is meant.
    pub(crate) fn is_elsewhere(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Beside, Self::Beside) => false,
            (Self::File(one), Self::File(other)) => one != other,
            (Self::Postgres { url: one, .. }, Self::Postgres { url: other, .. }) => one != other,
            _ => true,
        }
    }

    /// How long a lease lasts, where there is more than one machine.
    pub(crate) fn lease(&self) -> Option<u32> {
        match self {
            Self::Postgres { lease, .. } => Some(*lease),
            Self::Beside | Self::File(_) => None,
        }
    }
}

pub(super) fn state(root: &Section<'_>) -> Result<StateSettings, Failure> {
    if root.has("state") && !root.is_table("state") {
        let path = root.needed_text("state")?;
        return match path.contains("://") {
            true => Err(root.wrong("state", Problem::StateIsUrl)),
            false => Ok(StateSettings::File(PathBuf::from(path))),
        };
    }
    let Some(section) = root.section("state")? else { return Ok(StateSettings::Beside) };
    section.allow_described(keys::STATE)?;
    let text = section.needed_text("url")?;
    let url = Url::parse(&text).ok().filter(|url| matches!(url.scheme(), "postgres" | "postgresql"));
    let url = url.ok_or_else(|| section.wrong("url", Problem::NotPostgres))?;
    if url.password().is_some() {
        return Err(section.wrong("url", Problem::PasswordInUrl));
    }
    let lease = section.duration("lease")?.map(|lease: SignedDuration| lease.as_secs());
    let lease = match lease.map(usize::try_from) {
        None => USUAL_LEASE,
        Some(Ok(lease)) if (LEASE.0..=LEASE.1).contains(&lease) => {
            u32::try_from(lease).unwrap_or(USUAL_LEASE)
        }
        Some(_) => return Err(section.wrong("lease", Problem::LeaseOutOfBounds)),
    };
    Ok(StateSettings::Postgres {
        url: text,
        password: secret(&section, "password")?,
        ca: section.text("ca")?.map(PathBuf::from),
        lease,
    })
}
