//! What `why` reports.

use chestnut_core::Deletions;
use chestnut_engine::{Explained, Makes};
use serde::Serialize;

use crate::settings::RouteSettings;
use crate::words::{stopped_words, told_words};

#[derive(Debug, Serialize)]
pub(crate) struct Report {
    pub(crate) route: String,
    pub(crate) entries: Vec<Line>,
}

#[derive(Debug, Serialize)]
pub(crate) struct Line {
    pub(crate) uid: String,
    pub(crate) title: String,
    pub(crate) start: String,
    pub(crate) taken: bool,
    /// The rule that stopped it, such as `skip.declined`.
    pub(crate) key: Option<String>,
    pub(crate) why: String,
    pub(crate) copy: Option<String>,
    pub(crate) copy_uid: Option<String>,
    pub(crate) trouble: Option<String>,
}

pub(crate) fn line(one: Explained, route: &RouteSettings) -> Line {
    let far = &route.to();
    let why = match one.stopped {
        None if route.makes == Makes::Blocks => {
            format!("the route takes it; its time is part of the blocks in {far} (`join-busy`)")
        }
        None if route.makes == Makes::Occurrences => {
            format!("the route takes it; its occurrences in the window stand in {far} (`occurrences`)")
        }
        None if one.copy.is_some() => format!("the route takes it; its copy stands in {far}"),
        None => format!("the route takes it; the next sync writes it to {far}"),
        Some(reason) if one.copy.is_some() => {
            let copy = match route.deletions {
                Deletions::Keep => format!("its copy in {far} stays"),
                Deletions::Carry => format!("the next sync deletes its copy in {far}"),
            };
            format!("not taken any more: {}; {copy}", stopped_words(reason, far))
        }
        Some(reason) => format!("not taken: {}", stopped_words(reason, far)),
    };
    let (copy, copy_uid) = one.copy.unzip();
    Line {
        uid: one.uid,
        title: one.title,
        start: one.start,
        taken: one.stopped.is_none(),
        key: one.stopped.map(|reason| reason.key().to_owned()),
        why,
        copy,
        copy_uid,
        trouble: one.trouble.as_ref().map(told_words),
    }
}
