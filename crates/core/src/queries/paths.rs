//! The search path of each context, directory by directory, and who put each directory there.

use hashbrown::HashSet;
use schemars::JsonSchema;
use serde::Serialize;

use super::session::{self, SessionDifference};
use crate::bytes::{ByteString, path};
use crate::findings::search_path;
use crate::fs::Kind;
use crate::host::Host;
use crate::model::{Evidence, Finding};
use crate::resolve::contexts::evidence_at;
use crate::resolve::{Context, ResolvedContext};
use whodunit_shell::eval::{AliasKind, Place};

/// One directory of a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct PathEntry {
    /// As the list spells it.
    pub directory: ByteString,
    /// Whether there is such a directory; `null` where that cannot be told.
    pub exists: Option<bool>,
    /// The directory that was searched before and is the same one, where there is one.
    pub same_as: Option<ByteString>,
    /// Who put it there.
    pub because: Vec<Evidence>,
}

/// An alias or a function that a context's shell has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Named {
    /// The name.
    pub name: ByteString,
    /// What an alias stands for; `null` for a function.
    pub value: Option<ByteString>,
    /// Whether it is certain that it is there.
    pub certain: bool,
    /// Who made it.
    pub because: Vec<Evidence>,
}

/// One list of one context.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ContextPath {
    /// Which context.
    pub context: Context,
    /// Whose; `null` where it is this process's own.
    pub user: Option<ByteString>,
    /// The shell whose start-up files were followed; `null` where none is involved.
    pub shell: Option<String>,
    /// The variable.
    pub variable: String,
    /// Its directories in order.
    pub entries: Vec<PathEntry>,
    /// Whether nothing in it is unknown.
    pub certain: bool,
    /// What is unknown, and where.
    pub unknowns: Vec<Evidence>,
    /// Assumptions where no file tells.
    pub assumed: Vec<Evidence>,
    /// Tables of jobs and units that have a search path of their own.
    pub others: Vec<Evidence>,
    /// Aliases that the shell has.
    pub aliases: Vec<Named>,
    /// Functions that the shell has.
    pub functions: Vec<Named>,
}

/// The answer.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Paths {
    /// One per context and user.
    pub contexts: Vec<ContextPath>,
    /// What is wrong with directories of the lists.
    pub findings: Vec<Finding>,
    /// How this process's own list differs from that of a fresh session; `null` for any other context.
    pub session: Option<SessionDifference>,
}

/// The variable that programs are found with.
pub const COMMANDS: &str = "PATH";

/// Tells a variable of each context.
#[must_use]
pub fn paths(host: &Host, resolved: &[ResolvedContext], variable: &str) -> Paths {
    let contexts: Vec<ContextPath> = resolved.iter().map(|resolved| of_one(host, resolved, variable)).collect();
    let findings = if variable == COMMANDS { search_path::findings(host, resolved) } else { Vec::new() };
    let here = resolved.iter().find(|one| one.context == Context::Here);
    let session = here.and_then(|here| session::difference(host, here, variable));
    Paths { contexts, findings, session }
}

fn of_one(host: &Host, resolved: &ResolvedContext, variable: &str) -> ContextPath {
    let (listed, mut unknowns) = resolved.list(variable);
    let mut seen: HashSet<ByteString> = HashSet::new();
    let mut first_of: Vec<(ByteString, ByteString)> = Vec::new();
    let entries = listed
        .into_iter()
        .map(|one| {
            let is_told = one.dir.starts_with(b"/") || host.root.is_live();
            let directory = path::absolute(&one.dir, &host.env.dir);
            let canonical = host.root.canonicalize_dir(&directory);
            let exists = host.root.target(&directory).is_ok_and(|meta| meta.kind == Kind::Dir);
            let same_as = first_of.iter().find(|(known, _)| *known == canonical).map(|(_, spelled)| spelled.clone());
            if seen.insert(canonical.clone()) {
                first_of.push((canonical, one.dir.clone()));
            }
            PathEntry { directory: one.dir, exists: is_told.then_some(exists), same_as, because: vec![one.because] }
        })
        .collect();
    let certain = unknowns.is_empty();
    for unknown in resolved.state.taints.iter().filter_map(|unknown| resolved.unknown(*unknown)) {
        if !unknowns.contains(&unknown) {
            unknowns.push(unknown);
        }
    }
    let because = |place: &Place| evidence_at(place, if place.line == 0 { "has it" } else { "defines it" });
    let aliases = resolved.state.aliases.iter().map(|(name, alias)| Named {
        name: name.as_slice().into(),
        value: Some(alias.value.as_slice().into()).filter(|_| alias.kind == AliasKind::Command),
        certain: alias.certain,
        because: vec![because(&alias.place)],
    });
    let functions = resolved.state.functions.iter().map(|(name, function)| Named {
        name: name.as_slice().into(),
        value: None,
        certain: function.certain,
        because: vec![because(&function.place)],
    });
    ContextPath {
        context: resolved.context,
        user: (resolved.context != Context::Here).then(|| resolved.user.name.clone()),
        shell: resolved.shell.map(|shell| shell.word().to_owned()),
        variable: variable.to_owned(),
        entries,
        certain,
        unknowns,
        assumed: resolved.assumed.clone(),
        others: if variable == COMMANDS { resolved.others.clone() } else { Vec::new() },
        aliases: aliases.collect(),
        functions: functions.collect(),
    }
}
