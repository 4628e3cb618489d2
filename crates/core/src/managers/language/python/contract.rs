//! The contract's traits for an installation of pip.

use super::installation::{PythonInstallation, Shelf};
use super::record;
use crate::backend::{
    Bypass, Detail, Environment, Environments, FileIndex, FileRecords, Hint, Installation, Relations, Requirement,
    SharedDirs,
};
use crate::bytes::ByteString;
use crate::fs::Limit;
use crate::model::{
    Claimant, CommandLine, Coverage, CoverageState, Depth, Digest, Evidence, FileRecord, Location, Owner, Package,
    PathClaim, RecordPosition, Remedy, RemedyKind, Scope,
};
use crate::version::Scheme;
use crate::version::pep440;
use rayon::prelude::*;
use std::sync::Arc;

impl Installation for PythonInstallation<'_> {
    fn location(&self) -> &Location {
        &self.location
    }

    fn coverage(&self) -> Vec<Coverage> {
        let part = |shelf: &Arc<Shelf>| {
            let (site, lost) = (&shelf.site, shelf.site.all_notes());
            let state = if lost.is_empty() { CoverageState::Read } else { CoverageState::Partial };
            Coverage {
                manager: Some(Self::manager(site)),
                scope: site.place.scope.clone(),
                location: site.place.location.clone(),
                state,
                packages: Some(site.distributions.len()),
                notes: lost.into_iter().chain(self.marker_notes(shelf)).collect(),
            }
        };
        // An interpreter's directory in which nobody has installed anything is no installation.
        let is_one = |shelf: &&Arc<Shelf>| {
            let site = &shelf.site;
            // Nor is the environment of one application that its tool already tells of.
            let is_environment = matches!(site.place.scope, Scope::Environment(_)) && site.backend.is_none();
            is_environment || !site.distributions.is_empty() || !site.notes.is_empty()
        };
        self.state().shelves.iter().filter(is_one).map(part).collect()
    }

    fn packages(&self, detail: Detail) -> Vec<Package> {
        let numbered: Vec<(Arc<Shelf>, usize)> = self
            .everything()
            .into_iter()
            .flat_map(|shelf| (0..shelf.tails.len()).map(move |place| (shelf.clone(), place)))
            .collect();
        numbered.par_iter().map(|(shelf, place)| self.package(shelf, *place, detail)).collect()
    }

    fn owner(&self, package: u32) -> Owner {
        let shelf = self.shelf(package);
        Self::owner_in(&shelf, (package - shelf.base) as usize)
    }

    fn named(&self, name: &[u8]) -> Vec<u32> {
        let wanted = pep440::normal_name(name);
        let all = self.everything();
        let found = all.iter().flat_map(|shelf| {
            let fits = (shelf.base..).zip(&shelf.site.distributions).filter(|(_, one)| one.normal_name() == wanted);
            fits.map(|(number, _)| number).collect::<Vec<_>>()
        });
        found.collect()
    }

    fn package_evidence(&self, package: u32) -> Vec<Evidence> {
        self.with(package, |shelf, one| self.evidence(&shelf.site, one))
    }

    fn hints(&self) -> Vec<Hint> {
        self.all_hints()
    }

    fn remedies(&self, package: u32) -> Vec<Remedy> {
        self.with(package, |shelf, one| {
            let (site, name) = (&shelf.site, &one.name);
            let is_apart = matches!(site.place.scope, Scope::Environment(_));
            let past = if self.marker(site).is_some() && !is_apart { "--break-system-packages" } else { "" };
            let is_main = |app: &[u8]| pep440::normal_name(app) == one.normal_name();
            let (remove, upgrade) = match (&site.place.scope, &site.backend) {
                // A part of an application goes and is upgraded with it.
                (_, Some(backend)) => {
                    let tool = if backend.tool == "pipx" { "pipx" } else { "uv tool" };
                    let of_app = |verb: &str| CommandLine::new(tool).words(verb).operand(backend.name.clone());
                    let is_injected = backend.tool == "pipx" && backend.added.contains(&one.normal_name());
                    let remove = match is_injected {
                        true => Some(of_app("uninject").operand(name.clone())),
                        false => is_main(&backend.name).then(|| of_app("uninstall")),
                    };
                    (remove, Some(of_app("upgrade")))
                }
                (Scope::Environment(dir), None) if site.is_of_uv() => {
                    let of_it = |verb: &str| {
                        let line = CommandLine::new("uv pip").words(verb).words("--python").arg(dir.clone());
                        Some(line.operand(name.clone()))
                    };
                    (of_it("uninstall"), of_it("install --upgrade"))
                }
                _ => {
                    let pip = self.pip(site);
                    let of_it = |verb: &str| {
                        let line = pip.clone()?.words(verb).words(past);
                        Some(line.words("--").arg(name.clone()))
                    };
                    // pip removes nothing from a directory of the distribution's, or removes the distribution's with it.
                    let is_alone = shelf.records.is_empty();
                    // An editable one is not in any index.
                    let is_of_index = one.direct.is_none();
                    (
                        of_it("uninstall").filter(|_| is_alone),
                        of_it("install --upgrade").filter(|_| is_of_index && is_alone),
                    )
                }
            };
            let remove = remove.map(|line| Remedy::new(RemedyKind::Remove, line));
            remove.into_iter().chain(upgrade.map(|line| Remedy::new(RemedyKind::Upgrade, line))).collect()
        })
    }

    fn scheme(&self) -> Scheme {
        Scheme::Pep440
    }

    fn file_index(&self) -> Option<&dyn FileIndex> {
        Some(self)
    }

    fn file_records(&self) -> Option<&dyn FileRecords> {
        Some(self)
    }

    fn relations(&self) -> Option<&dyn Relations> {
        Some(self)
    }

    /// No distribution's manager fills a directory in a home.
    fn shared_dirs(&self) -> Option<&dyn SharedDirs> {
        self.user.is_none().then_some(self as &dyn SharedDirs)
    }

    fn environments(&self) -> Option<&dyn Environments> {
        Some(self)
    }
}

impl FileIndex for PythonInstallation<'_> {
    fn domain(&self) -> Option<Vec<ByteString>> {
        self.user.map(|_| vec![self.location.dir.clone()])
    }

    fn claims_on(&self, canonical: &[u8]) -> Vec<PathClaim> {
        if !self.is_mine(canonical) {
            return Vec::new();
        }
        let places = self.around(canonical);
        places.iter().flat_map(|shelf| shelf.site.claims_on(&self.host.root, canonical, shelf.base)).collect()
    }

    fn claim_evidence(&self, claimant: Claimant, path: &[u8], position: RecordPosition) -> Vec<Evidence> {
        let Claimant::Package(package) = claimant else { return Vec::new() };
        self.with(package, |shelf, one| {
            let mut evidence = match position.line {
                0 => vec![Evidence::at(one.metadata.clone(), "metadata", format!("a file of {}", one.name))],
                line => vec![Evidence::line(record::file(one), line, ByteString::from(path).to_string())],
            };
            evidence.extend(self.bypassed(&shelf.site));
            evidence
        })
    }

    fn digest(&self, package: u32, path: &[u8]) -> Option<Digest> {
        self.with(package, |_, one| {
            let content = self.host.root.read(&record::file(one), Limit::LIST).ok()?;
            let dir = crate::bytes::path::parent(&one.metadata);
            let mut lines = record::lines(&content);
            lines.find(|(_, line)| *self.host.root.canonicalize(&line.path(dir)) == *path)?.1.digest()
        })
    }
}

impl FileRecords for PythonInstallation<'_> {
    fn each_batch(&self, packages: Option<&[u32]>, depth: Depth, take: &mut dyn FnMut(Vec<FileRecord>)) {
        self.each_recorded(packages, depth, take);
    }
}

impl Relations for PythonInstallation<'_> {
    fn dependents(&self, removed: &[u32]) -> Option<Vec<(u32, Evidence)>> {
        self.all_dependents(removed)
    }

    fn requirements(&self) -> Option<Vec<Requirement>> {
        self.all_requirements()
    }
}

impl SharedDirs for PythonInstallation<'_> {
    fn foreign_packages(&self) -> Vec<(u32, ByteString)> {
        // What was not read has made no claim and named no package.
        let state = self.state();
        state.shelves.iter().flat_map(|shelf| (shelf.base..).zip(shelf.records.iter().cloned())).collect()
    }

    fn may_be_foreign(&self, package: u32) -> bool {
        self.with(package, |shelf, _| !shelf.records.is_empty())
    }

    fn is_among_others(&self, package: u32) -> bool {
        self.may_be_foreign(package)
    }
}

impl Environments for PythonInstallation<'_> {
    fn bypasses(&self) -> Vec<Bypass> {
        self.all_bypasses()
    }

    fn environments(&self) -> Vec<Environment> {
        self.all_environments()
    }
}
