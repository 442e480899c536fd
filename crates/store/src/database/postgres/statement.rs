//! Statements on their way to the connection, with their values, and what came of them.

use tokio_postgres::types::{Format, IsNull, ToSql, Type};

/// A statement, with its values: of several rows where it is run for each of them.
#[derive(Debug, Clone)]
pub(super) struct Statement {
    pub(super) sql: String,
    pub(super) rows: Vec<Vec<Owned>>,
    /// Whether its answers say for which of the rows they are.
    pub(super) is_asked: bool,
}

impl Statement {
    pub(super) fn of(sql: &str, values: Vec<Owned>) -> Self {
        Self { sql: sql.to_owned(), rows: vec![values], is_asked: false }
    }

    /// One without values.
    pub(super) fn plain(sql: &str) -> Self {
        Self::of(sql, Vec::new())
    }

    /// Whether it is sent as one for lists.
    pub(super) fn is_list(&self) -> bool {
        self.is_asked || self.rows.len() > 1
    }

    /// Whether it adds a row, and does nothing else: many of them add many.
    pub(super) fn is_addition(&self) -> bool {
        self.sql.starts_with("INSERT INTO ")
            && self.sql.contains(" VALUES ($1")
            && !self.sql.contains(" ON CONFLICT ")
    }

    /// How many bytes stand in its values.
    pub(super) fn bytes(&self) -> usize {
        let bytes = |value: &Owned| if let Owned::Bytes(bytes) = value { bytes.len() } else { 0 };
        self.rows.iter().flatten().map(bytes).sum()
    }
}

/// A value on its way to another thread.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(super) enum Owned {
    Null,
    Number(i64),
    Bytes(Vec<u8>),
}

/// What came of a statement.
#[derive(Debug, Default)]
pub(super) struct Answer {
    pub(super) rows: Vec<tokio_postgres::Row>,
    pub(super) changed: u64,
    /// From which of several rows of values on there were too many answers to hold them all.
    pub(super) whole_before: Option<i64>,
}

impl ToSql for Owned {
    fn to_sql(
        &self,
        ty: &Type,
        out: &mut bytes::BytesMut,
    ) -> std::result::Result<IsNull, Box<dyn std::error::Error + Sync + Send>> {
        match self {
            Self::Null => Ok(IsNull::Yes),
            Self::Number(number) if *ty == Type::INT4 => i32::try_from(*number)?.to_sql(ty, out),
            Self::Number(number) => number.to_sql(ty, out),
            Self::Bytes(bytes) => bytes.to_sql(ty, out),
        }
    }

    fn accepts(ty: &Type) -> bool {
        [Type::INT8, Type::INT4, Type::BYTEA].contains(ty)
    }

    fn encode_format(&self, _: &Type) -> Format {
        Format::Binary
    }

    tokio_postgres::types::to_sql_checked!();
}
