//! `whodunit why`.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt as _;

use clap::Args;
use whodunit_core::model::{Event, Reason, Relation};
use whodunit_core::queries::CheckContext;
use whodunit_core::queries::why::{Chain, ChainLink, Explained, Why, why, why_inside};
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::session::{Outcome, Session};

/// Show why a package is installed
///
/// Shows the chains from what a user asked for down to the package, the shortest first, and when, by whom and with which
/// command that was asked for, as far as a log tells. Environments, scripts and programs of other managers, or of none,
/// that need the package are among them. What is only suggested is shown where nothing else keeps the package.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit why libtide2
  whodunit why python3.11 --all
  whodunit why lamp-oil --inside
  whodunit why /usr/lib/x86_64-linux-gnu/libtide.so.2 --format json")]
pub struct Arguments {
    /// Packages, by name, by id, or by what they own (see `whodunit owner --help`)
    #[arg(required = true)]
    name: Vec<OsString>,

    /// Explain packages of these names that lie inside others as well (they are explained anyway where nothing else has
    /// the name)
    #[arg(long)]
    inside: bool,

    /// Show every chain, not only the first ten of a package
    #[arg(long)]
    all: bool,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let mut session = Session::new(global)?;
    session.use_all_contexts(global);
    let survey = Survey::of(&session.host);
    let (packages, mut unknown) = super::packages_of(&survey, &session, &arguments.name);
    let resolved = session.all_contexts();
    let asking = CheckContext::new(&survey, session.views(), &resolved);
    let mut answer = why(&asking, &packages);
    for name in arguments.name.iter().map(|name| name.as_bytes()) {
        let is_unknown = unknown.iter().any(|other| **other == *name);
        if arguments.inside || is_unknown {
            let inside = why_inside(&asking, name);
            unknown.retain(|other| **other != *name || inside.packages.is_empty());
            answer.packages.extend(inside.packages);
            answer.chains.extend(inside.chains);
        }
    }
    let shown = Listed { answer, limit: if arguments.all { usize::MAX } else { MAX_CHAINS } };
    let outcome = output::show(&shown, &survey, &session, global, streams, unknown.is_empty())?;
    super::tell_unknown(&unknown, global, streams);
    Ok(outcome)
}

/// Chains of one package that are shown before the rest is only counted.
const MAX_CHAINS: usize = 10;

/// The answer, and how much of it is told.
#[derive(Clone, serde::Serialize)]
struct Listed {
    #[serde(flatten)]
    answer: Why,
    #[serde(skip)]
    limit: usize,
}

impl Shown for Listed {
    type Item = Chain;
    const COMMAND: &'static str = "why";
    const SEARCHES: bool = true;

    fn items(&self) -> &[Chain] {
        &self.answer.chains
    }

    fn grid(&self) -> Grid {
        let names = ["package", "asked_for", "from", "length", "chain", "since", "by", "command"];
        let columns =
            names.into_iter().map(|name| Column::titled(name, name.replace('_', " ").to_uppercase())).collect();
        let row = |chain: &Chain| {
            let request = chain.request.as_ref();
            let steps = chain.chain.iter().map(|link| match link.relation {
                Some(relation) => format!("{} {}", relation.word(), link.id),
                None => link.id.to_string(),
            });
            let cells = [
                chain.id.to_string(),
                chain.asked_for.map(|asked| asked.to_string()).unwrap_or_default(),
                chain.chain[0].id.to_string(),
                chain.chain.len().to_string(),
                steps.collect::<Vec<_>>().join(", "),
                request.and_then(|event| event.at).map(output::time).unwrap_or_default(),
                request.and_then(|event| event.by.clone()).unwrap_or_default(),
                request.and_then(|event| event.command.clone()).unwrap_or_default(),
            ];
            cells.into_iter().map(Cell::plain).collect()
        };
        Grid { columns, rows: self.answer.chains.iter().map(row).collect() }
    }

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        let mut page: Vec<Piece> = Vec::new();
        if self.answer.packages.is_empty() {
            page.push(Line::of(Tone::Strong, "no such package").into());
        }
        for (number, package) in self.answer.packages.iter().enumerate() {
            if number > 0 {
                page.push(Line::blank().into());
            }
            let chains: Vec<&Chain> = self.answer.chains.iter().filter(|chain| chain.id == package.owner.id).collect();
            page.extend(in_full(package, &chains, self.limit, presenter));
        }
        page
    }
}

/// The answer for a user, with the first chains of each package.
pub(super) fn page_of(answer: Why, presenter: &Presenter) -> Vec<Piece> {
    Listed { answer, limit: MAX_CHAINS }.page(presenter)
}

/// Everything about one package.
fn in_full(package: &Explained, chains: &[&Chain], limit: usize, presenter: &Presenter) -> Vec<Piece> {
    let mut head = Line::of(Tone::Strong, presenter.owner(&package.owner));
    // What lies inside another package has no id but its place.
    if package.owner.id.starts_with(b"/") {
        head = head.and(Tone::Plain, format!(" at {}", presenter.path(&package.owner.id)));
    }
    let label = head.and(Tone::Plain, format!(": {}", verdict(package, chains)));
    let mut page: Vec<Piece> = vec![label.into()];
    if let Some(protection) = &package.protection {
        page.push(Line::blank().to(2).and(Tone::Warning, output::safe(&protection.says)).into());
    }
    // A chain of the package alone is told by the first line, but for when it came.
    let shown = chains.iter().filter(|chain| chain.chain.len() > 1 || chain.request.is_some());
    let shown: Vec<&&Chain> = shown.collect();
    for chain in shown.iter().take(limit) {
        page.push(Line::blank().into());
        page.extend(lines(chain, presenter));
    }
    if let Some(more) = shown.len().checked_sub(limit).filter(|more| *more > 0) {
        page.push(Line::blank().into());
        let says = format!("and {} (--all shows each)", output::count(more, "more chain"));
        page.push(Line::blank().to(2).and(Tone::Faint, says).into());
    }
    if !package.is_complete {
        let says = format!("what other packages need of it is not recorded by {}", package.owner.manager);
        page.push(Line::blank().to(2).and(Tone::Faint, says).into());
    }
    page
}

fn verdict(package: &Explained, chains: &[&Chain]) -> String {
    let of_others =
        |asked: Option<bool>| chains.iter().filter(|chain| chain.chain.len() > 1 && chain.asked_for == asked).count();
    let (asked, unknown) = (of_others(Some(true)), of_others(None));
    let kept =
        chains.iter().filter(|chain| chain.chain.len() > 1 && chain.kept && chain.asked_for != Some(true)).count();
    let needs = |count: usize| if count == 1 { "needs" } else { "need" };
    let is_suggested = |chain: &&&Chain| chain.chain.iter().any(|link| link.relation == Some(Relation::Suggests));
    match (package.reason, asked, unknown) {
        (Reason::Explicit, 0, 0) => "was asked for".to_owned(),
        (Reason::Explicit, asked, unknown) => {
            let others = asked + unknown;
            format!("was asked for, and {} {} it", output::count(others, "other thing"), needs(others))
        }
        (_, 0, 0) if package.reason == Reason::Unknown => {
            "nothing here needs it; whether it was asked for is not recorded".to_owned()
        }
        (_, 0, 0) if kept > 0 => {
            format!(
                "came along; {} {} it that the manager keeps in any case",
                output::count(kept, "package"),
                needs(kept)
            )
        }
        (_, 0, 0) if package.protection.is_some() => "came along, and its manager keeps it in any case".to_owned(),
        (_, 0, 0) => "came along with something else; nothing that was asked for needs it any more".to_owned(),
        (_, 0, unknown) => {
            format!(
                "{} {} it; whether they were asked for is not recorded",
                output::count(unknown, "thing"),
                needs(unknown)
            )
        }
        (_, asked, _) if chains.iter().filter(is_suggested).count() == chains.len() => {
            format!("only suggested, by {} that {} asked for", output::count(asked, "thing"), was(asked))
        }
        (_, asked, _) => {
            format!("came along; {} that {} asked for {} it", output::count(asked, "thing"), was(asked), needs(asked))
        }
    }
}

fn was(count: usize) -> &'static str {
    if count == 1 { "was" } else { "were" }
}

/// A chain, one line for each thing in it.
fn lines(chain: &Chain, presenter: &Presenter) -> Vec<Piece> {
    // Whose it is, is said where that changes.
    let name =
        |link: &ChainLink, before: Option<&ChainLink>| match (&link.owner, before.and_then(|one| one.owner.as_ref())) {
            (Some(owner), Some(before)) if (owner.manager, &owner.scope) == (before.manager, &before.scope) => {
                owner.full_name().to_string()
            }
            (Some(owner), _) => presenter.owner(owner),
            (None, _) => presenter.path(&link.id),
        };
    let mut first = Line::blank().to(2).and(Tone::Accent, name(&chain.chain[0], None));
    if chain.kept && chain.asked_for != Some(true) {
        let says = chain.chain[0].evidence.first().map(|one| output::safe(&one.says));
        first = first.to(44).and(Tone::Plain, says.unwrap_or_default());
    } else if let Some(request) = &chain.request {
        first = first.to(44).and(Tone::Plain, requested(request, chain.asked_for));
    }
    let mut lines: Vec<Piece> = vec![first.into()];
    for (before, link) in chain.chain.iter().zip(&chain.chain[1..]) {
        let verb = link.relation.map_or("", Relation::word);
        let mut line = Line::blank().to(4).and(Tone::Plain, format!("{verb} {}", name(link, Some(before))));
        if let Some(evidence) = link.evidence.first() {
            line = line.to(44).and(Tone::Faint, output::safe(&evidence.says));
        }
        lines.push(line.into());
    }
    lines
}

/// How the first thing in a chain came.
fn requested(event: &Event, asked_for: Option<bool>) -> String {
    let verb = if asked_for == Some(true) { "asked for" } else { "installed" };
    let when = event.at.map(|at| format!(" on {}", output::date(at))).unwrap_or_default();
    let by = event.by.as_ref().map(|by| format!(", by {by}")).unwrap_or_default();
    let with = event.command.as_ref().map(|command| format!(", with {command}")).unwrap_or_default();
    format!("{verb}{when}{by}{with}")
}
