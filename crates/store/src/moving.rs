//! Copies a whole state into another database, of whichever kind.

use std::path::Path;

use crate::database::{Cell, Database, Kind, Sqlite, Value, new_file, values};
use crate::error::StoreError;
use crate::lease::route_lease;
use crate::presence::machine_name;
use crate::store::Store;
use crate::writer::Writer;

type Result<T> = std::result::Result<T, StoreError>;

/// Where a state was moved to, as it remembers.
const MOVED: &str = "moved";
/// Rows that are read at once.
const PAGE: usize = 2000;

impl Store {
    /// Copies the state into a new file, as it is at this moment: also while others work with it.
    ///
    /// # Errors
    /// There is such a file already, or it cannot be written.
    pub fn backup(&self, to: &Path) -> Result<()> {
        if let Some(sqlite) = self.database.as_sqlite() {
            return sqlite.copy(to);
        }
        new_file(to, || {
            let copy = Database::of(Kind::Sqlite(Sqlite::open(to, &|| None)?));
            self.database.transaction(|| copy.transaction(|| copy_rows(&self.database, &copy)))
        })
    }

    /// Moves the whole state into another one that is empty. This one is not worked with any more.
    ///
    /// # Errors
    /// [`StoreError::Busy`]: a route runs. [`StoreError::NotEmpty`]: there is something already. Nothing was moved then.
    pub fn move_to(&self, to: &Self) -> Result<()> {
        let sizes = to.sizes()?;
        if sizes.iter().any(|size| *size > 0) {
            return Err(StoreError::NotEmpty { place: to.place().to_owned() });
        }
        let names = self.route_names()?;
        let leases: Vec<_> =
            names.iter().map(|name| self.lease(&route_lease(name))).collect::<Result<_>>()?;
        self.write(|writer| {
            to.write(|target| {
                copy_rows(&self.database, &to.database)?;
                rename_local(to, target, [&self.database, &to.database].map(Database::is_shared))
            })?;
            writer.set_meta(MOVED, to.place())
        })?;
        drop(leases);
        Ok(())
    }

    /// Refuses a state that was moved.
    pub(crate) fn still_here(self) -> Result<Self> {
        match self.meta(MOVED)? {
            Some(to) => Err(StoreError::Moved { place: self.place().to_owned(), to }),
            None => Ok(self),
        }
    }
}

/// Files and folders belong to a machine where a state is shared: those of this one are called accordingly.
fn rename_local(to: &Store, writer: &Writer<'_>, shared: [bool; 2]) -> Result<()> {
    let [before, after] =
        shared.map(|is_shared| if is_shared { format!("{}:", machine_name()) } else { String::new() });
    let renamed = |place: &str| {
        let (kind, path) = place.split_once(' ')?;
        let path = path.strip_prefix(&before).filter(|path| path.starts_with('/'))?;
        matches!(kind, "file" | "folder").then(|| format!("{kind} {after}{path}"))
    };
    let places = to
        .database
        .rows("SELECT id, place FROM calendar", &[], |row| Ok((row.get::<i64>(0)?, row.get::<String>(1)?)))?;
    for (id, place) in places {
        if let Some(place) = renamed(&place) {
            writer.run("UPDATE calendar SET place = ? WHERE id = ?", values![place, id])?;
        }
    }
    for name in to.route_names()? {
        if let Some(route) = to.route(&name)? {
            writer.set_ends(route.id, &route.ends_with(renamed))?;
        }
    }
    Ok(())
}

/// A column of a table, and whether it holds text: in some databases it cannot be told from other bytes.
struct Column {
    name: String,
    is_text: bool,
}

/// Copies all rows; what triggers keep is made anew by them. Both are within a transaction.
fn copy_rows(from: &Database, to: &Database) -> Result<()> {
    from.takes_long();
    to.takes_long();
    // All have the same tables and columns; one tells of them.
    let pattern = Database::of(Kind::Sqlite(Sqlite::in_memory()?));
    let sql =
        "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite%' ORDER BY rowid";
    let tables: Vec<String> = pattern.rows(sql, &[], |row| row.get(0))?;
    for table in tables.iter().filter(|table| !["lease", "tally"].contains(&table.as_str())) {
        let sql = "SELECT name, type FROM pragma_table_info(?)";
        let columns = pattern.rows(sql, values![table], |row| {
            Ok(Column { name: row.get(0)?, is_text: row.get::<String>(1)? == "TEXT" })
        })?;
        copy_table(from, to, table, &columns)?;
        if columns.iter().any(|column| column.name == "id") {
            to.begin_numbers_after(table, from.highest_number(table)?)?;
        }
    }
    Ok(())
}

fn copy_table(from: &Database, to: &Database, table: &str, columns: &[Column]) -> Result<()> {
    let names: Vec<_> = columns.iter().map(|column| column.name.as_str()).collect();
    let marks = vec!["?"; names.len()].join(", ");
    let insert = format!("INSERT INTO {table} ({}) VALUES ({marks})", names.join(", "));
    // Whoever names a text is counted when it comes.
    let read = names.join(", ").replace("refs", "0");
    let id = names.iter().position(|name| *name == "id");
    let (mut after, mut page) = (i64::MIN, PAGE);
    while page == PAGE {
        let begin = after;
        let (sql, of) = match id {
            Some(_) => (
                format!("SELECT {read} FROM {table} WHERE id > ? ORDER BY id LIMIT ?"),
                values![begin, PAGE].to_vec(),
            ),
            None => (format!("SELECT {read} FROM {table}"), Vec::new()),
        };
        page = 0;
        from.each(&sql, &of, |row| {
            page += usize::from(id.is_some());
            let mut cells = Vec::with_capacity(columns.len());
            for (number, column) in columns.iter().enumerate() {
                let cell = row.cell(number)?;
                cells.push(match (cell, column.is_text) {
                    (Cell::Bytes(bytes), true) => {
                        Value::Text(std::str::from_utf8(bytes).map_err(|_| StoreError::Damaged)?)
                    }
                    (cell, _) => cell.into(),
                });
            }
            if let Some(Value::Number(number)) = id.map(|id| cells[id]) {
                after = number;
            }
            // What the state says of its own format, and of where it is, is not moved.
            if table == "meta" && matches!(cells[0], Value::Text("format" | MOVED)) {
                return Ok(true);
            }
            to.run(&insert, &cells)?;
            Ok(true)
        })?;
    }
    Ok(())
}
