//! `whodunit launchers`.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt as _;

use clap::Args;
use whodunit_core::answers::launchers::{Launchers, Session, launchers};
use whodunit_core::model::{Launcher, Owner, Severity};
use whodunit_core::search::launchers::data_folders;
use whodunit_core::survey::Survey;
use whodunit_core::text::Text;

use super::Outcome;
use crate::args::Global;
use crate::output::{self, Cell, Column, Grid, Line, Look, Piece, Shown, Streams, Tone};
use crate::run::{Failure, Ready};

/// Desktop entries: which shows, which is masked, what each starts and whose that is
///
/// A launcher's id decides, not its name: the first folder that has an id wins, and masks the files of
/// that id in later folders. Installed apps whose launcher lies in a folder that is not searched are
/// listed too. NAME is an id, the name in the menu, or the program that is started.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit launchers
  whodunit launchers semaphore
  whodunit launchers --desktop GNOME --data-dirs ~/.local/share:/usr/local/share:/usr/share")]
pub struct Arguments {
    /// Only these launchers
    name: Vec<OsString>,

    /// Look in these data folders (the person's own first) instead of those that the context says
    #[arg(long, value_name = "LIST")]
    data_dirs: Option<OsString>,

    /// The desktop in use, as XDG_CURRENT_DESKTOP names it; several with colons between them
    #[arg(long, value_name = "NAME")]
    desktop: Option<OsString>,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, Failure> {
    let ready = Ready::new(global)?;
    let survey = Survey::of(&ready.scene);
    let folders = data_folders(&ready.scene, arguments.data_dirs.as_ref().map(|list| list.as_bytes()));
    let given = arguments.desktop.as_ref().map(|desktop| Text::from(desktop.as_bytes()));
    let of_session = ready.scene.here.desktop.clone().filter(|_| ready.scene.root.is_live());
    let desktops: Vec<Text> = given.or(of_session).map_or(Vec::new(), |list| {
        list.split(|&b| b == b':').filter(|name| !name.is_empty()).map(Text::from).collect()
    });
    let names: Vec<Text> = arguments.name.iter().map(|name| name.as_bytes().into()).collect();
    let session = Session { folders: &folders, desktops: &desktops, search: ready.search() };
    let answer = launchers(&survey, session, &names);
    let found = names.is_empty() || !answer.launchers.is_empty();
    output::show(&answer, &survey, &ready, global, streams, found)
}

fn whose(owner: Option<&Owner>, look: Option<&Look>) -> String {
    match (owner, look) {
        (None, _) => "none".to_owned(),
        (Some(owner), Some(look)) => look.owner(owner),
        (Some(owner), None) => owner.id.to_string(),
    }
}

impl Shown for Launchers {
    type Item = Launcher;
    const COMMAND: &'static str = "launchers";
    const SEARCHES: bool = true;

    fn items(&self) -> &[Launcher] {
        &self.launchers
    }

    fn grid(&self) -> Grid {
        let text = |text: Option<&Text>| Cell::plain(text.map(ToString::to_string).unwrap_or_default());
        let row = |launcher: &Launcher| {
            vec![
                Cell::plain(launcher.id.to_string()),
                Cell::plain(
                    launcher.name.as_ref().map(|name| Text::from(name.as_str()).to_string()).unwrap_or_default(),
                ),
                Cell::plain(launcher.shown.to_string()),
                Cell::plain(
                    launcher.why_hidden.as_ref().map(|why| Text::from(why.as_str()).to_string()).unwrap_or_default(),
                ),
                Cell::plain(launcher.file.to_string()),
                Cell::plain(whose(launcher.owner.as_ref(), None)),
                text(launcher.starts.path.as_ref()),
                Cell::plain(whose(launcher.starts.owner.as_ref(), None)),
            ]
        };
        let columns = vec![
            Column::words("id", "ID"),
            Column::words("name", "NAME"),
            Column::words("shown", "SHOWN"),
            Column::words("why_hidden", "WHY NOT"),
            Column::words("file", "FILE"),
            Column::words("owner", "OWNER"),
            Column::words("starts", "STARTS"),
            Column::words("starts_owner", "WHOSE"),
        ];
        Grid { columns, rows: self.launchers.iter().map(row).collect() }
    }

    fn page(&self, look: &Look) -> Vec<Piece> {
        let shown = self.launchers.iter().filter(|launcher| launcher.shown).count();
        let warnings = self
            .launchers
            .iter()
            .flat_map(|launcher| &launcher.findings)
            .filter(|found| found.severity >= Severity::Warning)
            .count();
        let mut first = Line::of(
            Tone::Strong,
            format!("{}, {shown} of them shown in the menu", output::count(self.launchers.len(), "launcher")),
        );
        if warnings > 0 {
            first = first.and(Tone::Warning, format!("; {}", output::count(warnings, "warning")));
        }
        let mut page: Vec<Piece> = vec![first.into()];
        for launcher in &self.launchers {
            page.push(Line::blank().into());
            page.extend(in_full(launcher, look).into_iter().map(Piece::from));
        }
        page
    }
}

const COLUMN: usize = 16;
const WIDE: usize = COLUMN + 48;

fn in_full(launcher: &Launcher, look: &Look) -> Vec<Line> {
    let safe = |text: &str| Text::from(text).to_string();
    let row = |label: &str| Line::of(Tone::Plain, "  ").and(Tone::Faint, label.to_owned()).to(COLUMN);
    let head = Line::of(Tone::Strong, launcher.id.to_string()).to(0);
    let head = match (&launcher.why_hidden, &launcher.name) {
        (None, Some(name)) => head.and(Tone::Accent, format!("shown as “{}”", safe(name))),
        (None, None) => head.and(Tone::Accent, "shown without a name"),
        (Some(why), _) => head.and(Tone::Warning, format!("not shown: {}", safe(why))),
    };
    let mut lines = vec![head];
    lines.push(
        row("file")
            .and(Tone::Plain, look.path(&launcher.file))
            .to(WIDE)
            .and(Tone::Plain, whose(launcher.owner.as_ref(), Some(look))),
    );
    match (&launcher.starts.path, &launcher.starts.command) {
        (Some(path), _) => {
            let owner = whose(launcher.starts.owner.as_ref(), Some(look));
            lines.push(row("starts").and(Tone::Plain, look.path(path)).to(WIDE).and(Tone::Plain, owner));
        }
        (None, Some(command)) => lines.push(row("starts").and(Tone::Warning, format!("nothing: {}", safe(command)))),
        (None, None) => {}
    }
    for (number, mask) in launcher.masks.iter().enumerate() {
        lines.push(row(if number == 0 { "masks" } else { "" }).and(Tone::Plain, look.path(mask)));
    }
    for found in &launcher.findings {
        let tone = if found.severity >= Severity::Warning { Tone::Warning } else { Tone::Faint };
        let line = row(found.severity.word()).and(tone, format!("{}: {}", found.kind, safe(&found.summary)));
        lines.push(line);
    }
    if !launcher.shown
        && let Some(evidence) = launcher.evidence.first()
    {
        lines.push(row("").and(Tone::Faint, format!("{}: {}", look.path(&evidence.file), evidence.says)));
    }
    lines
}
