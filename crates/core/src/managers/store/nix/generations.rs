//! The generations of a profile, and what each changed.

use super::ID;
use super::elements;
use super::installation::ProfileInstallation;
use super::profiles::Generation;
use crate::backend::History;
use crate::bytes::ByteString;
use crate::model::{Change, CommandLine, Evidence, Remedy, RemedyKind, State};

impl ProfileInstallation<'_> {
    fn held_at(&self, generation: &Generation) -> Option<Vec<Named>> {
        let held = elements::read(&self.host.root, &self.store, &generation.target).ok()?;
        let recorded = held.recorded;
        let named = held.elements.into_iter().map(|element| {
            let (name, version) = recorded.name_and_version(&self.store, &element);
            (name, version, element.paths)
        });
        let mut named: Vec<Named> = named.collect();
        named.sort();
        Some(named)
    }
}

impl History for ProfileInstallation<'_> {
    fn forget(&self) -> Option<Remedy> {
        let line = CommandLine::new("nix-env --profile").arg(self.profile.link.clone());
        let remedy = Remedy::new(RemedyKind::Remove, line.words("--delete-generations old"));
        Some(remedy.to("give them up").losing("the way back to them"))
    }

    fn states(&self) -> Vec<State> {
        let (current, _) = self.profile.current(self.host);
        let mut before = Some(Vec::new());
        let generations = self.profile.generations(self.host);
        let states = generations.iter().map(|generation| {
            let held = self.held_at(generation);
            let mut state = State {
                manager: ID,
                scope: self.profile.scope.clone(),
                holder: self.profile.link.clone(),
                number: generation.number.to_string().into(),
                made_at: Some(generation.made),
                current: current == Some(generation.number),
                added: Vec::new(),
                removed: Vec::new(),
                changed: Vec::new(),
                evidence: vec![Evidence::at(
                    generation.link.clone(),
                    "link",
                    format!("leads to {}", generation.target),
                )],
            };
            match (&before, &held) {
                (Some(before), Some(held)) => compare(before, held, &mut state),
                _ => state.evidence.push(Evidence::at(generation.target.clone(), "manifest", "cannot be read")),
            }
            before = held;
            state
        });
        states.collect()
    }
}

type Named = (ByteString, Option<ByteString>, Vec<ByteString>);

fn compare(before: &[Named], now: &[Named], state: &mut State) {
    let of = |list: &[Named], name: &ByteString| -> Vec<Named> {
        list.iter().filter(|one| one.0 == *name).cloned().collect()
    };
    let mut names: Vec<&ByteString> = before.iter().chain(now).map(|one| &one.0).collect();
    names.sort();
    names.dedup();
    for name in names {
        let (old, new) = (of(before, name), of(now, name));
        match (old.first(), new.first()) {
            (None, Some(_)) => state.added.push(name.clone()),
            (Some(_), None) => state.removed.push(name.clone()),
            // The same version from another store path was built anew.
            (Some(from), Some(to)) if old != new => {
                state.changed.push(Change { name: name.clone(), from: from.1.clone(), to: to.1.clone() });
            }
            _ => {}
        }
    }
}
