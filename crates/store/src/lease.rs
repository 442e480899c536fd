//! One run at a time per route, also across processes.

use std::fs::{File, OpenOptions, TryLockError};
use std::io::{Read as _, Seek as _, Write as _};
use std::path::Path;

use crate::error::StoreError;

/// Who runs a route.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Holder(String);

impl std::fmt::Display for Holder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, " ({})", self.0)
    }
}

/// The right to run a route; the system gives it back when the process ends, however it ends.
#[derive(Debug)]
pub struct Lease {
    _file: File,
}

impl Lease {
    /// Takes the lease of a route, beside the state file.
    ///
    /// # Errors
    /// [`StoreError::Busy`] where another run holds it; [`StoreError::Open`] where no file can be made.
    pub fn take(state: &Path, route: &str, since: &str) -> Result<Self, StoreError> {
        let safe: String = route.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
        let mut name = state.file_name().unwrap_or_default().to_owned();
        name.push(format!(".{safe}.lock"));
        let path = state.with_file_name(name);
        let open_error = |e: std::io::Error| StoreError::Open { path: path.clone(), problem: e.to_string() };
        let file = OpenOptions::new().read(true).write(true).create(true).truncate(false).open(&path);
        let mut file = file.map_err(open_error)?;
        match file.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                let mut text = String::new();
                let read = file.read_to_string(&mut text).is_ok() && !text.is_empty();
                return Err(StoreError::Busy {
                    route: route.to_owned(),
                    holder: read.then_some(Holder(text)),
                });
            }
            Err(TryLockError::Error(e)) => return Err(open_error(e)),
        }
        let written = file
            .set_len(0)
            .and_then(|()| file.rewind())
            .and_then(|()| write!(file, "process {}, since {since}", std::process::id()));
        match written {
            Ok(()) => Ok(Self { _file: file }),
            Err(e) if e.kind() == std::io::ErrorKind::StorageFull => Err(StoreError::Full),
            Err(e) => Err(open_error(e)),
        }
    }
}
