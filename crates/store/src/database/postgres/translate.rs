//! Statements as SQLite takes them, as PostgreSQL takes them.

use std::sync::LazyLock;

use regex::Regex;

/// Which index is to be used is not said to PostgreSQL.
static HINT: LazyLock<Regex> =
    LazyLock::new(|| Regex::new(r"\s+INDEXED BY \w+").expect("a fixed expression"));
/// What is said to PostgreSQL alone: an index there may hold less than a column does.
static ALONE: LazyLock<Regex> =
    LazyLock::new(|| Regex::new(r"/\*PostgreSQL: (.*?)\*/").expect("a fixed expression"));
static MARK: LazyLock<Regex> = LazyLock::new(|| Regex::new(r"\?(\d*)").expect("a fixed expression"));

/// Writes marks for values as PostgreSQL does: `?` is the next one, `?3` the third.
pub(super) fn translated(sql: &str) -> String {
    let mut last = 0;
    let sql = HINT.replace_all(sql, "");
    let sql = ALONE.replace_all(&sql, "$1");
    let marked = MARK.replace_all(&sql, |found: &regex::Captures<'_>| {
        let number = found[1].parse().unwrap_or(last + 1);
        last = last.max(number);
        format!("${number}")
    });
    marked.into_owned()
}

/// Has a row added under a number that is its last value; returns the table, too.
pub(super) fn numbered(sql: &str) -> (&str, String) {
    let table = sql.split_whitespace().nth(2).unwrap_or_default();
    let (columns, marks) = sql.rsplit_once(" VALUES (").unwrap_or((sql, ""));
    let (columns, marks) = (columns.trim_end().trim_end_matches(')'), marks.trim_end().trim_end_matches(')'));
    (table, format!("{columns}, id) VALUES ({marks}, ?)"))
}

#[cfg(test)]
mod tests {
    use super::{numbered, translated};

    #[test]
    fn marks_are_numbered_and_hints_left_out() {
        let sql = "SELECT 1 FROM object INDEXED BY object_uid WHERE calendar = ? AND uid = ? LIMIT ?";
        assert_eq!(translated(sql), "SELECT 1 FROM object WHERE calendar = $1 AND uid = $2 LIMIT $3");
        assert_eq!(
            translated("uid >= ?3 AND route = ?1 AND uid < ?3"),
            "uid >= $3 AND route = $1 AND uid < $3"
        );
        let sql = "WHERE href = ?1 /*PostgreSQL: AND sha256(href) = sha256(?1)*/ LIMIT ?";
        assert_eq!(translated(sql), "WHERE href = $1 AND sha256(href) = sha256($1) LIMIT $2");
        let (table, sql) = numbered("INSERT INTO zone (digest, bytes) VALUES (?, ?)");
        assert_eq!((table, sql.as_str()), ("zone", "INSERT INTO zone (digest, bytes, id) VALUES (?, ?, ?)"));
    }
}
