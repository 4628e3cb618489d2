//! What one installation holds.

use std::sync::Mutex;

use super::ID;
use super::deploy::{self, Deploy};
use super::installations::Base;
use super::origin;
use crate::backend::{Detail, Installation};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{
    Described, Evidence, Location, Loss, ManagerId, Offer, OfferQuery, Origin, Package, Reason, Scope, Status,
};
use whodunit_formats::key_file::KeyFile;
use whodunit_shell::syntax::pattern::fits;

/// One deployed app, runtime or extension.
#[derive(Debug)]
pub(super) struct Deployed {
    pub(super) kind: &'static str,
    pub(super) id: ByteString,
    pub(super) arch: ByteString,
    pub(super) branch: ByteString,
    /// The directory of the commit in force.
    pub(super) dir: ByteString,
    pub(super) deploy: Deploy,
    pub(super) metadata: KeyFile,
    pub(super) installed_at: Option<i64>,
    /// Whether the app's commands and launchers are those of this branch.
    pub(super) current: bool,
    pub(super) runtime_missing: bool,
}

impl Deployed {
    /// `ID/ARCH/BRANCH`.
    pub(super) fn reference(&self) -> ByteString {
        path::join(&path::join(&self.id, &self.arch), &self.branch)
    }

    pub(super) fn needs(&self) -> Option<&str> {
        self.metadata.get("Application", "runtime")
    }

    /// The app or runtime that this extends: `app` or `runtime`, and its reference.
    pub(super) fn extends(&self) -> Option<(&str, &str)> {
        self.metadata.get("ExtensionOf", "ref")?.split_once('/')
    }
}

/// One installation.
pub struct FlatpakInstallation<'s> {
    pub(super) host: &'s Host,
    pub(super) base: Base,
    pub(super) location: Location,
    pub(super) deployed: Vec<Deployed>,
    pub(super) config: KeyFile,
    pub(super) notes: Vec<Loss>,
    /// What could not be read later on.
    pub(super) late: Mutex<Vec<Loss>>,
}

impl<'s> FlatpakInstallation<'s> {
    /// Reads what is deployed.
    pub fn read(host: &'s Host, base: Base) -> Self {
        let location = Location { manager: ID, scope: base.scope.clone(), dir: base.dir.clone() };
        let mut notes = Vec::new();
        let config_file = path::join(&base.dir, b"repo/config");
        let config = match host.root.read(&config_file, Limit::SMALL) {
            Ok(content) => KeyFile::parse(&content),
            Err(error) => {
                if !error.is_missing() {
                    notes.push(Loss::unread(&error, "remotes, pins and masks are unknown"));
                }
                KeyFile::default()
            }
        };
        let mut installations =
            FlatpakInstallation { host, base, location, deployed: Vec::new(), config, notes, late: Mutex::default() };
        for kind in ["app", "runtime"] {
            installations.read_kind(kind);
        }
        installations
    }

    pub(super) fn names(&self, dir: &[u8], wanted: Kind) -> Vec<ByteString> {
        let listed = self.host.root.dir(dir).and_then(|dir| dir.list());
        let fitting = listed.unwrap_or_default().into_iter().filter(|(_, kind)| *kind == wanted);
        fitting.map(|(name, _)| name).collect()
    }

    pub(super) fn read_kind(&mut self, kind: &'static str) {
        let top = path::join(&self.base.dir, kind.as_bytes());
        for id in self.names(&top, Kind::Dir) {
            let of_id = path::join(&top, &id);
            let current = self.host.root.read_link(&path::join(&of_id, b"current")).ok();
            for arch in self.names(&of_id, Kind::Dir) {
                for branch in self.names(&path::join(&of_id, &arch), Kind::Dir) {
                    let place = path::join(&path::join(&of_id, &arch), &branch);
                    let is_current = current.as_ref().is_none_or(|current| **current == *path::join(&arch, &branch));
                    self.read_branch(kind, [&id, &arch, &branch], &place, is_current);
                }
            }
        }
    }

    pub(super) fn read_branch(
        &mut self,
        kind: &'static str,
        [id, arch, branch]: [&ByteString; 3],
        place: &ByteString,
        current: bool,
    ) {
        let root = &self.host.root;
        let active = path::join(place, b"active");
        // Without the link, a removal was interrupted: nothing is installed.
        let Ok(link) = root.entry(&active) else { return };
        let dir = root.canonicalize_dir(&active);
        let file = path::join(&dir, b"deploy");
        let deploy = match root.read(&file, Limit::SMALL) {
            Ok(content) => deploy::parse(&content),
            Err(error) if error.is_missing() => return,
            Err(error) => {
                self.notes.push(Loss::unread(&error, format!("where {id} came from is unknown")));
                None
            }
        };
        if deploy.is_none() {
            self.notes.push(Loss::damaged(
                file.clone(),
                "not what flatpak writes",
                format!("origin, version and size of {id} are unknown"),
            ));
        }
        let metadata = match root.read(&path::join(&dir, b"metadata"), Limit::SMALL) {
            Ok(content) => KeyFile::parse(&content),
            Err(error) => {
                self.notes.push(Loss::unread(&error, format!("what {id} needs is unknown")));
                KeyFile::default()
            }
        };
        let kind = match kind {
            "runtime" if metadata.has("ExtensionOf") => "extension",
            other => other,
        };
        self.deployed.push(Deployed {
            kind,
            id: id.clone(),
            arch: arch.clone(),
            branch: branch.clone(),
            dir,
            deploy: deploy.unwrap_or_default(),
            metadata,
            installed_at: Some(link.modified),
            current,
            runtime_missing: false,
        });
    }

    /// The runtimes that are here.
    pub fn runtimes(&self) -> Vec<ByteString> {
        self.deployed.iter().filter(|deployed| deployed.kind != "app").map(Deployed::reference).collect()
    }

    /// Marks the apps whose runtime is in none of the installations.
    pub fn note_missing_runtimes(&mut self, runtimes: &[ByteString]) {
        for deployed in &mut self.deployed {
            let needs = deployed.metadata.get("Application", "runtime");
            deployed.runtime_missing =
                needs.is_some_and(|needs| !runtimes.iter().any(|there| **there == *needs.as_bytes()));
        }
    }

    pub(super) fn deployed(&self, package: u32) -> &Deployed {
        &self.deployed[package as usize]
    }

    pub(super) fn id(&self, deployed: &Deployed) -> ByteString {
        let scope = &self.base.scope;
        let place = match &self.base.name {
            Some(name) => format!("{ID}/{scope}/{name}/"),
            None => format!("{ID}/{scope}/"),
        };
        [place.as_bytes(), &deployed.reference()].concat().into()
    }

    pub(super) fn status(deployed: &Deployed) -> Status {
        if deployed.runtime_missing { Status::Broken } else { Status::Installed }
    }

    pub(super) fn origin(&self, deployed: &Deployed) -> Option<Origin> {
        let name = Some(&deployed.deploy.origin).filter(|name| !name.is_empty())?;
        let url = self.config.get(&format!("remote \"{name}\""), "url").filter(|url| !url.is_empty());
        Some(origin::of_remote(self.host, name.as_str().into(), url.map(ByteString::from)))
    }

    /// Whether a remote is configured, with an address or without.
    pub(super) fn has_remote(&self, name: &str) -> bool {
        self.config.has(&format!("remote \"{name}\""))
    }

    pub(super) fn is_listed(&self, key: &str, deployed: &Deployed) -> bool {
        let kind = if deployed.kind == "app" { "app" } else { "runtime" };
        let whole = format!("{kind}/{}", deployed.reference());
        self.config.list("core", key).iter().any(|pattern| {
            let pattern = pattern.trim_end_matches("/*/*").trim_end_matches("/*");
            fits(pattern.as_bytes(), whole.as_bytes())
                || fits(pattern.as_bytes(), &deployed.reference())
                || fits(pattern.as_bytes(), &deployed.id)
        })
    }

    pub(super) fn wrapper(&self, deployed: &Deployed) -> ByteString {
        path::join(&path::join(&self.base.dir, b"exports/bin"), &deployed.id)
    }

    pub(super) fn location(&self) -> ByteString {
        self.location.dir.clone()
    }

    pub(super) fn manager(&self) -> ManagerId {
        self.location.manager
    }

    pub(super) fn scope(&self) -> Scope {
        self.location.scope.clone()
    }

    pub(super) fn remote_address(&self, name: &ByteString) -> Option<ByteString> {
        self.config.get(&format!("remote \"{name}\""), "url").filter(|url| !url.is_empty()).map(ByteString::from)
    }

    /// The commit that is deployed of a reference.
    pub(super) fn commit_of(&self, kind: &str, id: &[u8], arch: &[u8], branch: &[u8]) -> Option<&str> {
        let is_it =
            |one: &&Deployed| one.kind == kind && *one.id == *id && *one.arch == *arch && *one.branch == *branch;
        self.deployed.iter().find(is_it).map(|one| one.deploy.commit.as_str())
    }

    /// What is installed, as offers of the remotes that it came from.
    pub(super) fn installed_offers(&self, asked: &OfferQuery) -> Vec<Offer> {
        let wanted = |one: &&Deployed| match asked {
            OfferQuery::Installed => true,
            _ => asked.wants(&Described { name: &one.id, ..Described::default() }),
        };
        let offer = |one: &Deployed| {
            let version = one.deploy.version.as_deref().map(ByteString::from);
            let held = self.is_listed("xa.masked", one);
            let bare = Offer::bare(
                self.manager(),
                self.scope(),
                one.id.clone(),
                ByteString::default(),
                Some(one.arch.clone()),
                held,
            );
            let says = format!("{} is deployed", one.reference());
            Offer {
                version,
                channel: Some(one.branch.clone()),
                source: self.origin(one),
                size: Some(one.deploy.size),
                signed: self.is_verified(one.deploy.origin.as_bytes()),
                confinement: Some("sandboxed".to_owned()),
                permissions: Self::granted(&one.metadata),
                installed: true,
                evidence: vec![Evidence::at(path::join(&one.dir, b"deploy"), "origin", says)],
                ..bare
            }
        };
        self.deployed.iter().filter(wanted).map(offer).collect()
    }

    /// The names of the remotes that are in use and whose content may be listed.
    pub(super) fn remotes(&self) -> Vec<ByteString> {
        let names = self.config.groups().filter_map(|group| group.strip_prefix("remote \"")?.strip_suffix('"'));
        let is_used = |name: &&str| {
            let section = format!("remote \"{name}\"");
            let is_on = |key: &str| self.config.get(&section, key) == Some("true");
            !is_on("xa.disable") && !is_on("xa.noenumerate")
        };
        names.filter(is_used).map(ByteString::from).collect()
    }

    /// Whether what comes from a remote is only taken with a signature.
    pub(super) fn is_verified(&self, remote: &[u8]) -> Option<bool> {
        let section = format!("remote \"{}\"", ByteString::from(remote));
        self.config.has(&section).then(|| self.config.get(&section, "gpg-verify") != Some("false"))
    }

    /// What the sandbox of an app lets through, word by word.
    pub(super) fn granted(metadata: &KeyFile) -> Vec<String> {
        let kinds = [("shared", ""), ("sockets", ""), ("devices", "devices: "), ("filesystems", "files: ")];
        kinds
            .iter()
            .flat_map(|(kind, word)| metadata.list("Context", kind).into_iter().map(move |one| format!("{word}{one}")))
            .collect()
    }

    /// What the sandbox lets through, in a few words.
    pub(super) fn permissions(deployed: &Deployed) -> Option<String> {
        let kinds = ["shared", "sockets", "devices", "filesystems"];
        let granted: Vec<&str> = kinds.iter().flat_map(|kind| deployed.metadata.list("Context", kind)).collect();
        (deployed.kind == "app" && !granted.is_empty()).then(|| format!("may use {}", granted.join(", ")))
    }

    pub(super) fn package(&self, number: u32, detail: Detail) -> Package {
        let deployed = self.deployed(number);
        let is_app = deployed.kind == "app";
        let asked = is_app || self.is_listed("xa.pinned", deployed);
        let mut package = Package {
            id: self.id(deployed),
            manager: ID,
            scope: self.base.scope.clone(),
            location: self.base.dir.clone(),
            name: deployed.id.clone(),
            version: deployed.deploy.version.as_deref().map(ByteString::from),
            arch: Some(deployed.arch.clone()),
            kind: deployed.kind.to_owned(),
            channel: Some(deployed.branch.clone()),
            revision: Some(deployed.deploy.commit.as_str()).filter(|commit| !commit.is_empty()).map(ByteString::from),
            origin: self.origin(deployed),
            reason: if asked { Reason::Explicit } else { Reason::Dependency },
            held: self.is_listed("xa.masked", deployed),
            active: deployed.current,
            status: Self::status(deployed),
            confinement: Some("sandboxed".to_owned()),
            installed_at: deployed.installed_at,
            size: Some(deployed.deploy.size).filter(|size| *size > 0),
            commands: Vec::new(),
            launchers: Vec::new(),
            title: None,
            purl: None,
            evidence: if detail.evidence { self.package_evidence(number) } else { Vec::new() },
        };
        if detail.programs && is_app && deployed.current {
            let wrapper = self.wrapper(deployed);
            if self.host.root.entry(&wrapper).is_ok() {
                package.commands.push(wrapper);
            }
            let exported = self.names(&path::join(&deployed.dir, b"export/share/applications"), Kind::File);
            package.launchers = exported.into_iter().filter(|name| name.ends_with(b".desktop")).collect();
        }
        package
    }

    pub(super) fn number_where(&self, fits: impl Fn(&Deployed) -> bool) -> Option<u32> {
        self.deployed.iter().position(fits).and_then(|place| u32::try_from(place).ok())
    }
}
