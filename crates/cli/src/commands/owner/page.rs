//! How an answer is laid out on a terminal: a headline, then one labelled line per fact.

use crate::commands::upkeep::sentence;
use crate::output::{self, Line, Presenter, Tone};
use whodunit_core::bytes::ByteString;
use whodunit_core::model::{Evidence, Remedy, RemedyKind, Severity};
use whodunit_core::queries::keeping::UpkeepMode;
use whodunit_core::queries::owner::{Answer, Elsewhere, Hop, TargetKind, Verdict};
use whodunit_core::resolve::How;

/// Where the second column begins.
const INDENT: usize = 2;
const COLUMN: usize = 16;
const WIDE: usize = COLUMN + 32;

fn row(label: &str) -> Line {
    Line::of(Tone::Plain, " ".repeat(INDENT)).and(Tone::Faint, label).to(COLUMN)
}

/// One answer in full.
pub(super) fn in_full(answer: &Answer, presenter: &Presenter) -> Vec<Line> {
    let whose = presenter.whose(&answer.users).map(|whose| format!("   {whose}")).unwrap_or_default();
    let mut lines = vec![headline(answer, presenter).and(Tone::Faint, whose), Line::blank()];
    add_path(answer, presenter, &mut lines);
    add_interpreter(answer, presenter, &mut lines);
    add_findings(answer, &mut lines);
    add_reasons(answer, presenter, &mut lines);
    add_other_copies(answer, presenter, &mut lines);
    if answer.owners.len() > 1 {
        lines.extend(claimants(answer, presenter));
    }
    for (number, evidence) in answer.evidence.iter().enumerate().take(MAX_EVIDENCE) {
        let label = if number == 0 { "evidence" } else { "" };
        let place = format!("{} {}", presenter.path(&evidence.file), evidence.at);
        lines.push(row(label).and(Tone::Faint, format!("{place}: {}", evidence.says)));
    }
    for remedy in &answer.remedies {
        lines.push(remedy_line(remedy, answer, presenter));
        lines.extend(remarks(remedy));
    }
    if let Some(kept) = &answer.upkeep {
        let tone = if kept.mode == UpkeepMode::Nobody { Tone::Warning } else { Tone::Plain };
        lines.push(row("kept current").and(tone, sentence(kept)));
    }
    if lines.last() == Some(&Line::blank()) {
        lines.pop();
    }
    lines
}

/// The program that is found, and each link on the way to what finally runs.
fn add_path(answer: &Answer, presenter: &Presenter, lines: &mut Vec<Line>) {
    if let Some(first) = answer.hops.first().filter(|_| answer.verdict != Verdict::NotFound || answer.hops.len() > 1) {
        let label = if answer.runs.is_some() { "runs" } else { "is" };
        lines.push(row(label).and(Tone::Strong, presenter.path(&first.path)));
        let leading = answer
            .hops
            .iter()
            .filter(|hop| hop.to.is_some() && matches!(hop.how, How::Link | How::Wrapper | How::Shim));
        lines.extend(leading.map(|hop| Line::blank().to(COLUMN).and(Tone::Plain, link(hop, presenter))));
    }
    if answer.hops.last().is_some_and(|hop| hop.how == How::Shim) {
        lines.push(row("starts").and(Tone::Warning, "nothing: see the evidence"));
    }
}

/// The interpreter of a script.
fn add_interpreter(answer: &Answer, presenter: &Presenter, lines: &mut Vec<Line>) {
    if let Some(script) = &answer.interpreter {
        let owner = script.owner.as_ref().map_or("no manager claims it".to_owned(), |owner| presenter.owner(owner));
        let line = row("interpreter");
        lines.push(match (&script.path, &script.runs) {
            (Some(path), Some(runs)) => {
                let shown = if path == runs {
                    presenter.path(path)
                } else {
                    format!("{} → {}", presenter.path(path), presenter.path(runs))
                };
                line.and(Tone::Plain, shown).to(WIDE).and(Tone::Plain, owner)
            }
            _ => line.and(Tone::Warning, format!("{} leads to no interpreter", script.line)),
        });
    }
}

/// What the shell takes the name for, and findings about the program.
fn add_findings(answer: &Answer, lines: &mut Vec<Line>) {
    if let Some(taken) = &answer.taken_for {
        let value = taken.value.as_ref().map(|value| format!(" for `{value}`")).unwrap_or_default();
        let line = row("typed").and(Tone::Warning, format!("{} of the shell{value}", taken.how.word()));
        lines.push(line.and(Tone::Faint, format!("  ({}, {})", taken.because.file, taken.because.at)));
    }
    for found in answer.findings.iter().filter(|found| found.severity > Severity::Note) {
        let label = if found.severity == Severity::Error { "broken" } else { "careful" };
        lines.push(row(label).and(Tone::Warning, found.summary.clone()));
        lines.push(row("").and(Tone::Plain, found.consequence.clone()));
        for remedy in &found.remedies {
            lines.push(row("").and(Tone::Plain, format!("to {}: {}", remedy.purpose, remedy.command)));
        }
    }
}

/// Why this copy comes first, or which one comes before it.
fn add_reasons(answer: &Answer, presenter: &Presenter, lines: &mut Vec<Line>) {
    if let Some(winner) = &answer.hidden_by {
        let owner = winner.owner.as_ref().map_or("no manager claims it".to_owned(), |owner| presenter.owner(owner));
        lines.push(row("hidden by").and(Tone::Warning, presenter.path(&winner.path)).to(WIDE).and(Tone::Plain, owner));
    }
    for (number, because) in answer.because.iter().enumerate() {
        let label = match number {
            0 if answer.hidden.is_empty() && answer.hidden_by.is_none() => "found by",
            0 => "comes first",
            _ => "",
        };
        let place = format!("({}, {})", because.file, because.at);
        lines.push(row(label).and(Tone::Plain, format!("{}  ", because.says)).and(Tone::Faint, place));
    }
}

fn claimed_by(id: Option<&ByteString>) -> String {
    id.map_or("no manager claims it".to_owned(), ToString::to_string)
}

/// The copies that it hides, and those that this search path does not find.
fn add_other_copies(answer: &Answer, presenter: &Presenter, lines: &mut Vec<Line>) {
    for (number, hidden) in answer.hidden.iter().enumerate() {
        let owner = match (&hidden.owner, &hidden.version) {
            (Some(owner), _) => presenter.owner(owner),
            (None, Some(version)) => format!("no manager claims it; version {version}"),
            (None, None) => "no manager claims it".to_owned(),
        };
        let label = if number == 0 { "hides" } else { "" };
        lines.push(row(label).and(Tone::Accent, presenter.path(&hidden.path)).to(WIDE).and(Tone::Plain, owner));
    }
    let itself = answer.owner.as_ref().filter(|_| answer.kind == TargetKind::Package).map(|owner| &owner.id);
    let (own, others): (Vec<_>, Vec<_>) = answer.elsewhere.iter().partition(|copy| copy.id.as_ref() == itself);
    lines.extend(
        own.iter()
            .filter(|copy| copy.id.is_some())
            .map(|copy| row("to start").and(Tone::Plain, presenter.path(&copy.start))),
    );
    if let Some(next) = &answer.next_session {
        let whose = claimed_by(next.id.as_ref());
        let line = row("next login");
        lines.push(match &next.path {
            Some(path) => line.and(Tone::Accent, presenter.path(path)).to(WIDE).and(Tone::Plain, whose),
            None => line.and(Tone::Warning, "starts nothing: only this session has the directory on its search path"),
        });
        if let Some(temporary) = &next.temporary {
            let place = format!("  ({}, {})", temporary.evidence.file, temporary.evidence.at);
            lines.push(row("put there by").and(Tone::Plain, temporary.says()).and(Tone::Faint, place));
        }
    }
    for possible in &answer.possible {
        let whose = claimed_by(possible.id.as_ref());
        let line = row("or perhaps").and(Tone::Warning, presenter.path(&possible.path));
        lines.push(line.to(WIDE).and(Tone::Plain, whose));
        let Evidence { file, at, says } = &possible.because;
        lines.push(
            row("").and(Tone::Plain, says.clone()).and(Tone::Faint, format!("  ({}, {at})", presenter.path(file))),
        );
    }
    let others = others.into_iter().chain(own.iter().filter(|copy| copy.id.is_none()).copied());
    let next = answer.next_session.as_ref().and_then(|next| next.path.as_ref());
    let is_told = |copy: &Elsewhere| {
        Some(&copy.start) == next || answer.possible.iter().any(|possible| possible.path == copy.start)
    };
    for (number, copy) in others.filter(|copy| !is_told(copy)).enumerate() {
        let label = if number == 0 { "elsewhere" } else { "" };
        let whose = claimed_by(copy.id.as_ref());
        let says = format!("{whose}; not in this search path");
        lines.push(row(label).and(Tone::Accent, presenter.path(&copy.start)).to(WIDE).and(Tone::Plain, says));
    }
}

/// A directory can be claimed by hundreds of packages.
const MAX_CLAIMANTS: usize = 12;
const MAX_EVIDENCE: usize = 6;

fn claimants(answer: &Answer, presenter: &Presenter) -> Vec<Line> {
    let shown = answer.owners.iter().take(MAX_CLAIMANTS).enumerate();
    let mut lines: Vec<Line> = shown
        .map(|(number, owner)| {
            let line = row(if number == 0 { "claimed by" } else { "" }).and(Tone::Plain, presenter.owner(owner));
            match &answer.owner {
                Some(fits) if fits == owner && answer.verdict == Verdict::Several => {
                    line.to(WIDE).and(Tone::Accent, "its recorded digest fits the file")
                }
                _ => line,
            }
        })
        .collect();
    if answer.owners.len() > MAX_CLAIMANTS {
        let more = output::count(answer.owners.len() - MAX_CLAIMANTS, "other");
        lines.push(row("").and(Tone::Faint, format!("and {more}")));
    }
    lines
}

pub(super) fn headline(answer: &Answer, presenter: &Presenter) -> Line {
    let line = Line::of(Tone::Strong, answer.target.to_string()).to(COLUMN.min(answer.target.len() + 3));
    let unknown = if answer.certain { "" } else { ", as far as could be read" };
    match (&answer.verdict, &answer.owner) {
        (Verdict::Owned, Some(owner)) if answer.intact == Some(false) => {
            let says =
                format!(", but the file is not the one that {} installed (verify {})", owner.manager, owner.name);
            line.and(Tone::Accent, presenter.owner(owner)).and(Tone::Warning, says)
        }
        (Verdict::Owned, Some(owner)) => line.and(Tone::Accent, presenter.owner(owner)).and(Tone::Warning, unknown),
        (Verdict::Owned, None) => line.and(Tone::Accent, "owned"),
        (Verdict::Several, _) => {
            line.and(Tone::Warning, format!("{} claim it", output::count(answer.owners.len(), "package")))
        }
        (Verdict::Unowned, _) => {
            let hint = output::hinted(answer.version_hint.as_ref(), answer.version_is_probable);
            let hint = hint.map(|version| format!("; its version is {version}")).unwrap_or_default();
            let read = presenter.managers_read.clone();
            line.and(Tone::Warning, format!("no manager claims it{unknown}{hint}")).and(Tone::Faint, read)
        }
        (Verdict::NotFound, _) if answer.taken_for.is_some() => {
            let how = answer.taken_for.as_ref().map_or("", |taken| taken.how.word());
            line.and(Tone::Accent, format!("{how} of the shell; no program of this name{unknown}"))
        }
        (Verdict::NotFound, _) => {
            let what = match answer.kind {
                TargetKind::Path => "no such file or directory",
                TargetKind::Launcher => "no launcher of this id",
                TargetKind::Library => "no library of this name",
                TargetKind::Module => "no module of this name",
                TargetKind::Package => "no package of this name",
                TargetKind::Command if answer.elsewhere.is_empty() => "not found: no program or package of this name",
                TargetKind::Command => "not found in this search path",
            };
            line.and(Tone::Warning, format!("{what}{unknown}"))
        }
    }
}

fn link(hop: &Hop, presenter: &Presenter) -> String {
    let to = hop.to.as_ref().map(|to| presenter.path(to)).unwrap_or_default();
    if hop.how == How::Wrapper {
        return format!("└ starts {to}");
    }
    if hop.how == How::Shim {
        // A manager's own shim needs its name once.
        let manager = hop.owner.as_ref().and_then(|owner| owner.split(|&b| b == b'/').next());
        let whose = manager.map(|manager| format!(" of {}", ByteString::from(manager))).unwrap_or_default();
        return format!("└ shim{whose}, starts → {to}");
    }
    if let Some(dir) = &hop.through {
        return format!("└ through the linked directory {} → {to}", presenter.path(dir));
    }
    let placed = match &hop.owner {
        None => "placed by hand".to_owned(),
        Some(owner) => match owner.strip_prefix(b"alternatives/") {
            Some(group) => format!("placed by the alternatives group {}", ByteString::from(group)),
            None => format!("placed by {}", presenter.placer(owner)),
        },
    };
    format!("└ link, {placed} → {to}")
}

/// What a user should know before typing it.
fn remarks(remedy: &Remedy) -> Option<Line> {
    output::findings::remarks(remedy).map(|says| row("").and(Tone::Faint, says))
}

fn remedy_line(remedy: &Remedy, answer: &Answer, presenter: &Presenter) -> Line {
    let line = row(&format!("to {}", remedy.purpose)).and(Tone::Plain, remedy.command.clone());
    match answer.hidden.first() {
        Some(next) if remedy.kind == RemedyKind::Remove && answer.hops.iter().all(|hop| hop.how != How::Shim) => {
            line.to(WIDE).and(Tone::Faint, format!("(then {} runs)", presenter.path(&next.path)))
        }
        _ => line,
    }
}
