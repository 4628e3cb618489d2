//! Names that a shell takes for something of its own, before any program of that name is found.

use crate::bytes::ByteString;
use crate::model::{Finding, FindingKind, Severity};
use crate::resolve::Context;
use crate::resolve::words::{Taken, TakenFor, is_same_program};

/// A name of the shell's own in front of a program; nothing where it only starts that program with more words.
#[must_use]
pub fn hides(name: &ByteString, program: &ByteString, taken: &Taken, context: Context) -> Option<Finding> {
    let (kind, severity) = match taken.how {
        TakenFor::Alias if taken.value.as_ref().is_some_and(|value| is_same_program(name, value)) => return None,
        TakenFor::Alias => (FindingKind::AliasHidesCommand, Severity::Warning),
        TakenFor::Function => (FindingKind::FunctionHidesCommand, Severity::Warning),
        // That is how shells are made; it matters to who looks for the program.
        TakenFor::Builtin | TakenFor::ReservedWord => (FindingKind::BuiltinHidesCommand, Severity::Note),
    };
    let is_in = format!("in the context {}", context.word());
    let summary = match (&taken.value, taken.how) {
        (Some(value), _) => format!("{name} is an alias for `{value}` {is_in}, so {program} does not run"),
        (None, how) => format!("{name} is a shell {} {is_in}, so {program} does not run", how.word()),
    };
    let consequence = "scripts, launchers and sudo run something else than what is typed";
    Some(Finding {
        paths: vec![program.clone()],
        evidence: vec![taken.because.clone()],
        ..Finding::new(kind, severity, name.clone(), summary, consequence)
    })
}
