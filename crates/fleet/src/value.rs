//! The values of rows, and the numbers that identify them.

use sha2::{Digest as _, Sha256};

/// A value of a column.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Value {
    /// Not known, or nothing.
    Null,
    /// A whole number, or a truth as 0 and 1.
    Int(i64),
    /// Text.
    Text(String),
    /// Bytes.
    Bytes(Vec<u8>),
}

/// One row.
pub type Row = Vec<Value>;

impl Value {
    /// The number; 0 for anything else.
    #[must_use]
    pub fn int(&self) -> i64 {
        match self {
            Value::Int(number) => *number,
            _ => 0,
        }
    }

    /// How many: the number, never less than none.
    #[must_use]
    pub fn count(&self) -> usize {
        usize::try_from(self.int()).unwrap_or(0)
    }

    /// The text, where it is one.
    #[must_use]
    pub fn text(&self) -> Option<String> {
        match self {
            Value::Text(text) => Some(text.clone()),
            _ => None,
        }
    }

    /// The text; empty where it is none.
    #[must_use]
    pub fn words(&self) -> String {
        self.text().unwrap_or_default()
    }

    /// Whether it is true.
    #[must_use]
    pub fn is_true(&self) -> bool {
        self.int() != 0
    }
}

impl From<i64> for Value {
    fn from(number: i64) -> Self {
        Value::Int(number)
    }
}

impl From<usize> for Value {
    fn from(count: usize) -> Self {
        Value::Int(i64::try_from(count).unwrap_or(i64::MAX))
    }
}

impl From<bool> for Value {
    fn from(is_true: bool) -> Self {
        Value::Int(i64::from(is_true))
    }
}

impl From<&str> for Value {
    fn from(text: &str) -> Self {
        // A database may refuse the one character that ends a text elsewhere.
        Value::Text(if text.contains('\0') { text.replace('\0', "\u{fffd}") } else { text.to_owned() })
    }
}

impl From<&String> for Value {
    fn from(text: &String) -> Self {
        text.as_str().into()
    }
}

impl From<Vec<u8>> for Value {
    fn from(bytes: Vec<u8>) -> Self {
        Value::Bytes(bytes)
    }
}

impl<T> From<Option<T>> for Value
where
    T: Into<Value>,
{
    fn from(value: Option<T>) -> Self {
        value.map_or(Value::Null, Into::into)
    }
}

/// The number of a row: the first 64 bits of a SHA-256 over its values. Of ten million rows, two share one with a
/// probability of one in 370,000.
#[must_use]
pub fn number_of(values: &[Value]) -> i64 {
    let mut digest = Sha256::new();
    for value in values {
        let number = value.int().to_be_bytes();
        let (tag, bytes): (u8, &[u8]) = match value {
            Value::Null => (0, b""),
            Value::Int(_) => (1, &number),
            Value::Text(text) => (2, text.as_bytes()),
            Value::Bytes(bytes) => (3, bytes),
        };
        digest.update([tag]);
        digest.update((bytes.len() as u64).to_be_bytes());
        digest.update(bytes);
    }
    let digest = digest.finalize();
    let mut first = [0; 8];
    first.copy_from_slice(&digest[..8]);
    i64::from_be_bytes(first)
}
