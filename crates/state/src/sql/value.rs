//! What goes into a statement and what comes out of it.

use jiff::Timestamp;

use crate::StateError;
use crate::accounts::SealedBytes;

/// A value as both databases have it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Value {
    Null,
    Integer(i64),
    Text(String),
    Bytes(Vec<u8>),
}

macro_rules! from {
    ($($type:ty => |$value:ident| $made:expr;)+) => {
        $(impl From<$type> for Value {
            fn from($value: $type) -> Value {
                $made
            }
        })+
    };
}
from! {
    i64 => |value| Value::Integer(value);
    bool => |value| Value::Integer(i64::from(value));
    &str => |value| Value::Text(value.to_owned());
    String => |value| Value::Text(value);
    &String => |value| Value::Text(value.clone());
    &Vec<u8> => |value| Value::Bytes(value.clone());
    Timestamp => |value| Value::Integer(value.as_second());
}

impl<T: Into<Value>> From<Option<T>> for Value {
    fn from(value: Option<T>) -> Value {
        value.map_or(Value::Null, Into::into)
    }
}

/// Makes the parameters of a statement.
macro_rules! values {
    ($($value:expr),* $(,)?) => {
        vec![$($crate::sql::Value::from($value)),*]
    };
}
pub(crate) use values;

/// A row whose columns are taken one after the other, in the order of the statement.
#[derive(Debug)]
pub struct Row(std::vec::IntoIter<Value>);

impl Row {
    pub(crate) fn new(values: Vec<Value>) -> Row {
        Row(values.into_iter())
    }

    fn wrong(table: &'static str, found: &Value, wanted: &str) -> StateError {
        let kind = match found {
            Value::Null => "nothing",
            Value::Integer(_) => "a number",
            Value::Text(_) => "text",
            Value::Bytes(_) => "bytes",
        };
        StateError::Corrupt { table, why: format!("{kind} where {wanted} belongs") }
    }

    fn next(&mut self) -> Value {
        self.0.next().unwrap_or(Value::Null)
    }

    pub(crate) fn integer(&mut self, table: &'static str) -> Result<i64, StateError> {
        match self.next() {
            Value::Integer(number) => Ok(number),
            other => Err(Row::wrong(table, &other, "a number")),
        }
    }

    pub(crate) fn optional_integer(&mut self, table: &'static str) -> Result<Option<i64>, StateError> {
        match self.next() {
            Value::Null => Ok(None),
            Value::Integer(number) => Ok(Some(number)),
            other => Err(Row::wrong(table, &other, "a number")),
        }
    }

    pub(crate) fn boolean(&mut self, table: &'static str) -> Result<bool, StateError> {
        self.integer(table).map(|number| number != 0)
    }

    pub(crate) fn text(&mut self, table: &'static str) -> Result<String, StateError> {
        self.optional_text(table)?.ok_or_else(|| Row::wrong(table, &Value::Null, "text"))
    }

    pub(crate) fn optional_text(&mut self, table: &'static str) -> Result<Option<String>, StateError> {
        match self.next() {
            Value::Null => Ok(None),
            Value::Text(text) => Ok(Some(text)),
            other => Err(Row::wrong(table, &other, "text")),
        }
    }

    pub(crate) fn time(&mut self, table: &'static str) -> Result<Timestamp, StateError> {
        let seconds = self.integer(table)?;
        Timestamp::from_second(seconds).map_err(|error| StateError::Corrupt { table, why: error.to_string() })
    }

    pub(crate) fn optional_time(&mut self, table: &'static str) -> Result<Option<Timestamp>, StateError> {
        let seconds = self.optional_integer(table)?;
        let time = seconds.map(Timestamp::from_second).transpose();
        time.map_err(|error| StateError::Corrupt { table, why: error.to_string() })
    }

    /// Takes a key id and the bytes that it seals.
    pub(crate) fn sealed(&mut self, table: &'static str) -> Result<SealedBytes, StateError> {
        self.optional_sealed(table)?.ok_or_else(|| Row::wrong(table, &Value::Null, "a key"))
    }

    pub(crate) fn optional_sealed(&mut self, table: &'static str) -> Result<Option<SealedBytes>, StateError> {
        let key_id = self.optional_text(table)?;
        match (key_id, self.next()) {
            (Some(key_id), Value::Bytes(bytes)) => Ok(Some(SealedBytes { key_id, bytes })),
            (_, Value::Null) => Ok(None),
            (_, other) => Err(Row::wrong(table, &other, "bytes")),
        }
    }

    /// Takes one of some words.
    pub(crate) fn word<T: Copy>(
        &mut self,
        table: &'static str,
        all: &[T],
        as_str: impl Fn(T) -> &'static str,
    ) -> Result<T, StateError> {
        let text = self.text(table)?;
        let found = all.iter().copied().find(|one| as_str(*one) == text);
        found.ok_or_else(|| StateError::Corrupt { table, why: format!("the unknown word {text:?}") })
    }
}
