//! Secrets in the desktop's keyring. Built with the feature `keyring`; most servers have none.

/// Whether this build can use one.
pub(crate) const IS_THERE: bool = cfg!(feature = "keyring");

#[cfg(feature = "keyring")]
fn entry(name: &str) -> Result<keyring::v1::Entry, String> {
    keyring::v1::Entry::new("chestnut", name).map_err(|system| system.to_string())
}

/// Returns the secret kept under a name.
#[cfg(feature = "keyring")]
pub(crate) fn read(name: &str) -> Result<String, String> {
    entry(name)?.get_password().map_err(|system| system.to_string())
}

/// Keeps a secret under a name.
#[cfg(feature = "keyring")]
pub(crate) fn write(name: &str, secret: &str) -> Result<(), String> {
    entry(name)?.set_password(secret).map_err(|system| system.to_string())
}

/// Forgets the secret under a name.
#[cfg(feature = "keyring")]
pub(crate) fn forget(name: &str) -> Result<(), String> {
    entry(name)?.delete_credential().map_err(|system| system.to_string())
}

#[cfg(not(feature = "keyring"))]
mod none {
    use crate::words::NO_KEYRING;

    pub(crate) fn read(_: &str) -> Result<String, String> {
        Err(NO_KEYRING.to_owned())
    }

    pub(crate) fn write(_: &str, _: &str) -> Result<(), String> {
        Err(NO_KEYRING.to_owned())
    }

    pub(crate) fn forget(_: &str) -> Result<(), String> {
        Err(NO_KEYRING.to_owned())
    }
}

#[cfg(not(feature = "keyring"))]
pub(crate) use none::{forget, read, write};
