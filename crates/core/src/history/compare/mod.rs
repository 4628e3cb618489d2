//! What differs between two snapshots.
//!
//! Things are told apart by what stays the same when they are upgraded: a package by its manager, scope and name, a
//! program by its name, user and context. Only what both snapshots could see is compared: the homes and contexts of users
//! that one of them did not look at are left out, and so is what belongs to them.

mod parts;
#[cfg(test)]
pub(super) mod tests;

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::Serialize;

use super::snapshot::Snapshot;

/// What a change is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Subject {
    /// A package.
    Package,
    /// The program that a name starts.
    Winner,
    /// A launcher.
    Launcher,
    /// A program that no manager claims.
    Unowned,
    /// A directory of a search path.
    SearchPath,
    /// A source of packages.
    Source,
    /// A numbered state.
    State,
    /// A unit or a job.
    Service,
    /// An account.
    User,
    /// A file of settings.
    File,
}

impl Subject {
    /// The word used in every output.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Subject::Package => "package",
            Subject::Winner => "winner",
            Subject::Launcher => "launcher",
            Subject::Unowned => "unowned",
            Subject::SearchPath => "search-path",
            Subject::Source => "source",
            Subject::State => "state",
            Subject::Service => "service",
            Subject::User => "user",
            Subject::File => "file",
        }
    }
}

/// How it differs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Difference {
    /// Only the second has it.
    Added,
    /// Only the first has it.
    Removed,
    /// Both have it, differently.
    Changed,
}

impl Difference {
    /// The word used in every output.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Difference::Added => "added",
            Difference::Removed => "removed",
            Difference::Changed => "changed",
        }
    }
}

/// One difference.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Change {
    /// What it is about.
    pub what: Subject,
    /// How it differs.
    pub change: Difference,
    /// The id, name or path of what differs.
    pub subject: String,
    /// What of it: `version`, `up`, `down`, `reason`, `held`, `origin` …; `null` where it came or went as a whole.
    pub of: Option<String>,
    /// What it was.
    pub from: Option<String>,
    /// What it is.
    pub to: Option<String>,
    /// In which contexts, as `USER CONTEXT`; empty where that does not matter.
    pub contexts: Vec<String>,
    /// Whose logs would tell of it.
    #[serde(skip)]
    pub(crate) traces: Vec<Trace>,
}

/// What a manager's log calls something that differs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Trace {
    /// A package, by its id.
    Package(String),
    /// A numbered state, by its manager and what its log calls the transaction.
    State(String, String),
}

/// The answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Comparison {
    /// Whether nothing differs.
    pub same: bool,
    /// Every difference.
    pub changes: Vec<Change>,
    /// What was not compared, and why.
    pub not_compared: Vec<String>,
}

/// Compares two snapshots, the earlier one first.
#[must_use]
pub fn compare(before: &Snapshot, after: &Snapshot) -> Comparison {
    let mut pair = Pair { before, after, users: BTreeSet::new(), changes: Changes::default() };
    let seen = |one: &Snapshot| one.users_seen.iter().cloned().collect::<BTreeSet<String>>();
    let (of_before, of_after) = (seen(before), seen(after));
    pair.users = of_before.intersection(&of_after).cloned().collect();
    pair.packages();
    pair.winners();
    pair.launchers();
    pair.unowned();
    pair.search_paths();
    pair.sources();
    pair.states();
    pair.services();
    pair.accounts();
    pair.files();
    let mut not_compared: Vec<String> = of_before
        .symmetric_difference(&of_after)
        .map(|user| format!("what is {user}'s: only one of the two snapshots looked at it"))
        .collect();
    let mut differs = |what: &str, a: &Option<String>, b: &Option<String>| {
        if let (Some(a), Some(b)) = (a, b)
            && a != b
        {
            not_compared.push(format!("these are different machines: {what} is {a} in one and {b} in the other"));
        }
    };
    differs("the name", &before.host, &after.host);
    let mut changes = pair.changes.0;
    changes.sort_by(|a, b| (a.what, &a.subject, a.change, &a.of).cmp(&(b.what, &b.subject, b.change, &b.of)));
    Comparison { same: changes.is_empty(), changes, not_compared }
}

/// Two snapshots, and what differs so far.
struct Pair<'p> {
    before: &'p Snapshot,
    after: &'p Snapshot,
    /// The users that both looked at.
    users: BTreeSet<String>,
    changes: Changes,
}

/// One kind of record by what stays the same.
pub(super) type Keyed<'r, R> = BTreeMap<String, &'r R>;

pub(super) fn keyed<'r, R>(records: &'r [R], key: impl Fn(&R) -> String) -> Keyed<'r, R> {
    records.iter().map(|one| (key(one), one)).collect()
}

impl Pair<'_> {
    /// Whether what is in a scope was looked at by both: the system's, or that of a user whom both saw.
    fn sees(&self, scope: &str) -> bool {
        scope.strip_prefix("user:").is_none_or(|user| self.users.contains(user))
    }
}

impl Change {
    /// A difference as a whole, wherever it matters.
    fn new(what: Subject, change: Difference, subject: String, from: Option<String>, to: Option<String>) -> Self {
        let traces = if what == Subject::Package { vec![Trace::Package(subject.clone())] } else { Vec::new() };
        Change { what, change, subject, of: None, from, to, contexts: Vec::new(), traces }
    }
}

/// The packages that something belongs to, each once.
pub(super) fn traces<'o>(owners: impl Iterator<Item = &'o String>) -> Vec<Trace> {
    let mut found: Vec<Trace> = owners.map(|owner| Trace::Package(owner.clone())).collect();
    found.dedup();
    found
}

/// What differs so far.
#[derive(Debug, Default)]
pub(super) struct Changes(pub(super) Vec<Change>);

impl Changes {
    fn add(&mut self, what: Subject, change: Difference, subject: &str, from: Option<String>, to: Option<String>) {
        self.0.push(Change::new(what, change, subject.to_owned(), from, to));
    }

    /// Adds a difference of one part, if there is one.
    pub(super) fn part(&mut self, what: Subject, subject: &str, of: &str, from: Option<&str>, to: Option<&str>) {
        if from != to {
            let owned = |text: Option<&str>| text.map(str::to_owned);
            let change = Change::new(what, Difference::Changed, subject.to_owned(), owned(from), owned(to));
            self.0.push(Change { of: Some(of.to_owned()), ..change });
        }
    }

    /// The same where a side that is not known is no difference.
    pub(super) fn known_part(
        &mut self,
        what: Subject,
        subject: &str,
        of: &str,
        from: Option<&String>,
        to: Option<&String>,
    ) {
        if let (Some(from), Some(to)) = (from, to) {
            self.part(what, subject, of, Some(from), Some(to));
        }
    }

    /// The same as [`Changes::each`], of records that belong to packages.
    pub(super) fn each_owned<R>(
        &mut self,
        what: Subject,
        (before, after): (&Keyed<'_, R>, &Keyed<'_, R>),
        owner: fn(&R) -> Option<&String>,
        shown: &dyn Fn(&R) -> Option<String>,
        both: &mut dyn FnMut(&mut Self, &str, &R, &R),
    ) {
        let start = self.0.len();
        self.each(what, (before, after), shown, both);
        for change in &mut self.0[start..] {
            let records = [before, after].into_iter().filter_map(|side| side.get(&change.subject));
            change.traces = traces(records.filter_map(|record| owner(record)));
        }
    }

    /// Pairs records; tells those that only one has, and hands the others to `both`.
    pub(super) fn each<R>(
        &mut self,
        what: Subject,
        (before, after): (&Keyed<'_, R>, &Keyed<'_, R>),
        shown: &dyn Fn(&R) -> Option<String>,
        both: &mut dyn FnMut(&mut Self, &str, &R, &R),
    ) {
        for (key, old) in before {
            match after.get(key) {
                Some(new) => both(self, key, old, new),
                None => self.add(what, Difference::Removed, key, shown(old), None),
            }
        }
        for (key, new) in after.iter().filter(|(key, _)| !before.contains_key(*key)) {
            self.add(what, Difference::Added, key, None, shown(new));
        }
    }
}
