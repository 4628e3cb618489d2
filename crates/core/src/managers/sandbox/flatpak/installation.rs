//! What one installation holds.

use std::cmp::Ordering;
use std::sync::{Mutex, PoisonError};

use super::ID;
use super::deploy::{self, Deploy};
use super::installations::Base;
use crate::backend::{Catalogue, Detail, FileIndex, Hint, Installation, Launching, Relations};
use crate::bytes::{ByteString, path, shell_word};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{
    Coverage, CoverageState, Evidence, ExecTarget, Location, ManagerId, Offer, OfferQuery, Origin, Owner, Package,
    PathClaim, Reason, Remedy, RemedyKind, Scope, Status,
};
use crate::version::debian;
use whodunit_formats::key_file::KeyFile;
use whodunit_shell::syntax::pattern::fits;

/// One deployed app, runtime or extension.
#[derive(Debug)]
struct Deployed {
    kind: &'static str,
    id: ByteString,
    arch: ByteString,
    branch: ByteString,
    /// The directory of the commit in force.
    dir: ByteString,
    deploy: Deploy,
    metadata: KeyFile,
    installed_at: Option<i64>,
    /// Whether the app's commands and launchers are those of this branch.
    current: bool,
    runtime_missing: bool,
}

impl Deployed {
    /// `ID/ARCH/BRANCH`.
    fn reference(&self) -> ByteString {
        path::join(&path::join(&self.id, &self.arch), &self.branch)
    }

    fn needs(&self) -> Option<&str> {
        self.metadata.get("Application", "runtime")
    }
}

/// One installation.
pub struct FlatpakInstallation<'s> {
    pub(super) host: &'s Host,
    base: Base,
    location: Location,
    deployed: Vec<Deployed>,
    config: KeyFile,
    notes: Vec<String>,
    /// What could not be read later on.
    late: Mutex<Vec<String>>,
}

impl<'s> FlatpakInstallation<'s> {
    /// Reads what is deployed.
    pub fn read(host: &'s Host, base: Base) -> Self {
        let location = Location { manager: ID, scope: base.scope.clone(), location: base.dir.clone() };
        let mut notes = Vec::new();
        let config_file = path::join(&base.dir, b"repo/config");
        let config = match host.root.read(&config_file, Limit::SMALL) {
            Ok(content) => KeyFile::parse(&content),
            Err(error) => {
                if !error.is_missing() {
                    notes.push(format!("{error}: remotes, pins and masks are unknown"));
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

    fn names(&self, dir: &[u8], wanted: Kind) -> Vec<ByteString> {
        let listed = self.host.root.dir(dir).and_then(|dir| dir.list());
        let fitting = listed.unwrap_or_default().into_iter().filter(|(_, kind)| *kind == wanted);
        fitting.map(|(name, _)| name).collect()
    }

    fn read_kind(&mut self, kind: &'static str) {
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

    fn read_branch(
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
                self.notes.push(format!("{error}: where {id} came from is unknown"));
                None
            }
        };
        if deploy.is_none() {
            self.notes.push(format!("{file}: not what flatpak writes; origin, version and size of {id} are unknown"));
        }
        let metadata = match root.read(&path::join(&dir, b"metadata"), Limit::SMALL) {
            Ok(content) => KeyFile::parse(&content),
            Err(error) => {
                self.notes.push(format!("{error}: what {id} needs is unknown"));
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

    fn deployed(&self, package: u32) -> &Deployed {
        &self.deployed[package as usize]
    }

    fn id(&self, deployed: &Deployed) -> ByteString {
        let scope = &self.base.scope;
        let place = match &self.base.name {
            Some(name) => format!("{ID}/{scope}/{name}/"),
            None => format!("{ID}/{scope}/"),
        };
        [place.as_bytes(), &deployed.reference()].concat().into()
    }

    fn status(deployed: &Deployed) -> Status {
        if deployed.runtime_missing { Status::Broken } else { Status::Installed }
    }

    fn origin(&self, deployed: &Deployed) -> Option<Origin> {
        let name = Some(&deployed.deploy.origin).filter(|name| !name.is_empty())?;
        let url = self.config.get(&format!("remote \"{name}\""), "url").filter(|url| !url.is_empty());
        Some(Origin {
            name: name.as_str().into(),
            kind: "remote".to_owned(),
            url: url.map(ByteString::from),
            trust: None,
        })
    }

    fn is_listed(&self, key: &str, deployed: &Deployed) -> bool {
        let kind = if deployed.kind == "app" { "app" } else { "runtime" };
        let whole = format!("{kind}/{}", deployed.reference());
        self.config.list("core", key).iter().any(|pattern| {
            let pattern = pattern.trim_end_matches("/*/*").trim_end_matches("/*");
            fits(pattern.as_bytes(), whole.as_bytes())
                || fits(pattern.as_bytes(), &deployed.reference())
                || fits(pattern.as_bytes(), &deployed.id)
        })
    }

    fn wrapper(&self, deployed: &Deployed) -> ByteString {
        path::join(&path::join(&self.base.dir, b"exports/bin"), &deployed.id)
    }

    pub(super) fn location(&self) -> ByteString {
        self.location.location.clone()
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
            OfferQuery::Names(_) => asked.has(&one.id),
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
                installed: true,
                evidence: vec![Evidence::at(path::join(&one.dir, b"deploy"), "origin", says)],
                ..bare
            }
        };
        self.deployed.iter().filter(wanted).map(offer).collect()
    }

    /// What the sandbox lets through, in a few words.
    fn permissions(deployed: &Deployed) -> Option<String> {
        let kinds = ["shared", "sockets", "devices", "filesystems"];
        let granted: Vec<&str> = kinds.iter().flat_map(|kind| deployed.metadata.list("Context", kind)).collect();
        (deployed.kind == "app" && !granted.is_empty()).then(|| format!("may use {}", granted.join(", ")))
    }

    fn package(&self, number: u32, detail: Detail) -> Package {
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

    fn number_where(&self, fits: impl Fn(&Deployed) -> bool) -> Option<u32> {
        self.deployed.iter().position(fits).and_then(|place| u32::try_from(place).ok())
    }
}

impl FlatpakInstallation<'_> {
    /// The package that owns the tree in which a canonical path lies, and the tree.
    fn tree_over(&self, canonical: &[u8]) -> Option<(u32, ByteString)> {
        let below = canonical.strip_prefix(&*self.host.root.canonicalize_dir(&self.base.dir))?.strip_prefix(b"/")?;
        let exported = |deployed: &Deployed| {
            deployed.kind == "app" && deployed.current && path::name(below).starts_with(&deployed.id)
        };
        let number = match below.starts_with(b"exports/") {
            true => self.number_where(exported)?,
            false => self.number_where(|deployed| path::within(canonical, &deployed.dir))?,
        };
        Some((number, self.deployed(number).dir.clone()))
    }
}

impl Installation for FlatpakInstallation<'_> {
    fn location(&self) -> &Location {
        &self.location
    }

    fn coverage(&self) -> Vec<Coverage> {
        let late = self.late.lock().unwrap_or_else(PoisonError::into_inner);
        let notes: Vec<String> = self.notes.iter().chain(&*late).cloned().collect();
        let state = if notes.is_empty() { CoverageState::Read } else { CoverageState::Partial };
        vec![Coverage {
            manager: Some(ID),
            scope: self.location.scope.clone(),
            location: self.location.location.clone(),
            state,
            packages: Some(self.deployed.len()),
            notes,
        }]
    }

    fn packages(&self, detail: Detail) -> Vec<Package> {
        (0..).zip(&self.deployed).map(|(number, _)| self.package(number, detail)).collect()
    }

    fn owner(&self, package: u32) -> Owner {
        let deployed = self.deployed(package);
        Owner {
            id: self.id(deployed),
            manager: ID,
            scope: self.base.scope.clone(),
            name: deployed.id.clone(),
            version: deployed.deploy.version.as_deref().map(ByteString::from),
            status: Self::status(deployed),
        }
    }

    fn named(&self, name: &[u8]) -> Vec<u32> {
        let numbered = (0..).zip(&self.deployed);
        let mut found: Vec<u32> = numbered
            .filter(|(_, deployed)| *deployed.id == *name || *deployed.reference() == *name)
            .map(|(n, _)| n)
            .collect();
        // The branch that `flatpak run` takes comes first.
        found.sort_by_key(|&number| !self.deployed(number).current);
        found
    }

    fn hints(&self) -> Vec<Hint> {
        let of_one = |deployed: &Deployed| Hint {
            starts: deployed.metadata.get("Application", "command").map(ByteString::from).into_iter().collect(),
            ..Hint::default()
        };
        self.deployed.iter().map(of_one).collect()
    }

    fn package_evidence(&self, package: u32) -> Vec<Evidence> {
        let deployed = self.deployed(package);
        let file = path::join(&deployed.dir, b"deploy");
        let says = |text: &str| ByteString::from(text).to_string();
        let mut evidence =
            vec![Evidence::at(file.clone(), "field 1", format!("origin {}", says(&deployed.deploy.origin)))];
        let metadata = path::join(&deployed.dir, b"metadata");
        if let Some(origin) = self.origin(deployed).filter(|origin| origin.url.is_none()) {
            let config = path::join(&self.base.dir, b"repo/config");
            let says = format!("no remote {} with an address: it gets no updates", origin.name);
            evidence.push(Evidence::at(config, "remotes", says));
        }
        if let Some(reason) = &deployed.deploy.end_of_life {
            evidence.push(Evidence::at(file, "key eol", says(reason)));
        }
        if let Some(needs) = deployed.needs() {
            let missing = if deployed.runtime_missing { ", which is not installed" } else { "" };
            evidence.push(Evidence::at(metadata.clone(), "key runtime", format!("needs {}{missing}", says(needs))));
        }
        if let Some(granted) = Self::permissions(deployed) {
            evidence.push(Evidence::at(metadata, "group Context", says(&granted)));
        }
        for user in &self.host.users {
            let data = path::join(&path::join(&user.home, b".var/app"), &deployed.id);
            let is_theirs =
                matches!(&self.base.scope, Scope::System) || self.base.scope == Scope::User(user.name.clone());
            if deployed.kind == "app" && is_theirs && self.host.root.entry(&data).is_ok() {
                evidence.push(Evidence::directory(data, format!("data of {}", user.name)));
            }
        }
        evidence
    }

    fn remedies(&self, package: u32) -> Vec<Remedy> {
        let deployed = self.deployed(package);
        let (option, reference) = (self.base.option(), deployed.reference());
        vec![Remedy::new(RemedyKind::Remove, format!("flatpak uninstall {option} {reference}"))]
    }

    /// Versions here are free text without an order of their own; Debian's is the closest to what users mean.
    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        debian::compare(a, b)
    }

    fn file_index(&self) -> Option<&dyn FileIndex> {
        Some(self)
    }

    fn catalogue(&self) -> Option<&dyn Catalogue> {
        Some(self)
    }

    fn relations(&self) -> Option<&dyn Relations> {
        Some(self)
    }

    fn launching(&self) -> Option<&dyn Launching> {
        Some(self)
    }
}

impl FileIndex for FlatpakInstallation<'_> {
    fn claims_on(&self, canonical: &[u8]) -> Vec<PathClaim> {
        self.tree_over(canonical).map(|(package, tree)| PathClaim::tree(package, tree)).into_iter().collect()
    }
}

impl Catalogue for FlatpakInstallation<'_> {
    fn offers(&self, asked: &OfferQuery) -> Vec<Offer> {
        let (offers, lost) = self.all_offers(asked);
        self.late.lock().unwrap_or_else(PoisonError::into_inner).extend(lost);
        offers
    }

    fn unhold_command(&self, package: &[u8]) -> Option<String> {
        Some(format!("flatpak mask {} --remove {}", self.base.option(), shell_word(package)))
    }

    fn install_command(&self, offer: &Offer) -> Option<String> {
        let remote = shell_word(&offer.source.as_ref()?.name);
        let branch = offer.channel.as_ref().map(|branch| [b"//", &**branch].concat()).unwrap_or_default();
        let reference = shell_word(&[&*offer.name, &branch].concat());
        Some(format!("flatpak install {} {remote} {reference}", self.base.option()))
    }
}

impl Relations for FlatpakInstallation<'_> {
    fn dependents(&self, removed: &[u32]) -> Option<Vec<(u32, Evidence)>> {
        let gone: Vec<ByteString> = removed.iter().map(|number| self.deployed(*number).reference()).collect();
        let users = (0..).zip(&self.deployed).filter(|(number, _)| !removed.contains(number));
        let found = users.filter_map(|(number, deployed)| {
            let needs = deployed.needs().filter(|needs| gone.iter().any(|gone| **gone == *needs.as_bytes()))?;
            let file = path::join(&deployed.dir, b"metadata");
            Some((number, Evidence::at(file, "key runtime", format!("needs {needs}"))))
        });
        Some(found.collect())
    }
}

impl Launching for FlatpakInstallation<'_> {
    fn exec_target(&self, canonical: &[u8]) -> Option<ExecTarget> {
        // The exported command is a link into the deployment, where the wrapper itself lies.
        let is_wrapper = |deployed: &Deployed| {
            let wrapper = path::join(&path::join(&deployed.dir, b"export/bin"), &deployed.id);
            deployed.kind == "app" && *wrapper == *canonical
        };
        let number = self.number_where(is_wrapper)?;
        let deployed = self.deployed(number);
        let command = deployed.metadata.get("Application", "command")?;
        Some(ExecTarget::wrapper(path::join(&path::join(&deployed.dir, b"files/bin"), command.as_bytes())))
    }

    fn launcher_dirs(&self) -> Vec<(ByteString, String)> {
        let how = "a login adds it, by /etc/profile.d/flatpak.sh or the session's environment generators".to_owned();
        vec![(path::join(&self.base.dir, b"exports/share"), how)]
    }

    fn started_by(&self, words: &[String]) -> Option<u32> {
        let flatpak = words.iter().position(|word| word == "flatpak" || word.ends_with("/flatpak"))?;
        let mut rest = words[flatpak + 1..].iter();
        if rest.next()? != "run" {
            return None;
        }
        let (mut branch, mut id) = (None, None);
        for word in rest {
            match word.strip_prefix("--branch=") {
                Some(named) => branch = Some(named),
                None if word.starts_with('-') => {}
                None => {
                    id = Some(word);
                    break;
                }
            }
        }
        let id = id?;
        self.number_where(|deployed| {
            deployed.kind == "app"
                && *deployed.id == *id.as_bytes()
                && branch.map_or(deployed.current, |branch| *deployed.branch == *branch.as_bytes())
        })
    }

    fn starts_as(&self, name: &[u8]) -> Vec<(u32, ByteString)> {
        let is_meant = |deployed: &Deployed| {
            let last = deployed.id.rsplit(|&b| b == b'.').next().unwrap_or_default();
            deployed.kind == "app"
                && deployed.current
                && (*deployed.id == *name
                    || last.eq_ignore_ascii_case(name)
                    || deployed
                        .metadata
                        .get("Application", "command")
                        .is_some_and(|command| command.as_bytes() == name))
        };
        let numbered = (0..).zip(&self.deployed).filter(|(_, deployed)| is_meant(deployed));
        numbered.map(|(number, deployed)| (number, format!("flatpak run {}", deployed.id).into())).collect()
    }
}
