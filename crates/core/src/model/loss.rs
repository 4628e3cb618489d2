//! What could not be read, and what that hides.

use std::fmt;
use std::sync::{Mutex, PoisonError};

use indexmap::IndexSet;
use schemars::JsonSchema;
use serde::Serialize;

use crate::bytes::{ByteString, shown_text};
use crate::fs::FsError;

/// Something that could not be read.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, JsonSchema)]
pub struct Loss {
    /// The file or directory, as seen from inside the root; `null` if it is not one.
    pub file: Option<ByteString>,
    /// What is wrong with it.
    pub what: String,
    /// What is unknown because of that; empty if nothing more than the thing itself.
    pub hides: String,
}

impl Loss {
    /// What a stranger's file is quoted with, by a parser's error for one, can steer no terminal from here on.
    fn new(file: Option<ByteString>, what: String, hides: String) -> Self {
        Loss { file, what: shown_text(what), hides: shown_text(hides) }
    }

    /// A file or directory that could not be read.
    pub fn unread(error: &FsError, hides: impl Into<String>) -> Self {
        Self::new(Some(error.path().clone()), error.reason(), hides.into())
    }

    /// A file whose content is not what it should be.
    pub fn damaged(file: impl Into<ByteString>, what: impl fmt::Display, hides: impl Into<String>) -> Self {
        Self::new(Some(file.into()), what.to_string(), hides.into())
    }

    /// A format's own error, which names the file where there is one.
    pub fn because(error: impl fmt::Display, hides: impl Into<String>) -> Self {
        Self::new(None, error.to_string(), hides.into())
    }

    /// A fact about the record itself that hides nothing more.
    pub fn note(what: impl Into<String>) -> Self {
        Self::new(None, what.into(), String::new())
    }
}

/// For display: the parts that are there, with colons between them.
impl fmt::Display for Loss {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(file) = &self.file {
            write!(f, "{file}: ")?;
        }
        f.write_str(&self.what)?;
        if self.hides.is_empty() { Ok(()) } else { write!(f, ": {}", self.hides) }
    }
}

/// What could not be read so far, each loss once, in the order of its discovery. Many threads may add to it.
#[derive(Debug, Default)]
pub struct Losses(Mutex<IndexSet<Loss>>);

impl Losses {
    /// Remembers some more.
    pub fn add(&self, more: impl IntoIterator<Item = Loss>) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).extend(more);
    }

    /// All of them.
    #[must_use]
    pub fn list(&self) -> Vec<Loss> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).iter().cloned().collect()
    }
}

impl FromIterator<Loss> for Losses {
    fn from_iter<I: IntoIterator<Item = Loss>>(losses: I) -> Self {
        Losses(Mutex::new(losses.into_iter().collect()))
    }
}
