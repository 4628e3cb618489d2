//! AppImages: bundles of one file that no manager records. The files themselves are the record.
//!
//! They are found by their content in directories where users keep them (`PERSONAL`, `SYSTEM`), a few directories
//! deep, and behind the links in directories of programs.
//!
//! One that is not executable is listed as disabled; name and version are those of the launcher inside, or guessed.

mod found;

use std::sync::OnceLock;

use hashbrown::HashSet;

use crate::backend::index_settings::site_of;
use crate::backend::launcher_files::{LauncherFile, files_in};
use crate::backend::{Detail, FileIndex, Installation, Launching, Manager, Relations, Requirement};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::{
    Affix, Cause, CommandLine, Coverage, CoverageState, Evidence, Finding, FindingKind, Location, Loss, ManagerId,
    ManagerKind, Origin, Owner, Package, Profile, Reason, Remedy, RemedyKind, Scope, Severity, Status,
};
use whodunit_formats::bundle::{self, HEAD};
use whodunit_formats::desktop_entry::{DesktopEntry, words};

use crate::version::Scheme;
use found::{Found, links_in, look};

const ID: ManagerId = ManagerId("appimage");

/// Where users keep them, below their homes.
const PERSONAL: [&str; 7] =
    ["Applications", "AppImages", ".local/bin", "bin", "Downloads", "Desktop", ".local/share/applications"];
/// Where a machine keeps them.
const SYSTEM: [&str; 3] = ["opt", "usr/local/bin", "Applications"];
/// Directories whose links lead to bundles that are kept elsewhere.
const LINKS: [&str; 2] = [".local/bin", "bin"];

/// The manager.
#[derive(Debug)]
pub struct AppImage;

impl Manager for AppImage {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Sandbox).affix(Affix::Build)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let below = |home: &[u8], places: &[&str]| -> Vec<ByteString> {
            places.iter().map(|place| host.root.canonicalize_dir(&path::join(home, place.as_bytes()))).collect()
        };
        let mut held: Vec<Box<dyn Installation + 'h>> = Vec::new();
        for user in &host.users {
            let (dirs, links) = (below(&user.home, &PERSONAL), below(&user.home, &LINKS));
            let scope = Scope::User(user.name.clone());
            held.push(Box::new(AppImages::new(host, scope, user.home.clone(), dirs, links)));
        }
        let mut dirs = below(b"/", &SYSTEM);
        dirs.extend(host.extra_dirs.iter().map(|dir| host.root.canonicalize_dir(dir)));
        held.push(Box::new(AppImages::new(host, Scope::System, "/".into(), dirs, Vec::new())));
        held
    }
}

/// The bundles of one user, or of the machine. They are looked for on first use.
struct AppImages<'s> {
    host: &'s Host,
    location: Location,
    dirs: Vec<ByteString>,
    links: Vec<ByteString>,
    linked: OnceLock<Vec<ByteString>>,
    found: OnceLock<Vec<Found>>,
}

impl<'s> AppImages<'s> {
    fn new(host: &'s Host, scope: Scope, location: ByteString, dirs: Vec<ByteString>, links: Vec<ByteString>) -> Self {
        let location = Location { manager: ID, scope, dir: location };
        AppImages { host, location, dirs, links, linked: OnceLock::new(), found: OnceLock::new() }
    }

    fn found(&self) -> &[Found] {
        self.found.get_or_init(|| {
            let mut seen = HashSet::new();
            let mut found = look(self.host, &self.dirs, &mut seen);
            let linked = self.linked().iter().filter(|target| seen.insert((*target).clone()));
            found.extend(linked.filter_map(|target| Found::at(self.host, target)));
            found
        })
    }

    /// The files that links in directories of programs lead to.
    fn linked(&self) -> &[ByteString] {
        self.linked.get_or_init(|| links_in(self.host, &self.links).into_iter().map(|(_, target)| target).collect())
    }

    fn one(&self, package: u32) -> &Found {
        &self.found()[package as usize]
    }

    fn id(&self, found: &Found) -> ByteString {
        let below = found.path.strip_prefix(&*self.location.dir).unwrap_or(&found.path);
        let below = below.strip_prefix(b"/").unwrap_or(below);
        [format!("{ID}/{}/", self.location.scope).as_bytes(), below].concat().into()
    }

    fn status(&self, found: &Found) -> Status {
        match found.bundle.damage {
            Some(_) => Status::Broken,
            None if found.meta.mode & 0o111 != 0 => Status::Installed,
            None => Status::Disabled,
        }
    }

    /// The links that start it, and the launchers that do.
    fn starters(&self, found: &Found) -> (Vec<ByteString>, Vec<LauncherFile>) {
        let (mut links, mut launchers) = (Vec::new(), Vec::new());
        for user in &self.host.users {
            let dirs: Vec<ByteString> = LINKS.iter().map(|below| path::join(&user.home, below.as_bytes())).collect();
            let own = links_in(self.host, &dirs).into_iter().filter(|(_, target)| *target == found.path);
            links.extend(own.map(|(link, _)| link));
            for file in files_in(&self.host.root, &path::join(&user.home, b".local/share")) {
                let content = self.host.root.read(&file.path, crate::fs::Limit::SMALL).unwrap_or_default();
                let exec = DesktopEntry::parse(&content).ok().and_then(|entry| entry.text("Exec"));
                let starts = exec.and_then(|exec| words(&exec)).is_some_and(|words| {
                    words.iter().any(|word| {
                        word.starts_with('/') && self.host.root.canonicalize_dir(word.as_bytes()) == found.path
                    })
                });
                if starts {
                    launchers.push(file);
                }
            }
        }
        (links, launchers)
    }

    fn origin(found: &Found) -> Option<Origin> {
        let update = found.bundle.update.as_ref()?;
        let fields: Vec<&str> = update.split('|').collect();
        let (name, url) = match fields[..] {
            ["zsync", url, ..] => (site_of(url.as_bytes()).to_string(), Some(url.into())),
            [_, owner, project, ..] => (format!("{owner}/{project}"), None),
            _ => (update.clone(), None),
        };
        Some(Origin::third_party("publisher", name, url))
    }
}

impl Installation for AppImages<'_> {
    fn location(&self) -> &Location {
        &self.location
    }

    fn coverage(&self) -> Vec<Coverage> {
        // Where nobody has asked for bundles, or there are none, there is no installation to speak of.
        if self.found.get().is_none_or(Vec::is_empty) {
            return Vec::new();
        }
        let damaged =
            self.found().iter().filter_map(|found| Some(format!("{}: {}", found.path, found.bundle.damage.as_ref()?)));
        let notes: Vec<Loss> =
            damaged.map(|what| Loss::because(what, "name and version are guessed from its file's name")).collect();
        vec![Coverage {
            manager: Some(ID),
            scope: self.location.scope.clone(),
            location: self.location.dir.clone(),
            state: if notes.is_empty() { CoverageState::Read } else { CoverageState::Partial },
            packages: Some(self.found().len()),
            notes,
        }]
    }

    fn packages(&self, detail: Detail) -> Vec<Package> {
        let package = |(number, found): (u32, &Found)| {
            let (links, launchers) = if detail.programs { self.starters(found) } else { (Vec::new(), Vec::new()) };
            let owner = self.owner(number);
            Package {
                id: owner.id,
                manager: ID,
                scope: owner.scope,
                location: path::parent(&found.path).into(),
                name: owner.name,
                version: owner.version,
                arch: found.bundle.arch.map(ByteString::from),
                kind: "bundle".to_owned(),
                channel: None,
                revision: None,
                origin: Self::origin(found),
                reason: Reason::Explicit,
                held: false,
                active: owner.status == Status::Installed,
                status: owner.status,
                confinement: Some("none".to_owned()),
                installed_at: Some(found.meta.modified),
                size: Some(found.meta.size),
                commands: if detail.programs {
                    std::iter::once(found.path.clone()).chain(links).collect()
                } else {
                    links
                },
                launchers: launchers.into_iter().map(|file| file.id).collect(),
                title: None,
                purl: None,
                evidence: if detail.evidence { self.package_evidence(number) } else { Vec::new() },
            }
        };
        (0..).zip(self.found()).map(package).collect()
    }

    fn owner(&self, package: u32) -> Owner {
        let found = self.one(package);
        Owner {
            id: self.id(found),
            manager: ID,
            scope: self.location.scope.clone(),
            name: found.name.clone(),
            version: found.version.clone(),
            status: self.status(found),
        }
    }

    fn named(&self, name: &[u8]) -> Vec<u32> {
        let fits = |found: &Found| found.name.eq_ignore_ascii_case(name) || path::name(&found.path) == name;
        (0..).zip(self.found()).filter(|(_, found)| fits(found)).map(|(number, _)| number).collect()
    }

    fn package_evidence(&self, package: u32) -> Vec<Evidence> {
        let found = self.one(package);
        let at = |place: &str, says: String| Evidence::at(found.path.clone(), place, says);
        let mut evidence = vec![at("byte 8", format!("an AppImage of type {}", found.bundle.form))];
        if let Some((name, _)) = &found.bundle.launcher {
            evidence.push(at("launcher inside", ByteString::from(name.as_str()).to_string()));
        }
        match &found.bundle.update {
            Some(update) => evidence.push(at("update information", ByteString::from(update.as_str()).to_string())),
            None => evidence.push(at("update information", "none: no update source is recorded".to_owned())),
        }
        let signed = if found.bundle.signed { "it has a signature, which is not checked" } else { "no signature" };
        evidence.push(at("signature", signed.to_owned()));
        if found.meta.mode & 0o111 == 0 {
            evidence.push(at(
                "permissions",
                format!("mode {:04o}: not executable, so it is only a download", found.meta.mode),
            ));
        }
        if let Some(damage) = &found.bundle.damage {
            evidence.push(at("image inside", damage.clone()));
        }
        evidence
    }

    /// `unsigned-bundle`.
    fn diagnostics(&self) -> Vec<Finding> {
        let unsigned = self.found().iter().filter(|found| !found.bundle.signed && found.bundle.damage.is_none());
        let told = unsigned.map(|found| {
            let file = &found.path;
            let name = ByteString::from(path::name(file));
            Finding {
                packages: vec![self.id(found)],
                paths: vec![file.clone()],
                evidence: vec![Evidence::at(file.clone(), "signature", "no signature")],
                // All bundles of one user have this in common.
                causes: vec![Cause::Source(self.location.dir.clone())],
                ..Finding::new(
                    FindingKind::UnsignedBundle,
                    Severity::Note,
                    name,
                    format!("{file} carries no signature"),
                    "nothing in it proves who made it, or that it is complete",
                )
            }
        });
        told.collect()
    }

    fn relations(&self) -> Option<&dyn Relations> {
        Some(self)
    }

    /// There is no manager to ask: the file is all there is.
    fn remedies(&self, package: u32) -> Vec<Remedy> {
        let found = self.one(package);
        let (links, launchers) = self.starters(found);
        // Its links and launchers would lead nowhere without it.
        let files = links.into_iter().chain(launchers.into_iter().map(|file| file.path));
        let line = files.fold(CommandLine::new("rm --").arg(found.path.clone()), CommandLine::arg);
        vec![Remedy::new(RemedyKind::Remove, line).losing(format!("{}, which no source is recorded for", found.path))]
    }

    fn trees(&self) -> Vec<(u32, ByteString)> {
        (0..).zip(self.found()).map(|(number, found)| (number, found.path.clone())).collect()
    }

    /// Versions have no order of their own; Debian's is the closest to what users mean.
    fn scheme(&self) -> Scheme {
        Scheme::Debian
    }

    fn file_index(&self) -> Option<&dyn FileIndex> {
        Some(self)
    }

    fn launching(&self) -> Option<&dyn Launching> {
        Some(self)
    }
}

impl FileIndex for AppImages<'_> {
    fn domain(&self) -> Option<Vec<ByteString>> {
        Some(self.dirs.iter().chain(self.linked()).cloned().collect())
    }

    fn tree_over(&self, canonical: &[u8]) -> Option<(u32, ByteString)> {
        // Only where bundles are kept is a look at the file worth its while.
        let is_kept = self.dirs.iter().any(|dir| path::within(canonical, dir))
            || self.linked().iter().any(|target| **target == *canonical);
        if !is_kept || bundle::form(&self.host.root.read_start(canonical, HEAD).ok()?).is_none() {
            return None;
        }
        let place = self.found().iter().position(|found| *found.path == *canonical)?;
        Some((u32::try_from(place).ok()?, canonical.into()))
    }
}

impl Launching for AppImages<'_> {
    fn starts_as(&self, name: &[u8]) -> Vec<(u32, ByteString)> {
        let runnable = |number: &u32| self.status(self.one(*number)) == Status::Installed;
        self.named(name).into_iter().filter(runnable).map(|number| (number, self.one(number).path.clone())).collect()
    }
}

impl Relations for AppImages<'_> {
    // A bundle has everything in it.
    fn dependents(&self, _: &[u32]) -> Option<Vec<(u32, Evidence)>> {
        Some(Vec::new())
    }

    fn requirements(&self) -> Option<Vec<Requirement>> {
        Some(Vec::new())
    }
}
