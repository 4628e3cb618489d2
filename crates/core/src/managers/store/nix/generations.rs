//! The generations of a profile, and what each changed.

use super::elements;
use super::installation::ProfileInstallation;
use super::profiles::Generation;
use super::roots::Alive;
use crate::backend::History;
use crate::bytes::ByteString;
use crate::model::{CommandLine, Evidence, Remedy, RemedyKind, State, StateChanges, StateItem};

impl ProfileInstallation<'_> {
    /// The start of a command that acts on the profile.
    fn nix_env(&self) -> CommandLine {
        CommandLine::new("nix-env --profile").arg(self.profile.link.clone())
    }

    /// Something where commands that act on it may be printed.
    fn has_commands(&self) -> Option<()> {
        self.store.layout.has_commands.then_some(())
    }

    fn held_at(&self, generation: &Generation) -> Option<Vec<StateItem>> {
        let note = |problem: String| self.host.root.note_gap(&generation.target, problem);
        let held = elements::read(&self.host.root, &self.store, &generation.target).map_err(note).ok()?;
        let recorded = held.recorded;
        let named = held.elements.into_iter().map(|element| {
            let (name, version) = recorded.name_and_version(&self.store, &element);
            StateItem { name, version, build: element.paths }
        });
        let mut named: Vec<StateItem> = named.collect();
        named.sort();
        Some(named)
    }
}

/// Whether a state is that of a generation.
fn is_of(generation: &Generation, state: &State) -> bool {
    generation.number.to_string().as_bytes() == &*state.number
}

impl History for ProfileInstallation<'_> {
    fn forget(&self) -> Option<Remedy> {
        self.has_commands()?;
        let remedy = Remedy::new(RemedyKind::Remove, self.nix_env().words("--delete-generations old"));
        Some(remedy.to("give them up").losing("the way back to them"))
    }

    fn forget_these(&self, states: &[&State]) -> Option<Remedy> {
        self.has_commands()?;
        let line = self.nix_env().words("--delete-generations");
        let line = states.iter().fold(line, |line, state| line.operand(state.number.clone()));
        Some(Remedy::new(RemedyKind::Remove, line).losing("the way back to them"))
    }

    fn frees(&self, states: &[&State]) -> Option<u64> {
        let is_given_up = |one: &Generation| states.iter().any(|state| is_of(one, state));
        let links: Vec<ByteString> =
            self.profile.generations(self.host).into_iter().filter(is_given_up).map(|one| one.link).collect();
        let freed =
            Alive::of(&self.host.root, &self.store).freed_without(&self.store, &links.iter().collect::<Vec<_>>());
        self.store.is_whole().then_some(freed)
    }

    fn collect(&self) -> Option<Remedy> {
        self.has_commands()?;
        Some(super::collect_garbage())
    }

    fn content(&self, state: &State) -> Option<Vec<StateItem>> {
        let generations = self.profile.generations(self.host);
        self.held_at(generations.iter().find(|one| is_of(one, state))?)
    }

    fn switch_to(&self, state: &State) -> Option<Remedy> {
        self.has_commands()?;
        let to = |number: &ByteString| self.nix_env().words("--switch-generation").arg(number.clone());
        let (current, _) = self.profile.current(self.host, self.store.layout);
        let remedy = Remedy::new(RemedyKind::Choose, to(&state.number)).to(format!("go to {}", state.number));
        let back = current.map(|number| to(&number.to_string().into()));
        Some(back.into_iter().fold(remedy, Remedy::undone_by))
    }

    fn states(&self) -> Vec<State> {
        let (current, _) = self.profile.current(self.host, self.store.layout);
        let mut before = Some(Vec::new());
        let generations = self.profile.generations(self.host);
        let states = generations.iter().map(|generation| {
            let held = self.held_at(generation);
            let mut state = State {
                manager: self.store.layout.id,
                scope: self.profile.scope.clone(),
                holder: self.profile.link.clone(),
                number: generation.number.to_string().into(),
                made_at: Some(generation.made),
                current: current == Some(generation.number),
                changes: StateChanges::default(),
                evidence: vec![Evidence::at(
                    generation.link.clone(),
                    "link",
                    format!("leads to {}", generation.target),
                )],
            };
            match (&before, &held) {
                (Some(before), Some(held)) => state.changes = StateChanges::between(before, held),
                _ => state.evidence.push(Evidence::at(generation.target.clone(), "manifest", "cannot be read")),
            }
            before = held;
            state
        });
        states.collect()
    }
}
