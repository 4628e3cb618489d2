//! What is compared of each kind of record.

use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};

use super::{Change, Difference, Keyed, Pair, Subject, Trace, keyed, traces};
use crate::history::snapshot::{FileRecord, LauncherRecord, PackageRecord, PathRecord, Snapshot, SourceRecord};
use crate::model::state_name;
use crate::version::tokens;

/// What is alike in several contexts: the subject, what it was and is, and how it differs.
type Alike = (String, Option<String>, Option<String>, Difference);

impl Pair<'_> {
    pub(super) fn packages(&mut self) {
        let (mut before, mut after) = (packages(self.before), packages(self.after));
        before.retain(|_, one| self.sees(&one.scope));
        after.retain(|_, one| self.sees(&one.scope));
        pair_renamed(&mut before, &mut after);
        let version = |one: &PackageRecord| match one.status.as_str() {
            "installed" => one.version.clone(),
            status => Some(format!("{} ({status})", one.version.clone().unwrap_or_default())),
        };
        self.changes.each(Subject::Package, (&before, &after), &version, &mut |changes, key, old, new| {
            let what = Subject::Package;
            let (from, to) = (old.version.as_deref(), new.version.as_deref());
            let way = match from.zip(to).map(|(from, to)| tokens::compare(from.as_bytes(), to.as_bytes())) {
                Some(Ordering::Less) => "up",
                Some(Ordering::Greater) => "down",
                _ => "version",
            };
            changes.part(what, key, way, from, to);
            // What is rebuilt at the same version is another build only where its manager counts builds.
            if from == to {
                changes.part(what, key, "revision", old.revision.as_deref(), new.revision.as_deref());
            }
            changes.part(what, key, "reason", Some(&old.reason), Some(&new.reason));
            let held = |is_held: bool| Some(if is_held { "held" } else { "not held" });
            changes.part(what, key, "held", held(old.held), held(new.held));
            changes.part(what, key, "status", Some(&old.status), Some(&new.status));
            changes.part(what, key, "channel", old.channel.as_deref(), new.channel.as_deref());
            let active = |is_active: bool| Some(if is_active { "in use" } else { "not in use" });
            changes.part(what, key, "active", active(old.active), active(new.active));
            // A source that is not known, because nothing was fetched, is no other source.
            changes.known_part(what, key, "origin", old.origin.as_ref(), new.origin.as_ref());
        });
    }

    /// Equal changes of one name in several contexts are one.
    pub(super) fn winners(&mut self) {
        let (before, after) = (winners(self.before, &self.users), winners(self.after, &self.users));
        let keys: BTreeSet<&(String, String)> = before.keys().chain(after.keys()).collect();
        let mut found: BTreeMap<_, (Vec<Trace>, Vec<String>)> = BTreeMap::new();
        let there: BTreeSet<&str> = self.after.packages.iter().map(|one| one.id.as_str()).collect();
        // A context that one of the snapshots did not work out is not compared.
        let of_both: BTreeSet<&str> = {
            let contexts = |all: &'_ [PathRecord]| all.iter().map(context_of).collect::<BTreeSet<String>>();
            let (a, b) = (contexts(&self.before.search_paths), contexts(&self.after.search_paths));
            before
                .keys()
                .chain(after.keys())
                .map(|(_, context)| context.as_str())
                .filter(|context| a.contains(*context) && b.contains(*context))
                .collect()
        };
        for key in keys.into_iter().filter(|(_, context)| of_both.contains(context.as_str())) {
            let (from, to) = (before.get(key), after.get(key));
            if from.map(|one| (&one.0, &one.1)) != to.map(|one| (&one.0, &one.1)) {
                let shown = |one: &(String, Option<String>)| match &one.1 {
                    Some(owner) => format!("{} ({owner})", one.0),
                    None => format!("{} (unowned)", one.0),
                };
                // Where a program of nobody's starts now, its package has to do with that only if it went.
                let is_strangers = to.is_some_and(|one| one.1.is_none());
                let counts = |owner: &&String| !is_strangers || !there.contains(owner.as_str());
                let owners = [from, to].into_iter().flatten().filter_map(|one| one.1.as_ref().filter(counts));
                let entry = found.entry((key.0.clone(), from.map(shown), to.map(shown)));
                entry.or_insert_with(|| (traces(owners), Vec::new())).1.push(key.1.clone());
            }
        }
        for ((name, from, to), (traces, contexts)) in found {
            let change = match (&from, &to) {
                (None, _) => Difference::Added,
                (_, None) => Difference::Removed,
                _ => Difference::Changed,
            };
            let change = Change::new(Subject::Winner, change, name, from, to);
            self.changes.0.push(Change { contexts, traces, ..change });
        }
    }

    pub(super) fn launchers(&mut self) {
        let key = |one: &LauncherRecord| match one.users.as_slice() {
            [] => one.id.clone(),
            users => format!("{} ({})", one.id, users.join(", ")),
        };
        let (before, after) = (keyed(&self.before.launchers, key), keyed(&self.after.launchers, key));
        self.changes.each_owned(
            Subject::Launcher,
            (&before, &after),
            |one| one.owner.as_ref(),
            &|one| Some(one.file.clone()),
            &mut |changes, key, old, new| {
                let what = Subject::Launcher;
                changes.part(what, key, "file", Some(&old.file), Some(&new.file));
                changes.part(what, key, "name", old.name.as_deref(), new.name.as_deref());
                let shown = |is_shown: bool| Some(if is_shown { "shown" } else { "not shown" });
                changes.part(what, key, "shown", shown(old.shown), shown(new.shown));
                changes.part(what, key, "starts", old.starts.as_deref(), new.starts.as_deref());
            },
        );
    }

    pub(super) fn unowned(&mut self) {
        let (before, after) =
            (keyed(&self.before.unowned, |one| one.path.clone()), keyed(&self.after.unowned, |one| one.path.clone()));
        self.changes.each(
            Subject::Unowned,
            (&before, &after),
            &|one| Some(one.kind.clone()),
            &mut |changes, key, old, new| {
                changes.part(Subject::Unowned, key, "content", old.content.as_deref(), new.content.as_deref());
            },
        );
    }

    pub(super) fn search_paths(&mut self) {
        let (before, after) = (&self.before.search_paths, &self.after.search_paths);
        let key = |one: &PathRecord| context_of(one);
        let (before, after) = (keyed(before, key), keyed(after, key));
        // Lists that change in the same way are one change.
        let mut found: BTreeMap<Alike, Vec<String>> = BTreeMap::new();
        for (context, old) in &before {
            let Some(new) = after.get(context) else { continue };
            let dirs = |one: &PathRecord| one.entries.iter().map(|(dir, _)| dir.clone()).collect::<Vec<_>>();
            let (from, to) = (dirs(old), dirs(new));
            if from == to {
                continue;
            }
            let has = |list: &[String], dir: &String| list.contains(dir);
            let place = |one: &PathRecord, dir: &String| {
                one.entries.iter().find(|(known, _)| known == dir).map(|(_, place)| place.clone())
            };
            for dir in from.iter().filter(|dir| !has(&to, dir)) {
                let key = (dir.clone(), place(old, dir), None, Difference::Removed);
                found.entry(key).or_default().push(context.clone());
            }
            for dir in to.iter().filter(|dir| !has(&from, dir)) {
                let key = (dir.clone(), None, place(new, dir), Difference::Added);
                found.entry(key).or_default().push(context.clone());
            }
            let common = |list: &[String], other: &[String]| {
                list.iter().filter(|dir| has(other, dir)).cloned().collect::<Vec<_>>()
            };
            if common(&from, &to) != common(&to, &from) {
                let key = ("the order".to_owned(), Some(from.join(":")), Some(to.join(":")), Difference::Changed);
                found.entry(key).or_default().push(context.clone());
            }
        }
        for ((subject, from, to, change), contexts) in found {
            self.changes.0.push(Change { contexts, ..Change::new(Subject::SearchPath, change, subject, from, to) });
        }
    }

    pub(super) fn sources(&mut self) {
        let key = |one: &SourceRecord| format!("{} {}", one.manager, one.name);
        let (mut before, mut after) = (keyed(&self.before.sources, key), keyed(&self.after.sources, key));
        before.retain(|_, one| self.sees(&one.scope));
        after.retain(|_, one| self.sees(&one.scope));
        self.changes.each(Subject::Source, (&before, &after), &|one| one.url.clone(), &mut |changes, key, old, new| {
            let what = Subject::Source;
            changes.part(what, key, "address", old.url.as_deref(), new.url.as_deref());
            let used = |is_used: bool| Some(if is_used { "used" } else { "not used" });
            changes.part(what, key, "enabled", used(old.enabled), used(new.enabled));
            changes.part(what, key, "signed", Some(&old.signed), Some(&new.signed));
        });
    }

    /// Which state is in force; old ones come and go.
    pub(super) fn states(&mut self) {
        let current = |all: &Snapshot| {
            let in_force = all.states.iter().filter(|state| state.current);
            in_force
                .map(|state| ((state.manager.clone(), state.holder.clone()), state.number.clone()))
                .collect::<BTreeMap<(String, String), String>>()
        };
        let (before, after) = (current(self.before), current(self.after));
        for (holder, from) in &before {
            let Some(to) = after.get(holder) else { continue };
            let start = self.changes.0.len();
            self.changes.part(Subject::State, &format!("{} {}", holder.0, holder.1), "number", Some(from), Some(to));
            let trace = || Trace::State(holder.0.clone(), state_name(&holder.1, to));
            self.changes.0[start..].iter_mut().for_each(|change| change.traces = vec![trace()]);
        }
    }

    pub(super) fn services(&mut self) {
        let (mut before, mut after) = (
            keyed(&self.before.services, |one| format!("{} {}", one.scope, one.name)),
            keyed(&self.after.services, |one| format!("{} {}", one.scope, one.name)),
        );
        before.retain(|_, one| self.sees(&one.scope));
        after.retain(|_, one| self.sees(&one.scope));
        self.changes.each_owned(
            Subject::Service,
            (&before, &after),
            |one| one.owner.as_ref(),
            &|one| Some(one.file.clone()),
            &mut |changes, key, old, new| {
                let starts =
                    |is_enabled: bool| Some(if is_enabled { "starts by itself" } else { "does not start by itself" });
                changes.part(Subject::Service, key, "enabled", starts(old.enabled), starts(new.enabled));
                changes.part(Subject::Service, key, "file", Some(&old.file), Some(&new.file));
            },
        );
    }

    pub(super) fn accounts(&mut self) {
        let (before, after) =
            (keyed(&self.before.users, |one| one.name.clone()), keyed(&self.after.users, |one| one.name.clone()));
        self.changes.each(
            Subject::User,
            (&before, &after),
            &|one| Some(one.uid.to_string()),
            &mut |changes, key, old, new| {
                let what = Subject::User;
                changes.part(what, key, "number", Some(&old.uid.to_string()), Some(&new.uid.to_string()));
                changes.part(what, key, "home", Some(&old.home), Some(&new.home));
                changes.part(what, key, "shell", Some(&old.shell), Some(&new.shell));
            },
        );
    }

    pub(super) fn files(&mut self) {
        let unseen: Vec<String> = {
            let homes = |one: &Snapshot| {
                let users = one.users.iter().filter(|user| !self.users.contains(&user.name));
                users.map(|user| format!("{}/", user.home)).collect::<Vec<_>>()
            };
            homes(self.before).into_iter().chain(homes(self.after)).collect()
        };
        let is_seen = |path: &String| !unseen.iter().any(|home| home.len() > 1 && path.starts_with(home.as_str()));
        let (mut before, mut after) =
            (keyed(&self.before.files, |one| one.path.clone()), keyed(&self.after.files, |one| one.path.clone()));
        before.retain(|path, _| is_seen(path));
        after.retain(|path, _| is_seen(path));
        let owner: fn(&FileRecord) -> Option<&String> = |one| one.owner.as_ref();
        self.changes.each_owned(Subject::File, (&before, &after), owner, &|_| None, &mut |changes, key, old, new| {
            // What one of them could not read is not known to differ.
            changes.known_part(Subject::File, key, "content", old.content.as_ref(), new.content.as_ref());
        });
    }
}

/// A context, as `USER CONTEXT`.
fn context_of(one: &PathRecord) -> String {
    match &one.user {
        Some(user) => format!("{user} {}", one.context),
        None => one.context.clone(),
    }
}

fn packages(snapshot: &Snapshot) -> Keyed<'_, PackageRecord> {
    keyed(&snapshot.packages, |one| one.id.clone())
}

/// Some ids hold a version. What only one has of a name, on either side, is one package that changed.
fn pair_renamed<'r>(before: &mut Keyed<'r, PackageRecord>, after: &mut Keyed<'r, PackageRecord>) {
    let name = |one: &PackageRecord| {
        (one.manager.clone(), one.scope.clone(), one.name.clone(), one.arch.clone(), one.channel.clone())
    };
    let mut gone: BTreeMap<_, Vec<String>> = BTreeMap::new();
    let mut new: BTreeMap<_, Vec<String>> = BTreeMap::new();
    for (key, one) in before.iter().filter(|(key, _)| !after.contains_key(*key)) {
        gone.entry(name(one)).or_default().push(key.clone());
    }
    for (key, one) in after.iter().filter(|(key, _)| !before.contains_key(*key)) {
        new.entry(name(one)).or_default().push(key.clone());
    }
    for (name, keys) in gone {
        if let ([old], Some([now])) = (keys.as_slice(), new.get(&name).map(Vec::as_slice))
            && let Some(one) = before.remove(old)
        {
            before.insert(now.clone(), one);
        }
    }
}

/// The program of each name in each context of the users that count.
fn winners(snapshot: &Snapshot, users: &BTreeSet<String>) -> BTreeMap<(String, String), (String, Option<String>)> {
    let is_seen = |context: &str| context.split_once(' ').is_none_or(|(user, _)| users.contains(user));
    let mut found = BTreeMap::new();
    for one in &snapshot.winners {
        for context in one.contexts.iter().filter(|context| is_seen(context)) {
            found.insert((one.name.clone(), context.clone()), (one.path.clone(), one.owner.clone()));
        }
    }
    found
}
