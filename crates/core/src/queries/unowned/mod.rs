//! Programs that no manager claims, grouped by how they probably came.

mod collect;
mod group;
mod guess;

use schemars::JsonSchema;
use serde::Serialize;

use crate::bytes::ByteString;
use crate::fs::Meta;
use crate::model::{CoverageState, Evidence};
use crate::resolve::SearchPath;
use crate::resolve::hints::{self, Archives, Hint};
use crate::survey::Survey;

/// What a file without an owner is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FileKind {
    /// A compiled program.
    Program,
    /// A program that an interpreter runs.
    Script,
    /// A link to a program without an owner.
    Link,
    /// A library that programs load.
    Library,
    /// A manual page.
    Manual,
    /// A pkg-config file.
    PkgConfig,
    /// A launcher.
    Launcher,
    /// Anything else.
    Data,
}

impl FileKind {
    /// The word used in every output.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            FileKind::Program => "program",
            FileKind::Script => "script",
            FileKind::Link => "link",
            FileKind::Library => "library",
            FileKind::Manual => "manual",
            FileKind::PkgConfig => "pkg-config",
            FileKind::Launcher => "launcher",
            FileKind::Data => "data",
        }
    }

    fn is_program(self) -> bool {
        matches!(self, FileKind::Program | FileKind::Script | FileKind::Link)
    }
}

/// One file without an owner.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct UnownedFile {
    /// Where it is.
    pub path: ByteString,
    /// What it is.
    pub kind: FileKind,
    /// The version that it, or its directory, gives.
    pub version_hint: Option<ByteString>,
    /// Whether that version is a guess: the group's evidence says from what.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub version_is_probable: bool,
}

/// Files that probably came together.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Group {
    /// What it is called: its main program, or the directory that holds it.
    pub name: ByteString,
    /// Its version, where its files agree on one.
    pub version_hint: Option<ByteString>,
    /// How it probably came.
    pub guess: String,
    /// Its files; programs first.
    pub files: Vec<UnownedFile>,
    /// What the guess rests on.
    pub evidence: Vec<Evidence>,
}

/// The answer.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Unowned {
    /// One per piece of software, as far as can be told.
    pub groups: Vec<Group>,
    /// Whether everything was read: all directories looked into, and all records.
    pub certain: bool,
}

/// A file without an owner, on its way into a group.
#[derive(Debug, Clone)]
struct Stray {
    path: ByteString,
    kind: FileKind,
    meta: Meta,
    /// For a link: what it leads to.
    exec_target: Option<ByteString>,
}

/// Looks at directories of programs and the trees below `/usr/local` and `/opt`; or at `dirs` with all
/// that is below them, where any are given.
#[must_use]
pub fn unowned(survey: &Survey<'_>, searches: &[&SearchPath], dirs: &[ByteString]) -> Unowned {
    let strays = collect::strays(survey, searches, dirs);
    let archives = Archives::new(survey.host);
    let groups = group::together(survey.host, &strays);
    let mut groups: Vec<Group> = groups
        .into_iter()
        .map(|members| members.into_iter().map(|index| &strays[index]).collect::<Vec<_>>())
        .filter(|members| members.iter().any(|stray| stray.kind.is_program()))
        .map(|members| describe(survey, &archives, members))
        .collect();
    groups.sort_by(|a, b| a.files[0].path.cmp(&b.files[0].path));
    let certain =
        !survey.managers().is_empty() && survey.coverage().iter().all(|part| part.state == CoverageState::Read);
    Unowned { groups, certain }
}

/// The programs of one group for which a version is guessed.
const MAX_PROBABLE: usize = 8;

fn describe(survey: &Survey<'_>, archives: &Archives<'_>, mut members: Vec<&Stray>) -> Group {
    members.sort_by_key(|stray| (!stray.kind.is_program(), stray.kind == FileKind::Link, stray.path.clone()));
    let mut evidence: Vec<Evidence> = Vec::new();
    let mut versions: Vec<ByteString> = Vec::new();
    let certain = |stray: &&Stray| {
        use FileKind::{Manual, PkgConfig, Program, Script};
        let is_worth_asking = matches!(stray.kind, Program | Script | Manual | PkgConfig);
        is_worth_asking.then(|| hints::of_file(survey.root(), &stray.path)).flatten()
    };
    let mut found: Vec<Option<Hint>> = members.iter().map(certain).collect();
    if found.iter().all(Option::is_none) {
        // What is only near a program counts where nothing states a version.
        let programs = members.iter().enumerate().filter(|(_, stray)| stray.kind.is_program());
        for (index, stray) in programs.take(MAX_PROBABLE) {
            found[index] = hints::probable(archives, stray.exec_target.as_ref().unwrap_or(&stray.path));
        }
    }
    for hint in found.iter().flatten() {
        if !versions.contains(&hint.version) {
            versions.push(hint.version.clone());
            evidence.push(hint.evidence.clone());
        }
    }
    let described = members.iter().zip(found).map(|(stray, hint)| UnownedFile {
        path: stray.path.clone(),
        kind: stray.kind,
        version_is_probable: hint.as_ref().is_some_and(|hint| hint.is_probable),
        version_hint: hint.map(|hint| hint.version),
    });
    let files = described.collect();
    let (name, guess, more) = guess::guess(survey.host, &members);
    evidence.extend(more);
    // Files that disagree are several pieces of software, or none that can be told.
    let version_hint = if versions.len() == 1 { versions.pop() } else { None };
    Group { name, version_hint, guess, files, evidence }
}
