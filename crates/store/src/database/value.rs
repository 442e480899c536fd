//! Values that go into a database, and cells that come out, whichever it is.

use crate::error::StoreError;

/// A value of a statement.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Value<'v> {
    Null,
    Number(i64),
    Text(&'v str),
    Bytes(&'v [u8]),
}

/// What may be a value of a statement.
pub(crate) trait AsValue {
    fn value(&self) -> Value<'_>;
}

/// The values of a statement, in the order of their marks.
macro_rules! values {
    ($($value:expr),* $(,)?) => { &[$($crate::database::AsValue::value(&$value)),*] };
}
pub(crate) use values;

impl AsValue for i64 {
    fn value(&self) -> Value<'_> {
        Value::Number(*self)
    }
}

impl AsValue for usize {
    fn value(&self) -> Value<'_> {
        Value::Number(i64::try_from(*self).unwrap_or(i64::MAX))
    }
}

macro_rules! small_numbers {
    ($($number:ty),*) => { $(
        impl AsValue for $number {
            fn value(&self) -> Value<'_> {
                Value::Number(i64::from(*self))
            }
        }
    )* };
}
small_numbers!(bool, u16, u32, i32);

impl AsValue for str {
    fn value(&self) -> Value<'_> {
        Value::Text(self)
    }
}

impl AsValue for String {
    fn value(&self) -> Value<'_> {
        Value::Text(self)
    }
}

impl AsValue for [u8] {
    fn value(&self) -> Value<'_> {
        Value::Bytes(self)
    }
}

impl AsValue for Vec<u8> {
    fn value(&self) -> Value<'_> {
        Value::Bytes(self)
    }
}

impl<T: AsValue + ?Sized> AsValue for &T {
    fn value(&self) -> Value<'_> {
        (**self).value()
    }
}

impl<T: AsValue> AsValue for Option<T> {
    fn value(&self) -> Value<'_> {
        self.as_ref().map_or(Value::Null, AsValue::value)
    }
}

/// What stands in a column of a row.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Cell<'c> {
    Null,
    Number(i64),
    /// Text or a blob: who reads it knows which.
    Bytes(&'c [u8]),
}

impl<'c> From<Cell<'c>> for Value<'c> {
    fn from(cell: Cell<'c>) -> Self {
        match cell {
            Cell::Null => Value::Null,
            Cell::Number(number) => Value::Number(number),
            Cell::Bytes(bytes) => Value::Bytes(bytes),
        }
    }
}

/// What a cell can be read as.
pub(crate) trait FromCell: Sized {
    /// `None` where something else was written.
    fn from_cell(cell: Cell<'_>) -> Option<Self>;
}

impl FromCell for i64 {
    fn from_cell(cell: Cell<'_>) -> Option<Self> {
        match cell {
            Cell::Number(number) => Some(number),
            Cell::Null | Cell::Bytes(_) => None,
        }
    }
}

macro_rules! narrow_numbers {
    ($($number:ty),*) => { $(
        impl FromCell for $number {
            fn from_cell(cell: Cell<'_>) -> Option<Self> {
                i64::from_cell(cell)?.try_into().ok()
            }
        }
    )* };
}
narrow_numbers!(u16, u32, usize);

impl FromCell for bool {
    fn from_cell(cell: Cell<'_>) -> Option<Self> {
        Some(i64::from_cell(cell)? != 0)
    }
}

impl FromCell for Vec<u8> {
    fn from_cell(cell: Cell<'_>) -> Option<Self> {
        match cell {
            Cell::Bytes(bytes) => Some(bytes.to_vec()),
            Cell::Null | Cell::Number(_) => None,
        }
    }
}

impl FromCell for String {
    fn from_cell(cell: Cell<'_>) -> Option<Self> {
        Self::from_utf8(Vec::from_cell(cell)?).ok()
    }
}

impl<T: FromCell> FromCell for Option<T> {
    fn from_cell(cell: Cell<'_>) -> Option<Self> {
        match cell {
            Cell::Null => Some(None),
            cell => T::from_cell(cell).map(Some),
        }
    }
}

/// A row that was asked for.
pub(crate) trait Row {
    /// Returns what stands in a column; the first is 0.
    fn cell(&self, column: usize) -> Result<Cell<'_>, StoreError>;
}

impl dyn Row + '_ {
    /// Reads a column.
    pub(crate) fn get<T: FromCell>(&self, column: usize) -> Result<T, StoreError> {
        // What was written as one type, and is read as another, was changed since.
        T::from_cell(self.cell(column)?).ok_or(StoreError::Damaged)
    }
}
