//! Findings: what a maintainer should know.

use schemars::JsonSchema;
use serde::Serialize;

use super::{Evidence, Remedy, Severity};
use crate::text::Text;

/// Something that a maintainer should know.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Finding {
    /// What kind of finding it is.
    pub kind: String,
    /// How much it matters.
    pub severity: Severity,
    /// What it is about.
    pub subject: Text,
    /// One sentence.
    pub summary: String,
    /// Ids of the packages concerned.
    pub packages: Vec<Text>,
    /// The paths concerned.
    pub paths: Vec<Text>,
    /// What follows from it.
    pub consequence: String,
    /// The ways out, the safest first.
    pub remedies: Vec<Remedy>,
    /// Where it stands.
    pub evidence: Vec<Evidence>,
    /// Why it was accepted, where it was.
    pub accepted: Option<String>,
}
