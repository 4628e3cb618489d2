//! `whodunit unowned`.

use std::ffi::OsString;
use std::io::Write as _;
use std::os::unix::ffi::OsStrExt as _;

use clap::Args;
use whodunit_core::bytes::path;
use whodunit_core::fs::Kind;
use whodunit_core::model::{Evidence, Position};
use whodunit_core::queries::unowned::{Group, Unowned, UnownedFile, unowned};
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::session::Outcome;
use crate::session::Session;

/// List programs that no package manager claims, grouped by their probable source
///
/// Examines the directories of the search path, the program directories of the system and of users, and everything
/// below /usr/local and /opt; or everything below DIR. Files that belong together form one group: files in one
/// tree, files with one name, and files written within the same minute. Versions are read where they are recorded;
/// nothing is run.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit unowned
  whodunit unowned /opt ~/bin
  whodunit unowned --format json | jq '.groups[].files[].path'")]
pub struct Arguments {
    /// Examine these directories instead of the usual ones
    dir: Vec<OsString>,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let session = Session::new(global)?;
    let root = &session.host.root;
    let mut dirs = Vec::new();
    for dir in &arguments.dir {
        let dir = path::absolute(dir.as_bytes(), &session.host.env.dir);
        match root.target(&dir) {
            Ok(meta) if meta.kind == Kind::Dir => dirs.push(dir),
            Ok(meta) => return Err(CliError::usage(format!("{dir}: is {}, not a directory", meta.kind))),
            Err(error) => {
                let _ = writeln!(streams.err, "whodunit: {error}");
                return Ok(Outcome { incomplete: !error.is_missing(), ..Outcome::default() });
            }
        }
    }
    let survey = Survey::of(&session.host);
    let answer = unowned(&survey, &session.searches(), &dirs);
    output::show(&answer, &survey, &session, global, streams, true)
}

/// Files and pieces of evidence of one group that a terminal shows; data formats have all.
const MAX_FILES: usize = 8;
const MAX_EVIDENCE: usize = 4;

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

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        let says = match self.groups.len() {
            0 if self.certain => "every program in these directories has an owner".to_owned(),
            0 => "no unowned program was found in what could be read".to_owned(),
            1 => "1 group of programs is not claimed by any manager".to_owned(),
            many => format!("{many} groups of programs are not claimed by any manager"),
        };
        let read = presenter.managers_read.clone();
        let mut page: Vec<Piece> = vec![Line::of(Tone::Strong, says).and(Tone::Faint, read).into()];
        for group in &self.groups {
            page.extend(in_full(group, presenter).into_iter().map(Piece::from));
        }
        page
    }
}

fn in_full(group: &Group, presenter: &Presenter) -> Vec<Line> {
    let is_probable = group.files.iter().any(|file| file.version_is_probable);
    let version = output::hinted(group.version_hint.as_ref(), is_probable);
    let version = version.map(|version| format!(" {version}")).unwrap_or_default();
    let mut lines = vec![
        Line::blank(),
        Line::of(Tone::Strong, group.name.to_string())
            .and(Tone::Accent, version)
            .and(Tone::Plain, format!("   probably {}", group.guess)),
    ];
    let shown = group.files.iter().take(MAX_FILES).map(|file| (presenter.path(&file.path), file));
    let shown: Vec<(String, &UnownedFile)> = shown.collect();
    let kinds = 4 + shown.iter().map(|(path, _)| output::width_of(path)).max().unwrap_or(0).min(72);
    for (path, file) in shown {
        let version = output::hinted(file.version_hint.as_ref(), file.version_is_probable).unwrap_or_default();
        let line = Line::of(Tone::Plain, "  ").and(Tone::Plain, path).to(kinds).and(Tone::Faint, file.kind.word());
        lines.push(line.to(kinds + 12).and(Tone::Plain, version));
    }
    if group.files.len() > MAX_FILES {
        let more = output::count(group.files.len() - MAX_FILES, "more file");
        lines.push(Line::of(Tone::Faint, format!("  and {more} (--format json shows all)")));
    }
    let shown = group.evidence.iter().take(MAX_EVIDENCE);
    lines.extend(shown.map(|evidence| Line::of(Tone::Faint, format!("  └ {}", describe(evidence, presenter)))));
    lines
}

fn describe(evidence: &Evidence, presenter: &Presenter) -> String {
    let (file, at, says) = (presenter.path(&evidence.file), &evidence.at, &evidence.says);
    match at {
        Position::Directory => says.clone(),
        Position::FileName => format!("{file} has the version in its name"),
        Position::Modified => format!("written {}", says.replace('T', " ").replace('Z', " UTC")),
        _ => format!("{file} {at}: {says}"),
    }
}
