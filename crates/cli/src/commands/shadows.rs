//! `whodunit shadows`.

use std::ffi::OsString;
use std::io::Write as _;
use std::os::unix::ffi::OsStrExt as _;

use clap::Args;
use whodunit_core::answers::Located;
use whodunit_core::answers::shadows::{Shadow, Shadows, shadows};
use whodunit_core::model::Severity;
use whodunit_core::survey::Survey;
use whodunit_core::text::Text;

use super::Outcome;
use crate::args::Global;
use crate::output::{self, Cell, Column, Grid, Line, Look, Piece, Shown, Streams, Tone};
use crate::run::{Failure, Ready};

/// Which names have several copies, which one wins, and why
///
/// Looks at every folder of the search path. A file that is reached twice, through two spellings of a
/// folder or through a link, is one copy and shadows nothing.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit shadows
  whodunit shadows tidegauge barolog
  whodunit shadows --root /mnt --path /usr/local/bin:/usr/bin:/bin")]
pub struct Arguments {
    /// Only these names
    name: Vec<OsString>,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, Failure> {
    let names: Vec<Text> = arguments.name.iter().map(|name| name.as_bytes().into()).collect();
    if let Some(bad) = names.iter().find(|name| name.is_empty() || name.contains(&b'/')) {
        return Err(Failure::usage(format!("{bad}: a command's name has no slash (whodunit owner takes paths)")));
    }
    let ready = Ready::new(global)?;
    let survey = Survey::of(&ready.scene);
    let (answer, unshadowed) = shadows(&survey, &ready.search, &names);
    let outcome =
        output::show(&answer, &survey, &ready, global, streams, unshadowed.iter().all(|one| one.only.is_some()))?;
    if !global.quiet {
        for one in &unshadowed {
            let says = match &one.only {
                Some(path) => format!("{}: only one copy on this search path, {path}", one.name),
                None => format!("{}: not found on this search path", one.name),
            };
            let _ = writeln!(streams.err, "whodunit: {says}");
        }
    }
    Ok(outcome)
}

impl Shown for Shadows {
    type Item = Shadow;
    const COMMAND: &'static str = "shadows";
    const SEARCHES: bool = true;

    fn items(&self) -> &[Shadow] {
        &self.shadows
    }

    fn grid(&self) -> Grid {
        let mut rows = Vec::new();
        for shadow in &self.shadows {
            rows.push(row(shadow, "runs", &shadow.winner, &|path| path.to_string()));
            rows.extend(shadow.hidden.iter().map(|copy| row(shadow, "hidden", copy, &|path| path.to_string())));
        }
        grid(rows)
    }

    fn page(&self, look: &Look) -> Vec<Piece> {
        let count = |severity| self.shadows.iter().filter(|shadow| shadow.severity == severity).count();
        let says = match self.shadows.len() {
            0 => "no name on this search path has more than one copy".to_owned(),
            1 => "1 name on this search path has more than one copy".to_owned(),
            many => format!("{many} names on this search path have more than one copy"),
        };
        let mut first = Line::of(Tone::Strong, says);
        let (errors, warnings) = (count(Severity::Error), count(Severity::Warning));
        if errors + warnings > 0 {
            first = first.and(Tone::Warning, format!("; {}", output::count(errors + warnings, "warning")));
        }
        let mut page: Vec<Piece> = vec![first.into()];
        if self.shadows.is_empty() {
            return page;
        }
        page.push(Line::blank().into());
        let mut rows = Vec::new();
        for shadow in &self.shadows {
            rows.push(row(shadow, "runs", &shadow.winner, &|path| look.path(path)));
            for copy in &shadow.hidden {
                let mut behind = row(shadow, "hides", copy, &|path| look.path(path));
                behind[0] = Cell::plain("");
                behind[5] = Cell::plain("");
                rows.push(behind);
            }
        }
        page.push(Piece::Table(grid(rows)));
        page
    }
}

fn grid(rows: Vec<Vec<Cell>>) -> Grid {
    let columns = vec![
        Column::words("name", "NAME"),
        Column::words("role", ""),
        Column::words("path", "COPY"),
        Column::words("owner", "OWNER"),
        Column::words("version", "VERSION"),
        Column::words("meaning", "WHAT IT MEANS"),
    ];
    Grid { columns, rows }
}

fn row(shadow: &Shadow, role: &str, copy: &Located, path: &dyn Fn(&Text) -> String) -> Vec<Cell> {
    let tone = if shadow.severity >= Severity::Warning { Tone::Warning } else { Tone::Plain };
    let owner = match &copy.owner {
        Some(owner) => Cell::plain(format!("{} · {}", owner.manager, owner.name)),
        None => Cell::toned(tone, "none"),
    };
    vec![
        Cell::toned(Tone::Strong, shadow.name.to_string()),
        Cell::plain(role),
        Cell::shown(copy.path.to_string(), path(&copy.path)),
        owner,
        Cell::plain(copy.version.as_ref().map(ToString::to_string).unwrap_or_default()),
        Cell::toned(tone, format!("{}: {}", shadow.severity.word(), shadow.meaning)),
    ]
}
