//! `whodunit launchers`.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt as _;

use clap::Args;
use whodunit_core::bytes::ByteString;
use whodunit_core::model::{Launcher, Owner, Severity};
use whodunit_core::queries::launchers::{DesktopSession, Launchers, launchers};
use whodunit_core::resolve::launchers::data_dirs_of;
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::session::Outcome;
use crate::session::Session;

/// List desktop launchers: which are shown, which are masked, and what each starts
///
/// The desktop file id decides, not the displayed name: the first data directory that contains an id takes
/// precedence, and masks files with the same id in later directories. Installed applications whose launcher is in a
/// directory that is not searched are listed as well. NAME is an id, a displayed name, or the program that is
/// started.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit launchers
  whodunit launchers semaphore
  whodunit launchers --desktop GNOME --data-dirs ~/.local/share:/usr/local/share:/usr/share")]
pub struct Arguments {
    /// List only these launchers
    name: Vec<OsString>,

    /// Search these data directories (the user's own first) instead of those of the context
    #[arg(long, value_name = "LIST")]
    data_dirs: Option<OsString>,

    /// Desktop names as in XDG_CURRENT_DESKTOP, separated by colons
    #[arg(long, value_name = "NAME")]
    desktop: Option<OsString>,
}

/// What the menus of every user who is looked at show.
pub(super) fn of_views(session: &Session, survey: &Survey<'_>) -> Launchers {
    let of_each = session.views().iter().map(|view| {
        let user = view.user.as_ref();
        let dirs = data_dirs_of(&session.host, None, user);
        launchers(survey, DesktopSession { dirs: &dirs, desktops: &[], search: &view.searches[0], user }, &[])
    });
    Launchers::merged(of_each)
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let session = Session::new(global)?;
    let survey = Survey::of(&session.host);
    let given_dirs = arguments.data_dirs.as_ref().map(|list| list.as_bytes());
    let given = arguments.desktop.as_ref().map(|desktop| ByteString::from(desktop.as_bytes()));
    let of_session = session.host.env.desktop.clone().filter(|_| session.host.root.is_live());
    let desktops: Vec<ByteString> = given.or(of_session).map_or(Vec::new(), |list| {
        list.split(|&b| b == b':').filter(|name| !name.is_empty()).map(ByteString::from).collect()
    });
    let names = super::bytes_of(&arguments.name);
    // Data directories that were given are the same whoever asks.
    let views = if given_dirs.is_some() { &session.views()[..1] } else { session.views() };
    let of_each = views.iter().map(|view| {
        let user = view.user.as_ref().filter(|_| given_dirs.is_none());
        let dirs = data_dirs_of(&session.host, given_dirs, user);
        launchers(&survey, DesktopSession { dirs: &dirs, desktops: &desktops, search: &view.searches[0], user }, &names)
    });
    let answer = Launchers::merged(of_each);
    let found = names.is_empty() || !answer.launchers.is_empty();
    output::show(&answer, &survey, &session, global, streams, found)
}

fn whose(owner: Option<&Owner>, presenter: Option<&Presenter>) -> String {
    match (owner, presenter) {
        (None, _) => "none".to_owned(),
        (Some(owner), Some(presenter)) => presenter.owner(owner),
        (Some(owner), None) => owner.id.to_string(),
    }
}

impl Shown for Launchers {
    type Item = Launcher;
    const COMMAND: &'static str = "launchers";
    const NEEDS_CLAIMS: bool = false;
    const SEARCHES: bool = true;

    fn items(&self) -> &[Launcher] {
        &self.launchers
    }

    fn grid(&self) -> Grid {
        let text = |text: Option<&ByteString>| Cell::plain(text.map(ToString::to_string).unwrap_or_default());
        let row = |launcher: &Launcher| {
            vec![
                Cell::plain(launcher.id.to_string()),
                Cell::plain(launcher.name.as_ref().map(|name| output::safe(name)).unwrap_or_default()),
                Cell::plain(launcher.shown.to_string()),
                Cell::plain(
                    launcher
                        .why_hidden
                        .as_ref()
                        .map(|why| ByteString::from(why.to_string()).to_string())
                        .unwrap_or_default(),
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

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        let shown = self.launchers.iter().filter(|launcher| launcher.shown).count();
        let warnings = self
            .launchers
            .iter()
            .flat_map(|launcher| &launcher.findings)
            .filter(|found| found.severity >= Severity::Warning)
            .count();
        let mut first = Line::of(
            Tone::Strong,
            format!("{}, {shown} shown in the menu", output::count(self.launchers.len(), "launcher")),
        );
        if warnings > 0 {
            first = first.and(Tone::Warning, format!("; {}", output::count(warnings, "warning")));
        }
        let mut page: Vec<Piece> = vec![first.into()];
        for launcher in &self.launchers {
            page.push(Line::blank().into());
            let is_of_all = self.launchers.iter().filter(|other| other.id == launcher.id).count() < 2;
            page.extend(in_full(launcher, is_of_all, presenter).into_iter().map(Piece::from));
        }
        page
    }
}

const COLUMN: usize = 16;
const WIDE: usize = COLUMN + 48;

fn in_full(launcher: &Launcher, is_of_all: bool, presenter: &Presenter) -> Vec<Line> {
    let row = |label: &str| Line::of(Tone::Plain, "  ").and(Tone::Faint, label.to_owned()).to(COLUMN);
    let head = Line::of(Tone::Strong, launcher.id.to_string()).to(0);
    let head =
        if is_of_all { head } else { head.and(Tone::Faint, format!("for {}   ", output::names(&launcher.users))) };
    let head = match (&launcher.why_hidden, &launcher.name) {
        (None, Some(name)) => head.and(Tone::Accent, format!("shown as “{}”", output::safe(name))),
        (None, None) => head.and(Tone::Accent, "shown without a name"),
        (Some(why), _) => head.and(Tone::Warning, format!("not shown: {}", output::safe(&why.to_string()))),
    };
    let mut lines = vec![head];
    lines.push(
        row("file")
            .and(Tone::Plain, presenter.path(&launcher.file))
            .to(WIDE)
            .and(Tone::Plain, whose(launcher.owner.as_ref(), Some(presenter))),
    );
    match (&launcher.starts.path, &launcher.starts.command) {
        (Some(path), _) => {
            let owner = whose(launcher.starts.owner.as_ref(), Some(presenter));
            lines.push(row("starts").and(Tone::Plain, presenter.path(path)).to(WIDE).and(Tone::Plain, owner));
        }
        (None, Some(command)) => {
            lines.push(row("starts").and(Tone::Warning, format!("nothing: {}", output::safe(command))));
        }
        (None, None) => {}
    }
    for (number, mask) in launcher.masks.iter().enumerate() {
        lines.push(row(if number == 0 { "masks" } else { "" }).and(Tone::Plain, presenter.path(mask)));
    }
    for found in &launcher.findings {
        let tone = if found.severity >= Severity::Warning { Tone::Warning } else { Tone::Faint };
        let line = row(found.severity.word()).and(tone, format!("{}: {}", found.kind, output::safe(&found.summary)));
        lines.push(line);
    }
    if !launcher.shown
        && let Some(evidence) = launcher.evidence.first()
    {
        lines.push(row("").and(Tone::Faint, format!("{}: {}", presenter.path(&evidence.file), evidence.says)));
    }
    lines
}
