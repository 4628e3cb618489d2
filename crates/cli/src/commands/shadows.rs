//! `whodunit shadows`.

use std::ffi::OsString;
use std::io::Write as _;

use clap::{Args, ValueEnum};
use serde::Serialize;
use whodunit_core::bytes::ByteString;
use whodunit_core::model::{Finding, Severity};
use whodunit_core::queries::across::{Across, Meaning, Row, across};
use whodunit_core::queries::launchers::{DesktopSession, shadows as launcher_shadows};
use whodunit_core::queries::shadows::{Shadow, Shadows, shadows};
use whodunit_core::queries::{Located, UserView, libraries, manuals, modules};
use whodunit_core::resolve::Context;
use whodunit_core::resolve::launchers::data_dirs_of;
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::session::Outcome;
use crate::session::Session;

/// List names with several copies: which copy wins, and why
///
/// Examines every directory of the search path. A file that is reached twice, through two spellings of a directory
/// or through a link, is one copy and shadows nothing.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit shadows
  whodunit shadows tidegauge barolog
  whodunit shadows --root /mnt --path /usr/local/bin:/usr/bin:/bin")]
pub struct Arguments {
    /// List only these names
    name: Vec<OsString>,

    /// Compare contexts: list every name that starts different programs in different contexts
    ///
    /// Prints one row per name and one column per context, for one user (choose another with --user NAME).
    #[arg(long)]
    across: bool,

    /// Kind of names to examine
    #[arg(long, value_name = "NAME", default_value = "command", conflicts_with = "across")]
    kind: ShadowKind,
}

/// `--kind`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum ShadowKind {
    /// Programs in the search path
    Command,
    /// Launchers with the same desktop file id
    Launcher,
    /// Python modules
    Module,
    /// Shared libraries, in the search order of the dynamic loader
    Library,
    /// Manual pages that describe a different copy from the one that runs
    Manual,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let names = super::bytes_of(&arguments.name);
    if let Some(bad) = names.iter().find(|name| name.is_empty() || name.contains(&b'/')) {
        return Err(CliError::usage(format!(
            "{bad}: a command name cannot contain a slash (whodunit owner accepts paths)"
        )));
    }
    let mut session = Session::new(global)?;
    if arguments.across {
        if session.contexts.len() == 1 {
            session.contexts = Context::ALL.to_vec();
        }
        let survey = Survey::of(&session.host);
        let each = session.views().iter().map(|view| across(&survey, &view.searches, &names));
        let answer = AcrossUsers::of(each.collect());
        let is_reached = |row: &Row| row.meanings.iter().any(|one| one.winner.is_some());
        let found = names.is_empty() || answer.each.iter().any(|one| one.rows.iter().any(is_reached));
        return output::show(&answer, &survey, &session, global, streams, found);
    }
    let survey = Survey::of(&session.host);
    let (mut of_each, mut unshadowed) = (Vec::new(), Vec::new());
    for (number, view) in session.views().iter().enumerate() {
        for (at, search) in view.searches.iter().enumerate() {
            let (of_one, other) = match arguments.kind {
                ShadowKind::Command => shadows(&survey, search, &names),
                kind => (of_kind(kind, &survey, &session, (view, at), &names), Vec::new()),
            };
            of_each.push(of_one);
            if (number, at) == (0, 0) {
                unshadowed = other;
            }
        }
    }
    let answer = Shadows::merged(of_each);
    // Of several contexts, one in which it is shadowed is told.
    unshadowed.retain(|one| !answer.shadows.iter().any(|shadow| shadow.name == one.name));
    let is_answered = unshadowed.iter().all(|one| one.only.is_some())
        && (arguments.kind == ShadowKind::Command || names.is_empty() || !answer.shadows.is_empty());
    let outcome = output::show(&answer, &survey, &session, global, streams, is_answered)?;
    if !global.quiet {
        for one in &unshadowed {
            let says = match &one.only {
                Some(path) => format!("{}: only one copy in this search path, {path}", one.name),
                None => format!("{}: not found in this search path", one.name),
            };
            let _ = writeln!(streams.err, "whodunit: {says}");
        }
    }
    Ok(outcome)
}

/// Shadows of another kind than commands, in one of a user's contexts.
fn of_kind(
    kind: ShadowKind,
    survey: &Survey<'_>,
    session: &Session,
    (view, at): (&UserView, usize),
    names: &[ByteString],
) -> Shadows {
    let search = &view.searches[at];
    let resolved = view.usual.get(at).or(view.usual.first());
    match (kind, resolved) {
        (ShadowKind::Command, _) => shadows(survey, search, names).0,
        (ShadowKind::Launcher, _) => {
            let dirs = data_dirs_of(&session.host, None, view.user.as_ref());
            let desktop = DesktopSession { dirs: &dirs, desktops: &[], search, user: view.user.as_ref() };
            launcher_shadows(survey, desktop, names)
        }
        (_, None) => Shadows::default(),
        (ShadowKind::Module, Some(resolved)) => modules::shadows(survey, std::slice::from_ref(resolved), search, names),
        (ShadowKind::Manual, Some(resolved)) => {
            let (commands, _) = shadows(survey, search, names);
            manuals::shadows(survey, resolved, search, &commands.shadows)
        }
        (ShadowKind::Library, Some(resolved)) => libraries::shadows(survey, resolved, search, names),
    }
}

/// The comparison of each user's contexts.
#[derive(Debug, Clone, Serialize)]
struct AcrossUsers {
    shadows: Vec<Shadow>,
    findings: Vec<Finding>,
    /// One for each user; those whose names mean the same are one.
    #[serde(skip)]
    each: Vec<Across>,
}

impl AcrossUsers {
    fn of(all: Vec<Across>) -> Self {
        let of_one = |one: &Across| Shadows { shadows: one.shadows.clone(), findings: one.findings.clone() };
        let together = Shadows::merged(all.iter().map(of_one));
        let mut each: Vec<Across> = Vec::new();
        for one in all {
            match each.iter_mut().find(|known| (&known.contexts, &known.rows) == (&one.contexts, &one.rows)) {
                Some(known) => known.users.extend(one.users),
                None => each.push(one),
            }
        }
        AcrossUsers { shadows: together.shadows, findings: together.findings, each }
    }
}

impl Shown for AcrossUsers {
    type Item = Shadow;
    const COMMAND: &'static str = "shadows";

    fn items(&self) -> &[Shadow] {
        &self.shadows
    }

    fn grid(&self) -> Grid {
        if let [only] = self.each.as_slice() {
            return rows_of(only);
        }
        let mut columns = vec![Column::words("users", "USERS")];
        let mut rows = Vec::new();
        for one in &self.each {
            let grid = rows_of(one);
            let users = output::names(&one.users);
            columns.truncate(1);
            columns.extend(grid.columns);
            rows.extend(
                grid.rows.into_iter().map(|row| std::iter::once(Cell::plain(users.clone())).chain(row).collect()),
            );
        }
        Grid { columns, rows }
    }

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        let mut page = Vec::new();
        for one in &self.each {
            if !page.is_empty() {
                page.push(Line::blank().into());
            }
            page.extend(page_of(one, presenter));
        }
        page
    }
}

/// The comparison as rows: one per name.
fn rows_of(across: &Across) -> Grid {
    let columns = across.contexts.iter().map(|context| Column::words(context.word(), context.word()));
    let columns = std::iter::once(Column::words("name", "NAME")).chain(columns).collect();
    let row = |row: &Row| {
        let cells = row.meanings.iter().map(|meaning| match (&meaning.taken, &meaning.winner) {
            (Some(taken), _) => Cell::plain(taken.how.word()),
            (None, winner) => Cell::plain(winner.as_ref().map(|one| one.path.to_string()).unwrap_or_default()),
        });
        std::iter::once(Cell::plain(row.name.to_string())).chain(cells).collect()
    };
    Grid { columns, rows: across.rows.iter().map(row).collect() }
}

/// The comparison for a user at a terminal.
fn page_of(across: &Across, presenter: &Presenter) -> Vec<Piece> {
    let whose = if across.users.is_empty() { String::new() } else { format!(" for {}", output::names(&across.users)) };
    let says = match across.findings.len() {
        0 => format!("every name starts the same program in every context{whose}"),
        1 => format!("1 name starts different programs in different contexts{whose}"),
        many => format!("{many} names start different programs in different contexts{whose}"),
    };
    let warnings = across.rows.iter().filter(|row| row.severity > Severity::Note).count();
    let mut first = Line::of(Tone::Strong, says);
    if warnings > 0 {
        first = first.and(Tone::Warning, format!("; {}", output::count(warnings, "warning")));
    }
    let mut page: Vec<Piece> = vec![first.into()];
    if across.rows.is_empty() {
        return page;
    }
    page.push(Line::blank().into());
    // Contexts in which every name means the same share a column.
    let mut groups: Vec<(Vec<&str>, usize)> = Vec::new();
    for (at, context) in across.contexts.iter().enumerate() {
        let is_same = |other: usize| across.rows.iter().all(|row| row.meanings[other] == row.meanings[at]);
        match groups.iter_mut().find(|(_, other)| is_same(*other)) {
            Some((words, _)) => words.push(context.word()),
            None => groups.push((vec![context.word()], at)),
        }
    }
    let identity: Vec<String> = groups.iter().map(|(words, _)| words.join(" ").to_uppercase()).collect();
    // More than fit into a column's head are told above it.
    let is_short = identity.iter().all(|title| title.len() <= 24);
    if !is_short {
        for (letter, (words, _)) in ('A'..).zip(&groups) {
            page.push(
                Line::blank()
                    .to(2)
                    .and(Tone::Accent, letter)
                    .and(Tone::Plain, format!("  {}", words.join(", ")))
                    .into(),
            );
        }
        page.push(Line::blank().into());
    }
    let heads = ('A'..).zip(&identity).map(|(letter, title)| if is_short { title.clone() } else { letter.to_string() });
    let columns =
        std::iter::once(Column::words("name", "NAME")).chain(heads.map(|head| Column::titled("context", head)));
    let rows = across.rows.iter().map(|row| {
        let name =
            Cell::toned(if row.severity > Severity::Note { Tone::Warning } else { Tone::Strong }, row.name.to_string());
        std::iter::once(name).chain(groups.iter().map(|(_, at)| cell(&row.meanings[*at], presenter))).collect()
    });
    page.push(Piece::Table(Grid { columns: columns.collect(), rows: rows.collect() }));
    page
}

/// Describes in a few words what a name is in one context.
fn cell(meaning: &Meaning, presenter: &Presenter) -> Cell {
    match (&meaning.taken, &meaning.winner) {
        (Some(taken), _) => Cell::toned(Tone::Warning, taken.how.word()),
        (None, Some(Located { owner: Some(owner), version, .. })) => {
            let version = version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
            Cell::plain(format!("{}{version}", owner.manager))
        }
        (None, Some(Located { path, .. })) => Cell::toned(Tone::Warning, presenter.path(path)),
        (None, None) => Cell::toned(Tone::Faint, "–"),
    }
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

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        let count = |severity| self.shadows.iter().filter(|shadow| shadow.severity == severity).count();
        let says = match self.shadows.len() {
            0 => "nothing is shadowed".to_owned(),
            count => shadowed(count, self.shadows[0].kind.as_str()),
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
            let mut first = row(shadow, "runs", &shadow.winner, &|path| presenter.path(path));
            if let (Some(whose), Some(cell)) = (presenter.whose(&shadow.users), first.last_mut()) {
                cell.text = format!("{whose}, {}", cell.text);
            }
            rows.push(first);
            for copy in &shadow.hidden {
                let mut behind = row(shadow, "hides", copy, &|path| presenter.path(path));
                behind[0] = Cell::plain("");
                behind[5] = Cell::plain("");
                rows.push(behind);
            }
        }
        page.push(Piece::Table(grid(rows)));
        for finding in self.findings.iter().filter(|finding| finding.severity > Severity::Note) {
            page.push(Line::blank().into());
            page.push(Line::of(Tone::Warning, finding.summary.clone()).into());
            page.push(Line::blank().to(2).and(Tone::Plain, finding.consequence.clone()).into());
            for way in &finding.remedies {
                let line = Line::blank().to(2).and(Tone::Faint, format!("to {}", way.purpose)).to(16);
                page.push(line.and(Tone::Plain, way.command.clone()).into());
            }
        }
        page
    }
}

fn shadowed(count: usize, kind: &str) -> String {
    let (one, many) = match kind {
        "manual" => ("manual page belongs", "manual pages belong"),
        "module" => ("module has", "modules have"),
        "library" => ("library has", "libraries have"),
        "launcher" => ("launcher has", "launchers have"),
        _ => ("name in this search path has", "names in this search path have"),
    };
    let what = if count == 1 { one } else { many };
    match kind {
        "manual" => format!("{count} {what} to a different copy from the one that runs"),
        _ => format!("{count} {what} more than one copy"),
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

fn row(shadow: &Shadow, role: &str, copy: &Located, path: &dyn Fn(&ByteString) -> String) -> Vec<Cell> {
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
