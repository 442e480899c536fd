//! Time zones that are known already.

use std::cell::RefCell;
use std::collections::HashMap;
use std::rc::Rc;

/// So many are remembered: calendars of a whole company have fewer.
const MOST: usize = 500;

/// Zones by number, and numbers by digest.
#[derive(Debug, Default)]
pub(crate) struct Zones {
    texts: RefCell<HashMap<i64, Rc<str>>>,
    numbers: RefCell<HashMap<Vec<u8>, i64>>,
}

impl Zones {
    pub(crate) fn text(&self, number: i64) -> Option<Rc<str>> {
        self.texts.borrow().get(&number).cloned()
    }

    pub(crate) fn keep_text(&self, number: i64, text: &Rc<str>) {
        let mut texts = self.texts.borrow_mut();
        if texts.len() < MOST {
            texts.insert(number, Rc::clone(text));
        }
    }

    pub(crate) fn number(&self, digest: &[u8]) -> Option<i64> {
        self.numbers.borrow().get(digest).copied()
    }

    pub(crate) fn keep_number(&self, digest: Vec<u8>, number: i64) {
        let mut numbers = self.numbers.borrow_mut();
        if numbers.len() < MOST {
            numbers.insert(digest, number);
        }
    }

    pub(crate) fn forget(&self) {
        self.texts.borrow_mut().clear();
        self.numbers.borrow_mut().clear();
    }
}
