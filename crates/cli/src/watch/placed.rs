//! A file that is held open for long, and whether it is still what its path leads to.

use std::fs::Metadata;
use std::io;
use std::path::{Path, PathBuf};

/// A file, as it was when somebody opened it.
#[derive(Debug)]
pub(super) struct Placed {
    pub(super) path: PathBuf,
    was: Metadata,
}

impl Placed {
    pub(super) fn of(path: &Path) -> io::Result<Self> {
        Ok(Self { path: path.to_owned(), was: path.metadata()? })
    }

    /// Tells whether it was taken away or renamed, or another file put in its place.
    pub(super) fn has_left(&self) -> bool {
        match self.path.metadata() {
            Ok(there) => !is_same(&there, &self.was),
            Err(error) => error.kind() == io::ErrorKind::NotFound,
        }
    }
}

#[cfg(unix)]
fn is_same(one: &Metadata, other: &Metadata) -> bool {
    use std::os::unix::fs::MetadataExt as _;
    (one.dev(), one.ino()) == (other.dev(), other.ino())
}

/// Elsewhere an open file keeps its name.
#[cfg(not(unix))]
fn is_same(_: &Metadata, _: &Metadata) -> bool {
    true
}
