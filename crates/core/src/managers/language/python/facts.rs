//! Facts about distributions beyond their packages: files, requirements, environments, markers.

use std::cmp::Ordering;
use std::sync::Arc;

use hashbrown::HashSet;
use rayon::prelude::*;

use super::distribution::Distribution;
use super::installation::{PythonInstallation, Shelf};
use super::{record, requirements};
use crate::backend::dependency_graph::{Need, Node, Want, losers, noted};
use crate::backend::{BATCH, Bypass, Environment, Hint, Requirement};
use crate::bytes::{ByteString, path};
use crate::model::{Depth, Evidence, FileRecord, Relation, Scope};

impl PythonInstallation<'_> {
    /// The distributions that have to go when some are removed: those of the same place that require them.
    pub(super) fn all_dependents(&self, removed: &[u32]) -> Option<Vec<(u32, Evidence)>> {
        let mut found = Vec::new();
        for shelf in self.everything().iter() {
            let own: Vec<&u32> = removed.iter().filter(|number| (shelf.base..shelf.end()).contains(number)).collect();
            if own.is_empty() {
                continue;
            }
            let lost = losers(&self.nodes(shelf), removed, &|_, _| Ordering::Equal);
            let lost = noted(&self.host.root, &shelf.site.place.location, lost)?;
            found.extend(lost.into_iter().map(|(number, says)| (number, requires(shelf, number, &says))));
        }
        Some(found)
    }

    /// Who requires whom; each distribution is looked for in the place where the other one is.
    pub(super) fn all_requirements(&self) -> Option<Vec<Requirement>> {
        let of_shelf = |shelf: &Arc<Shelf>| {
            let evidence = |number: u32, need: &Need| requires(shelf, number, &need.says);
            let found = Requirement::among(&self.nodes(shelf), &|_, _| Ordering::Equal, &evidence);
            noted(&self.host.root, &shelf.site.place.location, found)
        };
        let found: Option<Vec<Vec<Requirement>>> = self.everything().par_iter().map(of_shelf).collect();
        Some(found?.into_iter().flatten().collect())
    }

    /// The distributions of one place with what they require. Whether a version would do is a question of `conflicts`.
    fn nodes(&self, shelf: &Shelf) -> Vec<Node> {
        let root = &self.host.root;
        let node = |(number, one): (u32, &Distribution)| {
            let mut notes = Vec::new();
            let declared = requirements::declared(root, one.clone(), &mut notes);
            notes.iter().for_each(|(file, lost)| root.note_gap(file, lost.clone()));
            let needs = declared.requires.into_iter().map(|(_, says, requirement)| Need {
                any_of: vec![Want { name: requirement.name, version: None }],
                says: says.to_string(),
                relation: Relation::Requires,
            });
            Node { number, offers: vec![(declared.key, None)], needs: needs.collect() }
        };
        (shelf.base..).zip(&shelf.site.distributions).map(node).collect()
    }

    /// The addresses of upstream.
    pub(super) fn all_hints(&self) -> Vec<Hint> {
        let everything = self.everything();
        let distributions = everything.iter().flat_map(|shelf| &shelf.site.distributions);
        let all: Vec<&Distribution> = distributions.collect();
        let hint = |one: &&Distribution| Hint { upstream: one.upstream(&self.host.root), ..Hint::default() };
        all.par_iter().map(hint).collect()
    }

    /// Directories of interpreters that a marker leaves to another manager, with what is in them all the same.
    pub(super) fn all_bypasses(&self) -> Vec<Bypass> {
        let locations: Vec<ByteString> = self.known().iter().map(|place| place.location.clone()).collect();
        let shelves = self.read_known(&locations);
        let found = shelves.iter().filter(|shelf| !shelf.site.distributions.is_empty()).filter_map(|shelf| {
            let marker = self.bypassed(&shelf.site)?;
            let dir = shelf.site.place.location.clone();
            Some(Bypass { dir, marker, packages: (shelf.base..shelf.end()).collect() })
        });
        found.collect()
    }

    /// The environments.
    pub(super) fn all_environments(&self) -> Vec<Environment> {
        let everything = self.everything();
        let environments = everything.iter().map(|shelf| &shelf.site);
        let found = environments.filter(|site| matches!(site.place.scope, Scope::Environment(_))).map(|site| {
            let settings = site.settings.as_ref();
            // A whole interpreter is kept in a directory that is called by its version.
            let named = || ByteString::from(path::name(&site.place.location));
            Environment {
                location: site.place.location.clone(),
                dirs: site.place.dirs.clone(),
                python: site.place.python.clone(),
                base: settings.map_or_else(|| Some(named()), |settings| settings.version.clone()),
                sees_system: settings.is_some_and(|settings| settings.sees_system),
                user: self.user.map(|user| user.name.clone()),
            }
        });
        found.collect()
    }

    /// What every distribution recorded of its files, or these.
    pub(super) fn each_recorded(&self, packages: Option<&[u32]>, depth: Depth, take: &mut dyn FnMut(Vec<FileRecord>)) {
        let shelves = match packages {
            None => self.everything(),
            Some(_) => self.read_so_far(),
        };
        let of_shelf = |shelf: Arc<Shelf>| {
            (shelf.base..shelf.end()).map(move |number| (shelf.clone(), number)).collect::<Vec<_>>()
        };
        let packages: Option<HashSet<u32>> = packages.map(|packages| packages.iter().copied().collect());
        let numbered = shelves.into_iter().flat_map(of_shelf);
        let wanted: Vec<_> =
            numbered.filter(|(_, number)| packages.as_ref().is_none_or(|packages| packages.contains(number))).collect();
        let read = |(shelf, number): &(Arc<Shelf>, u32)| {
            let one = &shelf.site.distributions[(number - shelf.base) as usize];
            record::files(&self.host.root, one, &shelf.site.place.prefix, *number, depth).unwrap_or_else(|| {
                // The index notes what it cannot read.
                shelf.site.index(&self.host.root);
                Vec::new()
            })
        };
        wanted.chunks(BATCH).for_each(|some| take(some.par_iter().flat_map_iter(read).collect()));
    }
}

/// Where a distribution declares a requirement.
fn requires(shelf: &Shelf, number: u32, says: &str) -> Evidence {
    let one = &shelf.site.distributions[(number - shelf.base) as usize];
    Evidence::at(one.metadata.clone(), "requirements", format!("requires {says}"))
}
