//! Launchers: what a menu shows.

use std::borrow::Cow;
use std::fmt;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Serialize, Serializer};

use super::{Evidence, Finding, Owner};
use crate::bytes::ByteString;

/// What a launcher starts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Starts {
    /// The program that is found; `null` when there is none.
    pub path: Option<ByteString>,
    /// The owner of what finally runs.
    pub owner: Option<Owner>,
    /// The command line as written.
    pub command: Option<String>,
}

/// One launcher.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Launcher {
    /// The users in whose sessions it is so; empty where data directories were given.
    pub users: Vec<ByteString>,
    /// Its id.
    pub id: ByteString,
    /// The file that wins.
    pub file: ByteString,
    /// The name that a menu shows.
    pub name: Option<String>,
    /// Whether a menu shows it.
    pub shown: bool,
    /// Why not.
    pub why_hidden: Option<HiddenReason>,
    /// Files of the same id that it masks, in order.
    pub masks: Vec<ByteString>,
    /// What it starts.
    pub starts: Starts,
    /// The owner of the file itself.
    pub owner: Option<Owner>,
    /// Findings about it.
    pub findings: Vec<Finding>,
    /// Where this stands.
    pub evidence: Vec<Evidence>,
}

/// Why a menu does not show a launcher.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum HiddenReason {
    /// No session searches its directory.
    NotSearched,
    /// The file cannot be read or parsed.
    Unusable(String),
    /// `Type` is not `Application`.
    NotApplication(String),
    /// `Hidden=true`.
    Deleted,
    /// `TryExec` names a program that does not exist.
    TryExec(String),
    /// `Exec` has a quote that is not closed.
    OpenQuote,
    /// `Exec` starts a program that does not exist.
    NoProgram(String),
    /// `NoDisplay=true`.
    NoDisplay,
    /// `NotShowIn` names this desktop.
    NotShowIn(ByteString),
    /// `OnlyShowIn` names other desktops.
    OnlyShowIn {
        /// The desktops.
        desktops: Vec<String>,
        /// Whether the desktop in use is known.
        desktop_is_known: bool,
    },
}

impl HiddenReason {
    /// Whether the launcher cannot be used at all, on any desktop.
    #[must_use]
    pub fn is_broken(&self) -> bool {
        use HiddenReason::{NoProgram, OpenQuote, TryExec, Unusable};
        matches!(self, Unusable(_) | TryExec(_) | OpenQuote | NoProgram(_))
    }
}

impl fmt::Display for HiddenReason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            HiddenReason::NotSearched => f.write_str("it is in no directory that is searched"),
            HiddenReason::Unusable(why) => f.write_str(why),
            HiddenReason::NotApplication(other) => write!(f, "Type={other} is not an application"),
            HiddenReason::Deleted => f.write_str("Hidden=true: treated as deleted"),
            HiddenReason::TryExec(program) => write!(f, "TryExec={program}: there is no such program"),
            HiddenReason::OpenQuote => f.write_str("Exec cannot be split into words: a quote is not closed"),
            HiddenReason::NoProgram(program) => write!(f, "Exec starts {program}, and there is no such program"),
            HiddenReason::NoDisplay => f.write_str("NoDisplay=true: not meant for menus"),
            HiddenReason::NotShowIn(desktop) => write!(f, "NotShowIn names this desktop, {desktop}"),
            HiddenReason::OnlyShowIn { desktops, desktop_is_known } => {
                write!(f, "only for {}", desktops.join(", "))?;
                if *desktop_is_known {
                    return Ok(());
                }
                f.write_str(", and the desktop in use is unknown (--desktop NAME sets it)")
            }
        }
    }
}

impl Serialize for HiddenReason {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl JsonSchema for HiddenReason {
    fn schema_name() -> Cow<'static, str> {
        "HiddenReason".into()
    }
    fn inline_schema() -> bool {
        true
    }
    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string" })
    }
}
