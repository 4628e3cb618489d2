//! A TARGET as a user writes it.

use schemars::JsonSchema;
use serde::Serialize;

use crate::bytes::ByteString;

/// What sort of thing a target is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum TargetKind {
    /// A name that is typed.
    Command,
    /// A file or directory.
    Path,
    /// A launcher's id.
    Launcher,
    /// A package's name.
    Package,
    /// A shared library's name, as programs need it.
    Library,
    /// A module of Python.
    Module,
}

/// What is asked about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Target {
    /// As the user gave it.
    pub given: ByteString,
    /// The kind, where the user said it.
    pub kind: Option<TargetKind>,
    /// The name or path itself.
    pub name: ByteString,
}

/// A target that cannot be understood.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{given}: {problem}")]
pub struct BadTarget {
    /// As given.
    pub given: ByteString,
    /// What is wrong with it, and what would be right.
    pub problem: &'static str,
}

impl Target {
    /// Takes `command:NAME`, `path:PATH`, `launcher:ID`, `package:NAME`, `library:NAME`, `module:NAME`, or a bare name
    /// or path.
    ///
    /// # Errors
    /// For an empty name, and for a command with a slash.
    pub fn parse(given: &[u8]) -> Result<Self, BadTarget> {
        let kinds = [
            ("command:", TargetKind::Command),
            ("path:", TargetKind::Path),
            ("package:", TargetKind::Package),
            ("launcher:", TargetKind::Launcher),
            ("library:", TargetKind::Library),
            ("module:", TargetKind::Module),
        ];
        let explicit = kinds.iter().find_map(|(prefix, kind)| Some((*kind, given.strip_prefix(prefix.as_bytes())?)));
        let (kind, name) = match explicit {
            Some((kind, name)) => (Some(kind), name),
            None if given.contains(&b'/') => (Some(TargetKind::Path), given),
            None => (None, given),
        };
        let bad = |problem| Err(BadTarget { given: given.into(), problem });
        if name.is_empty() {
            return bad("no name given");
        }
        if kind == Some(TargetKind::Command) && name.contains(&b'/') {
            return bad("a command has no slash in its name (use path: for a file)");
        }
        Ok(Target { given: given.into(), kind, name: name.into() })
    }
}
