//! The states of a world's processes: one goes on through several runs, as under a watch, and then a new one begins.

use std::cell::RefCell;
use std::ops::Deref;
use std::path::Path;
use std::rc::Rc;
use std::sync::LazyLock;

use chestnut_store::{Store, StoreError};

use crate::quick_folder;

/// How many runs one process makes before a new one begins.
const RUNS_OF_A_PROCESS: usize = 8;

/// A state in which nothing stands yet: to make its tables takes longer than many a run.
static NEW_STATE: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let folder = quick_folder();
    let path = folder.path().join("state.db");
    drop(Store::open(&path).expect("a new state"));
    std::fs::read(path).expect("a closed state is one file")
});

/// Opens the state in a file, a new one if there is none.
pub(crate) fn open_file(path: &Path) -> Result<Store, StoreError> {
    if !path.exists() {
        std::fs::write(path, &*NEW_STATE).expect("the folder takes a file");
    }
    Store::open(path)
}

/// A process that has nothing to do: its state stays open.
#[derive(Debug, Default)]
pub(crate) struct Idle(RefCell<Option<(Store, usize)>>);

impl Idle {
    /// Lets the process go on, or has a new one open the state.
    pub(crate) fn wake(
        self: &Rc<Self>,
        open: impl FnOnce() -> Store,
        lives: impl Fn() -> bool + 'static,
    ) -> OpenState {
        let (store, runs) = self.0.take().unwrap_or_else(|| (open(), 0));
        OpenState { store: Some(store), runs: runs + 1, home: Rc::clone(self), lives: Box::new(lives) }
    }

    /// Ends the process, as its state is about to be lost.
    pub(crate) fn end(&self) {
        self.0.take();
    }
}

/// A state that a process of the world has open.
pub struct OpenState {
    /// None only while it is dropped.
    store: Option<Store>,
    runs: usize,
    home: Rc<Idle>,
    lives: Box<dyn Fn() -> bool>,
}

impl std::fmt::Debug for OpenState {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("OpenState")
    }
}

impl Deref for OpenState {
    type Target = Store;

    fn deref(&self) -> &Store {
        self.store.as_ref().expect("it is open until it is dropped")
    }
}

impl Drop for OpenState {
    fn drop(&mut self) {
        // Who was killed does not go on.
        if self.runs < RUNS_OF_A_PROCESS && (self.lives)() {
            self.home.0.replace(self.store.take().map(|store| (store, self.runs)));
        }
    }
}
