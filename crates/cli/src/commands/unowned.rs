//! `whodunit unowned`.

use std::ffi::OsString;
use std::io::Write as _;
use std::os::unix::ffi::OsStrExt as _;

use clap::Args;
use whodunit_core::answers::unowned::{Group, Unowned, UnownedFile, unowned};
use whodunit_core::model::Evidence;
use whodunit_core::root::Kind;
use whodunit_core::survey::Survey;
use whodunit_core::text::path;

use super::Outcome;
use crate::args::Global;
use crate::output::{self, Cell, Column, Grid, Line, Look, Piece, Shown, Streams, Tone};
use crate::run::{Failure, Ready};

/// Programs that no manager claims, grouped by how they probably came
///
/// Looks into the folders of the search path, the system's folders of programs, people's own, and all
/// that lies below /usr/local and /opt; or into DIR with all that lies below it. Files that came
/// together make one group: those in one tree, those that bear one name, and those written within the
/// same minute. A version is read where one is recorded; nothing is run.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit unowned
  whodunit unowned /opt ~/bin
  whodunit unowned --format json | jq '.groups[].files[].path'")]
pub struct Arguments {
    /// Look here instead of the usual places
    dir: Vec<OsString>,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, Failure> {
    let ready = Ready::new(global)?;
    let root = &ready.scene.root;
    let mut folders = Vec::new();
    for dir in &arguments.dir {
        let folder = path::absolute(dir.as_bytes(), &ready.scene.here.folder);
        match root.target(&folder) {
            Ok(meta) if meta.kind == Kind::Folder => folders.push(folder),
            Ok(meta) => return Err(Failure::usage(format!("{folder}: is {}, not a folder", meta.kind))),
            Err(error) => {
                let _ = writeln!(streams.err, "whodunit: {error}");
                return Ok(Outcome { found: false, incomplete: !error.is_missing() });
            }
        }
    }
    let survey = Survey::of(&ready.scene);
    let answer = unowned(&survey, ready.search(), &folders);
    output::show(&answer, &survey, &ready, global, streams, true)
}

/// Files and pieces of evidence of one group that a terminal shows; data formats have all.
const MOST_FILES: usize = 8;
const MOST_EVIDENCE: usize = 4;

impl Shown for Unowned {
    type Item = Group;
    const COMMAND: &'static str = "unowned";

    fn items(&self) -> &[Group] {
        &self.groups
    }

    fn grid(&self) -> Grid {
        let row = |group: &Group, file: &UnownedFile| {
            vec![
                Cell::plain(group.name.to_string()),
                Cell::plain(group.guess.clone()),
                Cell::plain(file.path.to_string()),
                Cell::plain(file.kind.word()),
                Cell::plain(file.version_hint.as_ref().map(ToString::to_string).unwrap_or_default()),
            ]
        };
        let columns = vec![
            Column::words("group", "GROUP"),
            Column::words("guess", "GUESS"),
            Column::words("path", "FILE"),
            Column::words("kind", "KIND"),
            Column::words("version_hint", "VERSION"),
        ];
        let rows = self.groups.iter().flat_map(|group| group.files.iter().map(|file| row(group, file))).collect();
        Grid { columns, rows }
    }

    fn page(&self, look: &Look) -> Vec<Piece> {
        let says = match self.groups.len() {
            0 if self.certain => "every program in these folders has an owner".to_owned(),
            0 => "no program without an owner was found, as far as could be read".to_owned(),
            1 => "1 piece of software here belongs to no manager".to_owned(),
            many => format!("{many} pieces of software here belong to no manager"),
        };
        let read = if look.managers.is_empty() { String::new() } else { format!("  (read: {})", look.managers) };
        let mut page: Vec<Piece> = vec![Line::of(Tone::Strong, says).and(Tone::Faint, read).into()];
        for group in &self.groups {
            page.extend(in_full(group, look).into_iter().map(Piece::from));
        }
        page
    }
}

fn in_full(group: &Group, look: &Look) -> Vec<Line> {
    let version = group.version_hint.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
    let mut lines = vec![
        Line::blank(),
        Line::of(Tone::Strong, group.name.to_string())
            .and(Tone::Accent, version)
            .and(Tone::Plain, format!("   probably {}", group.guess)),
    ];
    let shown = group.files.iter().take(MOST_FILES).map(|file| (look.path(&file.path), file));
    let shown: Vec<(String, &UnownedFile)> = shown.collect();
    let kinds = 4 + shown.iter().map(|(path, _)| output::width_of(path)).max().unwrap_or(0).min(72);
    for (path, file) in shown {
        let version = file.version_hint.as_ref().map(ToString::to_string).unwrap_or_default();
        let line = Line::of(Tone::Plain, "  ").and(Tone::Plain, path).to(kinds).and(Tone::Faint, file.kind.word());
        lines.push(line.to(kinds + 12).and(Tone::Plain, version));
    }
    if group.files.len() > MOST_FILES {
        let more = output::count(group.files.len() - MOST_FILES, "more file");
        lines.push(Line::of(Tone::Faint, format!("  and {more} (--format json has all)")));
    }
    let shown = group.evidence.iter().take(MOST_EVIDENCE);
    lines.extend(shown.map(|evidence| Line::of(Tone::Faint, format!("  └ {}", describe(evidence, look)))));
    lines
}

fn describe(evidence: &Evidence, look: &Look) -> String {
    let (file, at, says) = (look.path(&evidence.file), &evidence.at, &evidence.says);
    match at.as_str() {
        "folder" => says.clone(),
        "its name" => format!("{file} bears the version in its name"),
        "time of last change" => format!("written {}", says.replace('T', " ").replace('Z', " UTC")),
        _ => format!("{file} {at}: {says}"),
    }
}
