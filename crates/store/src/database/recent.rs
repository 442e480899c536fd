//! Texts that were kept a moment ago: what a server gives back as it was sent is kept once.

use std::cell::RefCell;
use std::collections::HashMap;
use std::hash::{BuildHasher as _, Hash as _, Hasher as _, RandomState};

/// So many are remembered: what is under way at once is less.
const MOST: usize = 4096;

/// Numbers of texts, by a hash of their lines: XML turns CRLF into LF on their way back. Whoever takes one sees whether it is there and says the same.
#[derive(Debug, Default)]
pub(crate) struct Recent {
    hasher: RandomState,
    numbers: RefCell<HashMap<u64, i64>>,
}

impl Recent {
    pub(crate) fn note(&self, text: &str, number: i64) {
        let mut numbers = self.numbers.borrow_mut();
        if numbers.len() >= MOST {
            numbers.clear();
        }
        numbers.insert(self.hash(text), number);
    }

    pub(crate) fn number(&self, text: &str) -> Option<i64> {
        self.numbers.borrow().get(&self.hash(text)).copied()
    }

    fn hash(&self, text: &str) -> u64 {
        let mut hasher = self.hasher.build_hasher();
        text.lines().for_each(|line| line.hash(&mut hasher));
        hasher.finish()
    }
}
