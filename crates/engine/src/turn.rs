//! One at a time: waiting for what somebody else holds.

use std::time::Duration;

use chestnut_store::{Holder, Lease, Store, StoreError};

/// How long to wait for another, and how often to look.
const WAITS: Duration = Duration::from_secs(60);
const LOOKS: Duration = Duration::from_millis(250);

/// What came of waiting for a lease.
pub(crate) enum Turn<'s> {
    /// It was free.
    Free(Lease<'s>),
    /// Somebody else held it for a while.
    Waited(Lease<'s>),
    /// Somebody else still holds it.
    Taken(Option<Holder>),
}

impl<'s> Turn<'s> {
    /// The lease, unless somebody else still holds it.
    pub(crate) fn lease(self) -> Option<Lease<'s>> {
        match self {
            Self::Free(lease) | Self::Waited(lease) => Some(lease),
            Self::Taken(_) => None,
        }
    }
}

/// Takes a lease, if need be after a while.
///
/// # Errors
/// The state cannot be written.
pub(crate) async fn turn<'s>(name: &str, store: &'s Store) -> Result<Turn<'s>, StoreError> {
    let mut waited = Duration::ZERO;
    loop {
        match store.lease(name) {
            Ok(lease) if waited.is_zero() => return Ok(Turn::Free(lease)),
            Ok(lease) => return Ok(Turn::Waited(lease)),
            Err(StoreError::Busy { holder, .. }) if waited >= WAITS => return Ok(Turn::Taken(holder)),
            Err(StoreError::Busy { .. }) => {
                tokio::time::sleep(LOOKS).await;
                waited += LOOKS;
            }
            Err(error) => return Err(error),
        }
    }
}
