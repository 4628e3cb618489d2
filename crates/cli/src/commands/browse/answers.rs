//! The answer about what is chosen, and where it leads.

use whodunit_core::bytes::{ByteString, path};
use whodunit_core::fs::Kind;
use whodunit_core::model::{Coverage, CoverageState, Depth, Event, Evidence, Finding, Owner, Remedy};
use whodunit_core::queries::launchers::Launchers;
use whodunit_core::queries::owner::{Target as OwnerTarget, owners_in};
use whodunit_core::queries::paths::Paths;
use whodunit_core::queries::sources::SourceInUse;
use whodunit_core::queries::why::why;
use whodunit_core::resolve::SearchPath;

use super::facts::Facts;
use super::target::Target;
use crate::commands::sources::Listed as ListedSources;
use crate::output::{self, Line, Piece, Shown as _, Tone, findings};

/// What is shown of a target.
#[derive(Debug, Clone, Default)]
pub struct Shown {
    /// What it is about, for the head of the page.
    pub title: String,
    /// The page.
    pub pieces: Vec<Piece>,
    /// Where one can go from here: what it is called, and what it is.
    pub links: Vec<(String, Target)>,
    /// Commands that can be copied, as they are typed.
    pub commands: Vec<String>,
}

/// Links of one page; what has more of them is cut, and says so.
const MAX_LINKS: usize = 2000;

impl Shown {
    fn titled(title: impl Into<String>) -> Self {
        Shown { title: title.into(), ..Shown::default() }
    }

    fn link(&mut self, label: impl Into<String>, target: Target) {
        let is_known = self.links.len() < 100 && self.links.iter().any(|(_, known)| *known == target);
        if !is_known && self.links.len() < MAX_LINKS {
            self.links.push((label.into(), target));
        }
    }

    fn owner(&mut self, owner: &Owner) {
        self.link(format!("{} · {}", owner.manager, owner.full_name()), Target::Package(owner.id.clone()));
    }

    fn commands(&mut self, remedies: &[Remedy]) {
        for remedy in remedies {
            let command = output::safe(&remedy.command);
            if !self.commands.contains(&command) {
                self.commands.push(command);
            }
        }
    }

    fn evidence(&mut self, evidence: &[Evidence], facts: &Facts<'_>) {
        for one in evidence {
            let text = format!("{}, {}: {}", facts.presenter.path(&one.file), one.at, output::safe(&one.says));
            let label = Line::of(Tone::Faint, "evidence");
            self.pieces.push(Piece::Paragraph { column: 10, label, tone: Tone::Faint, text });
        }
    }

    fn blank(&mut self) {
        self.pieces.push(Line::blank().into());
    }
}

/// The answer about a target; none where there is no such thing.
pub fn shown(facts: &Facts<'_>, target: &Target) -> Option<Shown> {
    Some(match target {
        Target::Machine => machine(facts),
        Target::Installation(at) => installation(facts, *at)?,
        Target::Group(at) => group(facts, *at)?,
        Target::Name(name) => name_in_contexts(facts, name),
        Target::File(file) => asked(facts, &[b"path:", &file[..]].concat(), file),
        Target::Package(id) => package(facts, id),
        Target::Files(id) => files(facts, id),
        Target::Launcher(at) => launcher(facts, *at)?,
        Target::Context(at) => context(facts, *at)?,
        Target::Source(at) => source(facts, *at)?,
        Target::Event(at) => event(facts, facts.events().get(*at)?),
    })
}

fn machine(facts: &Facts<'_>) -> Shown {
    let mut shown = Shown::titled("the machine");
    let totals = &facts.totals().totals;
    let first = format!(
        "{} in {}",
        output::count(totals.iter().map(|one| one.packages).sum(), "package"),
        output::count(totals.len(), "installation")
    );
    shown.pieces.push(Line::of(Tone::Strong, first).into());
    for (at, one) in totals.iter().enumerate() {
        let name = facts.presenter.installation(one.manager, &one.scope);
        let size = one.size.map(|size| format!(", {}", output::size(size))).unwrap_or_default();
        let text = format!("{}, {} asked for{size}", output::count(one.packages, "package"), one.explicit);
        shown.pieces.push(Piece::Paragraph {
            column: 20,
            label: Line::of(Tone::Faint, &name),
            tone: Tone::Plain,
            text,
        });
        shown.link(name, Target::Installation(at));
    }
    let parts: Vec<Coverage> = facts.survey.coverage().into_iter().filter(|part| !part.notes.is_empty()).collect();
    if !parts.is_empty() {
        shown.blank();
        shown.pieces.push(Line::of(Tone::Strong, "remarks").into());
    }
    parts.iter().for_each(|part| remarks(&mut shown, part, facts));
    shown
}

/// What is to be said of how a part was read.
fn remarks(shown: &mut Shown, part: &Coverage, facts: &Facts<'_>) {
    let tone = if part.state == CoverageState::Read { Tone::Plain } else { Tone::Warning };
    for note in &part.notes {
        let text = format!("{} ({}): {note}", facts.presenter.path(&part.location), part.state.word());
        shown.pieces.push(Piece::Paragraph { column: 2, label: Line::blank(), tone, text });
    }
}

/// A fact, behind what it is.
fn fact(label: &str, value: impl Into<String>) -> Piece {
    Line::of(Tone::Faint, label.to_owned()).to(14).and(Tone::Plain, value).into()
}

fn installation(facts: &Facts<'_>, at: usize) -> Option<Shown> {
    let one = facts.totals().totals.get(at)?;
    let mut shown = Shown::titled(facts.presenter.installation(one.manager, &one.scope));
    shown.pieces = vec![
        fact("location", facts.presenter.path(&one.location)),
        fact("packages", one.packages.to_string()),
        fact("asked for", one.explicit.to_string()),
        fact("held back", one.held.to_string()),
        fact("size", one.size.map(output::size).unwrap_or_default()),
    ];
    let parts = facts.survey.coverage();
    let is_it = |part: &&Coverage| part.manager == Some(one.manager) && part.location == one.location;
    for part in parts.iter().filter(is_it) {
        shown.pieces.push(fact("state", part.state.word()));
        remarks(&mut shown, part, facts);
    }
    let packages = facts.survey.recorded().iter();
    for package in packages.filter(|package| (package.manager, &package.scope) == (one.manager, &one.scope)) {
        shown.link(package.full_name().to_string(), Target::Package(package.id.clone()));
    }
    Some(shown)
}

fn group(facts: &Facts<'_>, at: usize) -> Option<Shown> {
    let check = facts.check();
    let group = check.groups.get(at)?;
    let mut shown = Shown::titled(group.subject.to_string());
    let of_group: Vec<&Finding> = group.findings.iter().filter_map(|at| check.findings.get(*at)).collect();
    for (number, finding) in of_group.iter().enumerate() {
        if number > 0 {
            shown.blank();
        }
        shown.pieces.extend(findings::in_full(finding, &facts.presenter));
        shown.commands(&finding.remedies);
    }
    for finding in of_group {
        for id in &finding.packages {
            shown.link(facts.presenter.placer(id), Target::Package(id.clone()));
        }
        for file in &finding.paths {
            shown.link(facts.presenter.path(file), Target::File(file.clone()));
        }
    }
    Some(shown)
}

/// What `owner` says of a name that is typed, and what other contexts start.
fn name_in_contexts(facts: &Facts<'_>, name: &ByteString) -> Shown {
    let words = [b"command:", &name[..]].concat();
    let mut shown = asked(facts, &words, name);
    let Ok(target) = OwnerTarget::parse(&words) else { return shown };
    let searches: Vec<&SearchPath> = facts.session.searches();
    // Each program, with where it is started.
    let mut programs: Vec<(String, Vec<String>)> = Vec::new();
    for one in owners_in(facts.survey, &searches, &[target]).answers {
        let runs = match (&one.taken_for, one.hops.last()) {
            (Some(taken), _) => format!("{} of the shell", taken.how.word()),
            (None, Some(hop)) => facts.presenter.path(&hop.path),
            (None, None) => "not found".to_owned(),
        };
        let whose = facts.presenter.whose(&one.users).map(|whose| format!(" {whose}")).unwrap_or_default();
        let context = format!("{}{whose}", one.context.word());
        match programs.iter_mut().find(|(known, _)| *known == runs) {
            Some((_, contexts)) => contexts.push(context),
            None => programs.push((runs, vec![context])),
        }
        one.owner.iter().for_each(|owner| shown.owner(owner));
    }
    if programs.len() > 1 {
        shown.blank();
        shown.pieces.push(Line::of(Tone::Warning, "what it starts depends on the context").into());
        for (runs, contexts) in programs {
            shown.pieces.push(Line::of(Tone::Plain, runs).into());
            let text = format!("in {}", contexts.join(", "));
            shown.pieces.push(Piece::Paragraph { column: 2, label: Line::blank(), tone: Tone::Faint, text });
        }
    }
    shown
}

/// What `owner` says.
fn asked(facts: &Facts<'_>, words: &[u8], title: &ByteString) -> Shown {
    let mut shown = Shown::titled(title.to_string());
    let Ok(target) = OwnerTarget::parse(words) else { return shown };
    let mut answer = owners_in(facts.survey, &[facts.session.views()[0].typed()], &[target]);
    answer.answers.iter_mut().for_each(|one| one.target = title.clone());
    shown.pieces = answer.page(&facts.presenter);
    for one in &answer.answers {
        one.owner.iter().chain(&one.owners).for_each(|owner| shown.owner(owner));
        for hop in &one.hops {
            shown.link(facts.presenter.path(&hop.path), Target::File(hop.path.clone()));
        }
        for hidden in &one.hidden {
            shown.link(format!("hidden: {}", facts.presenter.path(&hidden.path)), Target::File(hidden.path.clone()));
        }
        for elsewhere in one.elsewhere.iter().filter_map(|elsewhere| elsewhere.id.clone()) {
            shown.link(format!("elsewhere: {}", facts.presenter.placer(&elsewhere)), Target::Package(elsewhere));
        }
        shown.commands(&one.remedies);
    }
    shown
}

fn package(facts: &Facts<'_>, id: &ByteString) -> Shown {
    let mut shown = asked(facts, &[b"package:", &id[..]].concat(), id);
    shown.links.clear();
    shown.link("its files", Target::Files(id.clone()));
    let recorded = facts.survey.titled().packages.iter().find(|package| package.id == *id);
    for command in recorded.iter().flat_map(|package| &package.commands) {
        let name = ByteString::from(path::name(command));
        shown.link(format!("command {name}"), Target::Name(name));
    }
    let keys = facts.survey.by_name_or_id(id);
    let answer = why(&facts.asking(), &keys);
    for link in answer.chains.iter().flat_map(|chain| &chain.chain).filter(|link| link.id != *id) {
        if !facts.survey.by_name_or_id(&link.id).is_empty() {
            shown.link(facts.presenter.placer(&link.id), Target::Package(link.id.clone()));
        }
    }
    shown.blank();
    shown.pieces.push(Line::of(Tone::Strong, "why it is here").into());
    shown.pieces.extend(crate::commands::why::page_of(answer, &facts.presenter));
    shown
}

fn files(facts: &Facts<'_>, id: &ByteString) -> Shown {
    let mut shown = Shown::titled(format!("files of {}", facts.presenter.placer(id)));
    let mut paths: Vec<ByteString> = Vec::new();
    for (holder, number) in facts.survey.by_name_or_id(id) {
        let records = facts.survey.installations()[usize::from(holder)].file_records();
        let records = records.map(|records| records.file_records(&[number], Depth::Presence)).unwrap_or_default();
        paths.extend(records.into_iter().map(|record| record.path));
    }
    // Directories are shared by many packages, and tell little.
    paths.retain(|file| facts.survey.root().entry(file).is_ok_and(|meta| meta.kind != Kind::Dir));
    paths.sort();
    paths.dedup();
    let first = match paths.len() {
        0 => "its manager records no files one by one".to_owned(),
        count if count > MAX_LINKS => format!("{}, the first {MAX_LINKS} below", output::count(count, "file")),
        count => output::count(count, "file"),
    };
    shown.pieces.push(Line::of(Tone::Strong, first).into());
    for file in paths {
        shown.link(facts.presenter.path(&file), Target::File(file));
    }
    shown
}

fn launcher(facts: &Facts<'_>, at: usize) -> Option<Shown> {
    let one = facts.launchers().get(at)?;
    let mut shown = Shown::titled(one.id.to_string());
    shown.pieces = Launchers { launchers: vec![one.clone()] }.page(&facts.presenter);
    shown.evidence(&one.evidence, facts);
    for finding in &one.findings {
        shown.blank();
        shown.pieces.extend(findings::in_full(finding, &facts.presenter));
        shown.commands(&finding.remedies);
    }
    one.owner.iter().chain(&one.starts.owner).for_each(|owner| shown.owner(owner));
    for file in std::iter::once(&one.file).chain(&one.starts.path).chain(&one.masks) {
        shown.link(facts.presenter.path(file), Target::File(file.clone()));
    }
    Some(shown)
}

fn context(facts: &Facts<'_>, at: usize) -> Option<Shown> {
    let one = facts.contexts().get(at)?;
    let whose = one.user.as_ref().map(|user| format!(" of {user}")).unwrap_or_default();
    let mut shown = Shown::titled(format!("{}{whose}", one.context.word()));
    let answer = Paths { contexts: vec![one.clone()], findings: Vec::new(), session: None };
    shown.pieces = answer.page(&facts.presenter);
    for entry in &one.entries {
        let because = entry.because.iter().filter(|because| because.at.line().is_some());
        for because in because {
            shown.link(facts.presenter.path(&because.file), Target::File(because.file.clone()));
        }
    }
    Some(shown)
}

fn source(facts: &Facts<'_>, at: usize) -> Option<Shown> {
    let one: &SourceInUse = facts.sources().sources.get(at)?;
    let mut shown = Shown::titled(one.source.name.to_string());
    let answer = whodunit_core::queries::sources::Sources { sources: vec![one.clone()] };
    shown.pieces = ListedSources::in_full(answer, facts.session.now()).page(&facts.presenter);
    for id in &one.packages {
        shown.link(facts.presenter.placer(id), Target::Package(id.clone()));
    }
    Some(shown)
}

fn event(facts: &Facts<'_>, event: &Event) -> Shown {
    let mut shown = Shown::titled(format!("{} {}", event.action.word(), event.name));
    let version = |version: &Option<ByteString>| version.as_ref().map(ToString::to_string).unwrap_or_default();
    let facts_of = [
        ("when", event.at.map(output::time).unwrap_or_default()),
        ("manager", facts.presenter.installation(event.manager, &event.scope)),
        ("action", event.action.word().to_owned()),
        ("package", event.name.to_string()),
        ("from", version(&event.from)),
        ("to", version(&event.to)),
        ("asked for by", event.by.as_deref().map(output::safe).unwrap_or_default()),
        ("command", event.command.as_deref().map(output::safe).unwrap_or_default()),
    ];
    shown.pieces =
        facts_of.into_iter().filter(|(_, value)| !value.is_empty()).map(|(label, value)| fact(label, value)).collect();
    shown.blank();
    shown.evidence(&event.evidence, facts);
    let packages = facts.survey.recorded().iter();
    for package in packages.filter(|package| (package.manager, &package.name) == (event.manager, &event.name)) {
        shown.link(facts.presenter.placer(&package.id), Target::Package(package.id.clone()));
    }
    shown
}
