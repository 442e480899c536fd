//! Statements that are run for one row after the other, run for all of these rows at once: what a statement costs is
//! its start.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::LazyLock;

use regex::Regex;
use tokio_postgres::types::Type;

use super::statement::{Answer, Owned, Statement};
use crate::database::{Often, Thing};

/// A value's place in a statement of PostgreSQL.
static MARK: LazyLock<Regex> = LazyLock::new(|| Regex::new(r"\$(\d+)").expect("a fixed expression"));
/// So many rows are run at once at most.
const AT_ONCE: usize = 1000;

/// Statements that wait until an answer is needed.
#[derive(Default)]
pub(super) struct Waiting {
    /// In their order.
    statements: Vec<Statement>,
    /// What comes behind these, in whichever order.
    stretch: Stretch,
    /// For how many rows they are, and how many bytes stand in these.
    size: [usize; 2],
}

/// Statements of which those about one thing keep their order; those about others are run with their like.
#[derive(Default)]
struct Stretch {
    groups: BTreeMap<Often, Statement>,
    /// Up to where each thing has come.
    come_to: HashMap<(Thing, i64), (Often, usize)>,
}

impl Waiting {
    pub(super) fn is_empty(&self) -> bool {
        self.size[0] == 0
    }

    /// For how many rows they are, and how many bytes stand in these.
    pub(super) fn size(&self) -> [usize; 2] {
        self.size
    }

    /// Adds one that comes behind all others.
    pub(super) fn push(&mut self, statement: Statement) {
        self.end_stretch();
        self.grow(&statement);
        match self.statements.last_mut() {
            // As where a whole table is copied.
            Some(last) if last.is_addition() && last.sql == statement.sql && last.rows.len() < AT_ONCE => {
                last.rows.extend(statement.rows);
            }
            _ => self.statements.push(statement),
        }
    }

    /// Adds one that is run with its like.
    pub(super) fn push_often(&mut self, often: Often, about: i64, part: usize, statement: Statement) {
        let about = (often.thing(), about);
        self.grow(&statement);
        let known = self.stretch.groups.get(&often);
        let is_like = known.is_none_or(|known| known.sql == statement.sql && known.rows.len() < AT_ONCE);
        let comes_later = self.stretch.come_to.get(&about).is_none_or(|before| *before < (often, part));
        // What is new may have the href that another gives up.
        let frees = often == Often::Object
            && [Often::ObjectChanged, Often::ObjectSame].iter().any(|o| self.stretch.groups.contains_key(o));
        if !is_like || !comes_later || frees {
            self.end_stretch();
        }
        self.stretch.come_to.insert(about, (often, part));
        match self.stretch.groups.entry(often) {
            std::collections::btree_map::Entry::Occupied(mut group) => {
                group.get_mut().rows.extend(statement.rows);
            }
            std::collections::btree_map::Entry::Vacant(place) => drop(place.insert(statement)),
        }
    }

    fn grow(&mut self, by: &Statement) {
        self.size[0] += by.rows.len();
        self.size[1] += by.bytes();
    }

    fn end_stretch(&mut self) {
        let Stretch { groups, .. } = std::mem::take(&mut self.stretch);
        self.statements.extend(groups.into_values());
    }

    /// All of them, in an order that comes to the same.
    pub(super) fn take(&mut self) -> Vec<Statement> {
        self.end_stretch();
        self.size = [0, 0];
        std::mem::take(&mut self.statements)
    }
}

/// Questions that are asked at once, and their answers.
#[derive(Default)]
pub(super) struct Ahead {
    /// Whether questions are collected instead of asked.
    pub(super) collects: bool,
    /// Whether so much is held that no more is asked ahead.
    is_full: bool,
    noted: HashMap<String, HashSet<Vec<Owned>>>,
    known: HashMap<String, HashMap<Vec<Owned>, std::rc::Rc<[tokio_postgres::Row]>>>,
}

impl Ahead {
    /// The answer that is known.
    pub(super) fn answer(&self, sql: &str, values: &[Owned]) -> Option<std::rc::Rc<[tokio_postgres::Row]>> {
        self.known.get(sql)?.get(values).cloned()
    }

    /// Notes a question that is to be asked, while there is room for its answer.
    pub(super) fn note(&mut self, statement: Statement) {
        if !self.is_full {
            self.noted.entry(statement.sql).or_default().extend(statement.rows);
        }
    }

    /// The questions that were noted, each once.
    pub(super) fn take_noted(&mut self) -> Vec<Statement> {
        let noted = std::mem::take(&mut self.noted).into_iter();
        let each_once = noted.flat_map(|(sql, rows)| {
            let rows: Vec<_> = rows.into_iter().collect();
            let chunks: Vec<_> = rows.chunks(AT_ONCE).map(<[_]>::to_vec).collect();
            chunks.into_iter().map(move |rows| Statement { sql: sql.clone(), rows, is_asked: true })
        });
        each_once.collect()
    }

    /// Keeps the answers to a question; the last column of each row says to which of them.
    pub(super) fn keep(&mut self, asked: Statement, answer: Answer) {
        self.is_full |= answer.whole_before.is_some();
        let at = |number: i64| usize::try_from(number - 1).unwrap_or(0);
        let whole = answer.whole_before.map_or(usize::MAX, at);
        let mut each: Vec<Vec<tokio_postgres::Row>> = asked.rows.iter().map(|_| Vec::new()).collect();
        for row in answer.rows {
            let own = each.get_mut(at(row.get(row.len() - 1)));
            if let Some(own) = own {
                own.push(row);
            }
        }
        let known = self.known.entry(asked.sql).or_default();
        let answers = each.into_iter().map(std::rc::Rc::from);
        known.extend(asked.rows.into_iter().zip(answers).take(whole));
    }
}

/// A statement that is run once for each element of lists, in their order; they take the places of its values. A
/// question's answers say in a last column for which element they are, from 1 on.
pub(super) fn listed(sql: &str, types: &[Type]) -> String {
    let lists = types.iter().enumerate().map(|(at, ty)| {
        let of = match *ty {
            Type::INT8 => "BIGINT",
            Type::INT4 => "INTEGER",
            _ => "BYTEA",
        };
        format!("CAST(${} AS {of}[])", at + 1)
    });
    let names = (1..=types.len()).map(|at| format!("v{at}, "));
    let lists = format!(
        "unnest({}) WITH ORDINALITY AS listed({}number_of)",
        lists.collect::<Vec<_>>().join(", "),
        names.collect::<String>()
    );
    let sql = MARK.replace_all(sql, "listed.v$1");
    let from = |by: &str, word: &str| {
        let (before, after) = sql.split_once(word).unwrap_or((&sql, ""));
        format!("{before} {by} {lists}{word}{after}")
    };
    match sql.split_whitespace().next() {
        Some("INSERT") => {
            let (into, values) = sql.split_once("VALUES (").unwrap_or((&sql, ""));
            let (values, rest) = values.split_once(')').unwrap_or((values, ""));
            format!("{into}SELECT {values} FROM {lists} WHERE TRUE{rest}")
        }
        Some("UPDATE") => from("FROM", " WHERE "),
        Some("DELETE") => from("USING", " WHERE "),
        // With an offset it stays a question of its own, asked for each element: no plan takes it apart.
        _ => {
            format!("SELECT asked.*, listed.number_of FROM {lists} CROSS JOIN LATERAL ({sql} OFFSET 0) asked")
        }
    }
}
