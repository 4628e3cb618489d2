//! The lists that are walked through, each made of one of the questions of the command line.

use std::collections::BTreeMap;
use std::sync::OnceLock;

use clap::ValueEnum;
use whodunit_core::bytes::ByteString;
use whodunit_core::checks::{Check, CheckContext, FindingFilter, check};
use whodunit_core::model::{Event, Launcher, Severity};
use whodunit_core::queries::inventory::{Selection, Totals, totals};
use whodunit_core::queries::paths::{COMMANDS, ContextPath, paths};
use whodunit_core::queries::sources::{Sources, sources};
use whodunit_core::queries::timeline::{Span, timeline};
use whodunit_core::resolve::ResolvedContext;
use whodunit_core::survey::Survey;

use super::target::Target;
use crate::commands::launchers::of_views as launchers_of;
use crate::commands::names_in;
use crate::output::{self, Presenter};
use crate::session::Session;

/// A question, and the list below it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, ValueEnum)]
pub enum Section {
    /// What is installed by whom.
    Machine,
    /// What is wrong, by causes.
    Findings,
    /// What can be typed.
    Names,
    /// What is installed.
    Packages,
    /// What the menus show.
    Launchers,
    /// Where programs are looked up.
    Paths,
    /// Where packages come from.
    Sources,
    /// What was done when.
    Time,
}

impl Section {
    /// Every question, in the order in which they are shown.
    pub const ALL: [Section; 8] = [
        Section::Machine,
        Section::Findings,
        Section::Names,
        Section::Packages,
        Section::Launchers,
        Section::Paths,
        Section::Sources,
        Section::Time,
    ];

    /// The order in which they are read: what takes long comes last.
    pub const READING: [Section; 8] = [
        Section::Names,
        Section::Machine,
        Section::Packages,
        Section::Paths,
        Section::Launchers,
        Section::Findings,
        Section::Sources,
        Section::Time,
    ];

    /// Its place among them.
    pub fn number(self) -> usize {
        Section::ALL.iter().position(|one| *one == self).unwrap_or(0)
    }

    /// What its list has.
    pub fn noun(self) -> &'static str {
        match self {
            Section::Machine => "installation",
            Section::Findings => "cause",
            Section::Names => "name",
            Section::Packages => "package",
            Section::Launchers => "launcher",
            Section::Paths => "context",
            Section::Sources => "source",
            Section::Time => "event",
        }
    }

    /// What it is called.
    pub fn title(self) -> &'static str {
        match self {
            Section::Machine => "machine",
            Section::Findings => "findings",
            Section::Names => "names",
            Section::Packages => "packages",
            Section::Launchers => "launchers",
            Section::Paths => "paths",
            Section::Sources => "sources",
            Section::Time => "time",
        }
    }
}

/// One line of a list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Item {
    /// What it is.
    pub label: String,
    /// What tells it from others.
    pub note: String,
    /// Whether it is something to act on.
    pub is_serious: bool,
    /// What is shown of it.
    pub target: Target,
}

impl Item {
    fn new(label: impl Into<String>, note: impl Into<String>, target: Target) -> Self {
        Item { label: label.into(), note: note.into(), is_serious: false, target }
    }

    /// Whether a text is in it, in capitals or not.
    pub fn has(&self, lower: &str) -> bool {
        self.label.to_lowercase().contains(lower) || self.note.to_lowercase().contains(lower)
    }
}

/// The machine, and what was read of it so far.
pub struct Facts<'s> {
    pub session: &'s Session,
    pub survey: &'s Survey<'s>,
    pub presenter: Presenter,
    resolved: Vec<ResolvedContext>,
    totals: OnceLock<Totals>,
    check: OnceLock<Check>,
    launchers: OnceLock<Vec<Launcher>>,
    contexts: OnceLock<Vec<ContextPath>>,
    sources: OnceLock<Sources>,
    events: OnceLock<Vec<Event>>,
}

impl<'s> Facts<'s> {
    /// Reads nothing yet but the search paths.
    pub fn new(session: &'s Session, survey: &'s Survey<'s>) -> Self {
        Facts {
            session,
            survey,
            presenter: Presenter::new(&session.host, session.viewers().len(), true, &[]),
            resolved: session.all_contexts(),
            totals: OnceLock::new(),
            check: OnceLock::new(),
            launchers: OnceLock::new(),
            contexts: OnceLock::new(),
            sources: OnceLock::new(),
            events: OnceLock::new(),
        }
    }

    /// The inputs of questions about the whole machine.
    pub fn asking(&self) -> CheckContext<'_, 's> {
        CheckContext::new(self.survey, self.session.views(), &self.resolved)
    }

    pub fn totals(&self) -> &Totals {
        self.totals.get_or_init(|| totals(self.survey, &Selection::default()))
    }

    pub fn check(&self) -> &Check {
        let wanted = FindingFilter { level: Some(Severity::Note), ..FindingFilter::default() };
        self.check.get_or_init(|| check(&self.asking(), &self.session.config.for_check(), &wanted))
    }

    pub fn launchers(&self) -> &[Launcher] {
        self.launchers.get_or_init(|| launchers_of(self.session, self.survey).launchers)
    }

    pub fn contexts(&self) -> &[ContextPath] {
        self.contexts.get_or_init(|| paths(&self.session.host, &self.resolved, COMMANDS).contexts)
    }

    pub fn sources(&self) -> &Sources {
        self.sources.get_or_init(|| sources(self.survey, &[]))
    }

    /// The newest first.
    pub fn events(&self) -> &[Event] {
        self.events.get_or_init(|| {
            let mut events = timeline(self.survey, &Span::default()).events;
            events.reverse();
            events
        })
    }

    /// The list below a question.
    pub fn list(&self, section: Section) -> Vec<Item> {
        match section {
            Section::Machine => self.machine(),
            Section::Findings => self.findings(),
            Section::Names => self.names(),
            Section::Packages => self.packages(),
            Section::Launchers => {
                let item = |(at, one): (usize, &Launcher)| {
                    let name = one.name.as_ref().map_or_else(|| one.id.to_string(), |name| output::safe(name));
                    let note = if one.shown { one.id.to_string() } else { format!("{} (not shown)", one.id) };
                    Item {
                        is_serious: one.findings.iter().any(is_serious),
                        ..Item::new(name, note, Target::Launcher(at))
                    }
                };
                self.launchers().iter().enumerate().map(item).collect()
            }
            Section::Paths => {
                let item = |(at, one): (usize, &ContextPath)| {
                    let whose = one.user.as_ref().map(ToString::to_string).unwrap_or_default();
                    Item::new(one.context.word(), whose, Target::Context(at))
                };
                self.contexts().iter().enumerate().map(item).collect()
            }
            Section::Sources => {
                let one = self.sources().sources.iter().enumerate();
                one.map(|(at, one)| {
                    let source = &one.source;
                    let state = if source.enabled { "" } else { " (disabled)" };
                    let note = format!("{} {}{state}", source.manager, source.kind);
                    Item::new(source.name.to_string(), note, Target::Source(at))
                })
                .collect()
            }
            Section::Time => {
                let item = |(at, event): (usize, &Event)| {
                    let day = event.at.map_or_else(|| "at an unknown time".to_owned(), output::date);
                    let label = format!("{day}  {} {}", event.action.word(), event.name);
                    Item::new(label, event.manager.to_string(), Target::Event(at))
                };
                self.events().iter().enumerate().map(item).collect()
            }
        }
    }

    fn machine(&self) -> Vec<Item> {
        let name = self.session.host.hostname().map_or_else(|| "this machine".to_owned(), |name| name.to_string());
        let all = Item::new(name, "all of it", Target::Machine);
        let totals = self.totals().totals.iter().enumerate();
        let installations = totals.map(|(at, one)| {
            let note = format!("{} · {}", one.scope, output::count(one.packages, "package"));
            Item::new(one.manager.to_string(), note, Target::Installation(at))
        });
        std::iter::once(all).chain(installations).collect()
    }

    fn findings(&self) -> Vec<Item> {
        let groups = self.check().groups.iter().enumerate();
        let item = |(at, group): (usize, &whodunit_core::model::Group)| Item {
            is_serious: group.severity > Severity::Note,
            ..Item::new(
                format!("{:<8} {}", group.severity.word(), group.subject),
                output::safe(&group.summary),
                Target::Group(at),
            )
        };
        groups.map(item).collect()
    }

    fn names(&self) -> Vec<Item> {
        let mut first: BTreeMap<ByteString, &ByteString> = BTreeMap::new();
        for entry in &self.session.views()[0].typed().entries {
            for name in names_in(&self.session.host.root, &entry.canonical) {
                first.entry(name).or_insert(&entry.dir);
            }
        }
        let item = |(name, dir): (ByteString, &ByteString)| {
            Item::new(name.to_string(), self.presenter.path(dir), Target::Name(name))
        };
        first.into_iter().map(item).collect()
    }

    fn packages(&self) -> Vec<Item> {
        let mut items: Vec<Item> = self
            .survey
            .recorded()
            .iter()
            .map(|package| {
                let version = package.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
                let note = self.presenter.installation(package.manager, &package.scope);
                let label = format!("{}{version}", package.full_name());
                Item::new(label, note, Target::Package(package.id.clone()))
            })
            .collect();
        items.sort_by_cached_key(|item| (item.label.to_lowercase(), item.note.clone()));
        items
    }
}

fn is_serious(finding: &whodunit_core::model::Finding) -> bool {
    finding.severity > Severity::Note
}
