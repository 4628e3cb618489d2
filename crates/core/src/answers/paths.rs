//! The search path of each context, folder by folder, and who put each folder there.

use hashbrown::HashSet;
use schemars::JsonSchema;
use serde::Serialize;

use crate::findings::folders;
use crate::model::{Evidence, Finding};
use crate::root::Kind;
use crate::scene::Scene;
use crate::search::shell::{AliasKind, Place};
use crate::search::{Context, Situation};
use crate::text::{Text, path};

/// One folder of a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct PathEntry {
    /// As the list spells it.
    pub folder: Text,
    /// Whether there is such a folder; `null` where that cannot be told.
    pub exists: Option<bool>,
    /// The folder that was searched before and is the same one, where there is one.
    pub same_as: Option<Text>,
    /// Who put it there.
    pub because: Vec<Evidence>,
}

/// An alias or a function that a context's shell has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Named {
    /// The name.
    pub name: Text,
    /// What an alias stands for; `null` for a function.
    pub value: Option<Text>,
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
    pub person: Option<Text>,
    /// The shell whose start-up files were followed; `null` where none is involved.
    pub shell: Option<String>,
    /// The variable.
    pub variable: String,
    /// Its folders in order.
    pub entries: Vec<PathEntry>,
    /// Whether nothing in it is unknown.
    pub certain: bool,
    /// What is unknown, and where.
    pub unknowns: Vec<Evidence>,
    /// What was taken to be so where nothing says it.
    pub assumed: Vec<Evidence>,
    /// Aliases that the shell has.
    pub aliases: Vec<Named>,
    /// Functions that the shell has.
    pub functions: Vec<Named>,
}

/// The answer.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Paths {
    /// One per context and person.
    pub contexts: Vec<ContextPath>,
    /// What is wrong with folders of the lists.
    pub findings: Vec<Finding>,
}

/// The variable that programs are found with.
pub const COMMANDS: &str = "PATH";

/// Tells a variable of each situation.
#[must_use]
pub fn paths(scene: &Scene, situations: &[Situation], variable: &str) -> Paths {
    let contexts: Vec<ContextPath> = situations.iter().map(|situation| of_one(scene, situation, variable)).collect();
    let findings = if variable == COMMANDS { folders::findings(scene, situations) } else { Vec::new() };
    Paths { contexts, findings }
}

fn of_one(scene: &Scene, situation: &Situation, variable: &str) -> ContextPath {
    let (listed, mut unknowns) = situation.list(variable);
    let mut seen: HashSet<Text> = HashSet::new();
    let mut first_of: Vec<(Text, Text)> = Vec::new();
    let entries = listed
        .into_iter()
        .map(|one| {
            let is_told = one.folder.starts_with(b"/") || scene.root.is_live();
            let folder = path::absolute(&one.folder, &scene.here.folder);
            let settled = scene.root.settle_folder(&folder);
            let exists = scene.root.target(&folder).is_ok_and(|meta| meta.kind == Kind::Folder);
            let same_as = first_of.iter().find(|(known, _)| *known == settled).map(|(_, spelled)| spelled.clone());
            if seen.insert(settled.clone()) {
                first_of.push((settled, one.folder.clone()));
            }
            PathEntry { folder: one.folder, exists: is_told.then_some(exists), same_as, because: vec![one.because] }
        })
        .collect();
    let certain = unknowns.is_empty();
    for doubt in situation.state.clouds.iter().filter_map(|doubt| situation.doubts.get(*doubt)) {
        if !unknowns.contains(doubt) {
            unknowns.push(doubt.clone());
        }
    }
    let because = |place: &Place| match place.line {
        0 if !place.file.starts_with(b"/") => Evidence::at(place.file.clone(), "compiled in", "has it"),
        0 => Evidence::at(place.file.clone(), "whole file", "has it"),
        line => Evidence::line(place.file.clone(), line, "defines it"),
    };
    let aliases = situation.state.aliases.iter().map(|(name, alias)| Named {
        name: name.as_slice().into(),
        value: Some(alias.value.as_slice().into()).filter(|_| alias.kind == AliasKind::Command),
        certain: alias.certain,
        because: vec![because(&alias.place)],
    });
    let functions = situation.state.functions.iter().map(|(name, function)| Named {
        name: name.as_slice().into(),
        value: None,
        certain: function.certain,
        because: vec![because(&function.place)],
    });
    ContextPath {
        context: situation.context,
        person: (situation.context != Context::Here).then(|| situation.person.name.clone()),
        shell: situation.shell.map(|shell| shell.word().to_owned()),
        variable: variable.to_owned(),
        entries,
        certain,
        unknowns,
        assumed: situation.assumed.clone(),
        aliases: aliases.collect(),
        functions: functions.collect(),
    }
}
