//! `whodunit impact`.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt as _;

use clap::Args;
use whodunit_core::bytes::ByteString;
use whodunit_core::queries::impact::{Broken, How, Impact, Lost, impacts};
use whodunit_core::queries::left_behind::{LeftBehind, LeftKind};
use whodunit_core::queries::{CheckContext, spelled};
use whodunit_core::resolve::Context;
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::session::Outcome;
use crate::session::Session;

/// Show what would happen if a package were removed
///
/// Removes nothing. For every context, shows what each command would run instead. Then lists what would lose an
/// interpreter, a library, a base interpreter, the program of a launcher or the target of a link, for all package
/// managers, and whether the manager that removes the package would notice; how much would be free; and what would be
/// left: settings files, and what users keep of the software.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit impact tidegauge
  whodunit impact python3.11 --context all
  whodunit impact dpkg/system/libtide2")]
pub struct Arguments {
    /// Packages, by name, by id, or by what they own (see `whodunit owner --help`)
    #[arg(required = true)]
    package: Vec<OsString>,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let mut session = Session::new(global)?;
    session.use_all_contexts(global);
    let survey = Survey::of(&session.host);
    let (mut packages, mut others, mut unknown) = (Vec::new(), Vec::new(), Vec::new());
    for name in &arguments.package {
        let found = spelled::packages(&survey, &session.searches(), name.as_bytes());
        let id = |one: &(u16, u32)| survey.installations()[usize::from(one.0)].owner(one.1).id;
        let Some(first) = found.first().map(id) else {
            unknown.push(ByteString::from(name.as_bytes()));
            continue;
        };
        // Of several packages of that name the one that runs is answered first, and each of the others by itself.
        let (chosen, rest): (Vec<_>, Vec<_>) = found.into_iter().partition(|one| id(one) == first);
        packages.extend(chosen);
        for one in rest {
            let known = others.iter_mut().find(|known: &&mut Vec<(u16, u32)>| id(&known[0]) == id(&one));
            match known {
                Some(known) => known.push(one),
                None => others.push(vec![one]),
            }
        }
    }
    let resolved = session.all_contexts();
    let asking = CheckContext::new(&survey, session.views(), &resolved);
    let asked = Some(&packages).filter(|packages| !packages.is_empty());
    let sets: Vec<&[(u16, u32)]> = asked.into_iter().chain(&others).map(Vec::as_slice).collect();
    let mut found = impacts(&asking, &sets);
    let others = found.split_off(usize::from(!packages.is_empty()));
    let answer = Impact { others, ..found.pop().unwrap_or_default() };
    let outcome = output::show(&answer, &survey, &session, global, streams, unknown.is_empty())?;
    super::tell_unknown(&unknown, global, streams);
    Ok(outcome)
}

impl Shown for Impact {
    type Item = Broken;
    const COMMAND: &'static str = "impact";
    const SEARCHES: bool = true;

    fn items(&self) -> &[Broken] {
        &self.broken
    }

    fn grid(&self) -> Grid {
        let names = ["what", "name", "path", "owner", "loses", "instead", "contexts", "noticed"];
        let columns = names.into_iter().map(|name| Column::titled(name, name.to_uppercase())).collect();
        let command = |lost: &Lost| {
            let instead = lost.instead.as_ref().map(|one| one.path.to_string()).unwrap_or_default();
            [
                "command".to_owned(),
                lost.name.to_string(),
                lost.path.to_string(),
                String::new(),
                String::new(),
                instead,
                contexts(lost),
                String::new(),
            ]
        };
        let broken = |one: &Broken| {
            let owner = one.owner.as_ref().map(|owner| owner.id.to_string()).unwrap_or_default();
            let path = one.path.as_ref().map(ToString::to_string).unwrap_or_default();
            [
                one.how.word().to_owned(),
                String::new(),
                path,
                owner,
                one.loses.to_string(),
                String::new(),
                String::new(),
                one.noticed.to_string(),
            ]
        };
        let rows = self.commands.iter().map(command).chain(self.broken.iter().map(broken));
        Grid { columns, rows: rows.map(|row| row.into_iter().map(Cell::plain).collect()).collect() }
    }

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        let mut page = page_of(self, presenter);
        for other in &self.others {
            page.push(Line::blank().into());
            page.extend(page_of(other, presenter));
        }
        page
    }
}

/// The answer about one set of packages.
fn page_of(impact: &Impact, presenter: &Presenter) -> Vec<Piece> {
    if impact.packages.is_empty() {
        return vec![Line::of(Tone::Strong, "no such package").into()];
    }
    let names: Vec<String> = impact.packages.iter().map(|owner| presenter.owner(owner)).collect();
    let unnoticed = impact.broken.iter().filter(|one| !one.noticed).count();
    let noticed = impact.broken.len() - unnoticed;
    let first = Line::of(Tone::Strong, format!("without {}", names.join(", ")));
    let first = match (unnoticed, noticed) {
        (0, 0) if impact.unknown.is_empty() => first.and(Tone::Plain, ": nothing else breaks"),
        (0, 0) => first.and(Tone::Plain, format!(": dependents are not known for {}", impact.unknown.join(", "))),
        (0, noticed) => {
            first.and(Tone::Plain, format!(": its manager would notice everything that breaks ({noticed})"))
        }
        (unnoticed, _) => first
            .and(Tone::Warning, format!(": {unnoticed} would break without its manager noticing"))
            .and(Tone::Plain, format!("; its manager would notice {noticed}")),
    };
    let mut page: Vec<Piece> = vec![first.into()];
    if let Some(bytes) = impact.frees.filter(|bytes| *bytes > 0) {
        page.push(Line::of(Tone::Plain, format!("{} would be free", output::size(bytes))).into());
    }
    for one in &impact.protected {
        page.push(Line::of(Tone::Warning, output::safe(&one.says)).into());
    }
    let titled = |page: &mut Vec<Piece>, title: &str| {
        page.push(Line::blank().into());
        page.push(Line::of(Tone::Faint, title.to_owned()).into());
    };
    if !impact.commands.is_empty() {
        titled(&mut page, "commands");
        for lost in &impact.commands {
            let label = Line::blank().to(2).and(Tone::Strong, presenter.path(&lost.path));
            let (tone, says) = match &lost.instead {
                Some(one) => {
                    let whose = one.owner.as_ref().map_or("unowned".to_owned(), |owner| presenter.owner(owner));
                    (
                        Tone::Plain,
                        format!("instead, {} ({whose}) in {}", presenter.path(&one.path), places(lost, presenter)),
                    )
                }
                None => (Tone::Warning, format!("nothing, in {}", places(lost, presenter))),
            };
            page.push(Piece::Paragraph { column: 40, label, tone, text: says });
        }
    }
    for is_noticed in [false, true] {
        let listed: Vec<&Broken> = impact.broken.iter().filter(|one| one.noticed == is_noticed).collect();
        if listed.is_empty() {
            continue;
        }
        titled(
            &mut page,
            if is_noticed {
                "what its manager would remove as well, or ask about"
            } else {
                "what its manager would not notice"
            },
        );
        page.extend(listed.into_iter().map(|one| told(one, presenter)));
    }
    if !impact.left.is_empty() {
        titled(&mut page, "what would be left");
        page.extend(impact.left.iter().map(|one| left(one, presenter)));
    }
    if !impact.unknown.is_empty() {
        page.push(Line::blank().into());
        let says = format!("dependents are unknown for {}: more may break", impact.unknown.join(", "));
        page.push(Line::of(Tone::Warning, says).into());
    }
    page
}

/// What stays, and whose it is.
fn left(one: &LeftBehind, presenter: &Presenter) -> Piece {
    let what = match (one.kind, &one.user) {
        (LeftKind::Settings, _) => format!("settings of {}", presenter.placer(&one.package)),
        (LeftKind::Data, Some(user)) => format!("data of {user}"),
        (LeftKind::Data, None) => "data".to_owned(),
    };
    let used = one.used_by.as_ref().map(|id| format!(", which {} may use", presenter.placer(id)));
    let label = Line::blank().to(2).and(Tone::Plain, presenter.path(&one.path));
    Piece::Paragraph { column: 50, label, tone: Tone::Faint, text: format!("{what}{}", used.unwrap_or_default()) }
}

fn told(one: &Broken, presenter: &Presenter) -> Piece {
    let what = match (&one.path, &one.owner) {
        (Some(path), _) => presenter.path(path),
        (None, Some(owner)) => presenter.owner(owner),
        (None, None) => String::new(),
    };
    let whose = one.owner.as_ref().filter(|_| one.path.is_some()).map(|owner| format!(" ({})", presenter.owner(owner)));
    let loses = if one.how == How::Dependency { String::new() } else { format!(": {}", presenter.path(&one.loses)) };
    let label = Line::blank().to(2).and(Tone::Plain, what);
    let text = format!("{}{loses}{}", one.how.word(), whose.unwrap_or_default());
    Piece::Paragraph { column: 50, label, tone: Tone::Plain, text }
}

/// The contexts in which a command is lost, and for whom if not for all users.
pub fn places(lost: &Lost, presenter: &Presenter) -> String {
    let whose = presenter.whose(&lost.users).map(|whose| format!(" {whose}")).unwrap_or_default();
    format!("{}{whose}", contexts(lost))
}

fn contexts(lost: &Lost) -> String {
    if lost.contexts.len() == Context::ALL.len() {
        return "every context".to_owned();
    }
    lost.contexts.iter().map(|context| context.word()).collect::<Vec<_>>().join(", ")
}
