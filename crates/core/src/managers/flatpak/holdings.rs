//! What one installation holds.

use std::cmp::Ordering;
use std::sync::{Mutex, PoisonError};

use super::ID;
use super::deploy::{self, Deploy};
use super::installations::Base;
use crate::formats::key_file::KeyFile;
use crate::managers::{Detail, Hint, Holdings, fits};
use crate::model::{
    Asked, Coverage, CoverageState, Evidence, Installation, Lead, ManagerId, Offer, Origin, Owner, Package, PathClaim,
    Reason, Remedy, Scope, Status,
};
use crate::root::{Kind, Limit};
use crate::scene::Scene;
use crate::text::{Text, path, shell_word};
use crate::version::debian;

/// One deployed app, runtime or extension.
#[derive(Debug)]
struct Deployed {
    kind: &'static str,
    id: Text,
    arch: Text,
    branch: Text,
    /// The folder of the commit in force.
    folder: Text,
    deploy: Deploy,
    metadata: KeyFile,
    installed_at: Option<i64>,
    /// Whether the app's commands and launchers are those of this branch.
    current: bool,
    runtime_missing: bool,
}

impl Deployed {
    /// `ID/ARCH/BRANCH`.
    fn reference(&self) -> Text {
        path::join(&path::join(&self.id, &self.arch), &self.branch)
    }

    fn needs(&self) -> Option<&str> {
        self.metadata.get("Application", "runtime")
    }
}

/// One installation.
pub struct FlatpakHoldings<'s> {
    pub(super) scene: &'s Scene,
    base: Base,
    installation: Installation,
    deployed: Vec<Deployed>,
    config: KeyFile,
    notes: Vec<String>,
    /// What could not be read later on.
    late: Mutex<Vec<String>>,
}

impl<'s> FlatpakHoldings<'s> {
    /// Reads what is deployed.
    pub fn read(scene: &'s Scene, base: Base) -> Self {
        let installation = Installation { manager: ID, scope: base.scope.clone(), location: base.folder.clone() };
        let mut notes = Vec::new();
        let config_file = path::join(&base.folder, b"repo/config");
        let config = match scene.root.read(&config_file, Limit::SMALL) {
            Ok(content) => KeyFile::parse(&content),
            Err(error) => {
                if !error.is_missing() {
                    notes.push(format!("{error}: remotes, pins and masks are not known"));
                }
                KeyFile::default()
            }
        };
        let mut holdings =
            FlatpakHoldings { scene, base, installation, deployed: Vec::new(), config, notes, late: Mutex::default() };
        for kind in ["app", "runtime"] {
            holdings.read_kind(kind);
        }
        holdings
    }

    fn names(&self, folder: &[u8], wanted: Kind) -> Vec<Text> {
        let listed = self.scene.root.folder(folder).and_then(|folder| folder.list());
        let fitting = listed.unwrap_or_default().into_iter().filter(|(_, kind)| *kind == wanted);
        fitting.map(|(name, _)| name).collect()
    }

    fn read_kind(&mut self, kind: &'static str) {
        let top = path::join(&self.base.folder, kind.as_bytes());
        for id in self.names(&top, Kind::Folder) {
            let of_id = path::join(&top, &id);
            let current = self.scene.root.read_link(&path::join(&of_id, b"current")).ok();
            for arch in self.names(&of_id, Kind::Folder) {
                for branch in self.names(&path::join(&of_id, &arch), Kind::Folder) {
                    let place = path::join(&path::join(&of_id, &arch), &branch);
                    let is_current = current.as_ref().is_none_or(|current| **current == *path::join(&arch, &branch));
                    self.read_branch(kind, [&id, &arch, &branch], &place, is_current);
                }
            }
        }
    }

    fn read_branch(&mut self, kind: &'static str, [id, arch, branch]: [&Text; 3], place: &Text, current: bool) {
        let root = &self.scene.root;
        let active = path::join(place, b"active");
        // Without the link, a removal was interrupted: nothing is installed.
        let Ok(link) = root.entry(&active) else { return };
        let folder = root.settle_folder(&active);
        let file = path::join(&folder, b"deploy");
        let deploy = match root.read(&file, Limit::SMALL) {
            Ok(content) => deploy::parse(&content),
            Err(error) if error.is_missing() => return,
            Err(error) => {
                self.notes.push(format!("{error}: where {id} came from is not known"));
                None
            }
        };
        if deploy.is_none() {
            self.notes.push(format!("{file}: not what flatpak writes; origin, version and size of {id} are not known"));
        }
        let metadata = match root.read(&path::join(&folder, b"metadata"), Limit::SMALL) {
            Ok(content) => KeyFile::parse(&content),
            Err(error) => {
                self.notes.push(format!("{error}: what {id} needs is not known"));
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
            folder,
            deploy: deploy.unwrap_or_default(),
            metadata,
            installed_at: Some(link.modified),
            current,
            runtime_missing: false,
        });
    }

    /// The runtimes that are here.
    pub fn runtimes(&self) -> Vec<Text> {
        self.deployed.iter().filter(|deployed| deployed.kind != "app").map(Deployed::reference).collect()
    }

    /// Marks the apps whose runtime is in none of the installations.
    pub fn note_missing_runtimes(&mut self, runtimes: &[Text]) {
        for deployed in &mut self.deployed {
            let needs = deployed.metadata.get("Application", "runtime");
            deployed.runtime_missing =
                needs.is_some_and(|needs| !runtimes.iter().any(|there| **there == *needs.as_bytes()));
        }
    }

    fn deployed(&self, package: u32) -> &Deployed {
        &self.deployed[package as usize]
    }

    fn id(&self, deployed: &Deployed) -> Text {
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
        Some(Origin { name: name.as_str().into(), kind: "remote".to_owned(), url: url.map(Text::from), trust: None })
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

    fn wrapper(&self, deployed: &Deployed) -> Text {
        path::join(&path::join(&self.base.folder, b"exports/bin"), &deployed.id)
    }

    pub(super) fn location(&self) -> Text {
        self.installation.location.clone()
    }

    pub(super) fn manager(&self) -> ManagerId {
        self.installation.manager
    }

    pub(super) fn scope(&self) -> Scope {
        self.installation.scope.clone()
    }

    pub(super) fn remote_address(&self, name: &Text) -> Option<Text> {
        self.config.get(&format!("remote \"{name}\""), "url").filter(|url| !url.is_empty()).map(Text::from)
    }

    /// The commit that is deployed of a reference.
    pub(super) fn commit_of(&self, kind: &str, id: &[u8], arch: &[u8], branch: &[u8]) -> Option<&str> {
        let is_it =
            |one: &&Deployed| one.kind == kind && *one.id == *id && *one.arch == *arch && *one.branch == *branch;
        self.deployed.iter().find(is_it).map(|one| one.deploy.commit.as_str())
    }

    /// What is installed, as offers of the remotes that it came from.
    pub(super) fn installed_offers(&self, asked: &Asked) -> Vec<Offer> {
        let wanted = |one: &&Deployed| match asked {
            Asked::Installed => true,
            Asked::Names(_) => asked.has(&one.id),
        };
        let offer = |one: &Deployed| {
            let version = one.deploy.version.as_deref().map(Text::from);
            let held = self.is_listed("xa.masked", one);
            let bare = Offer::bare(
                self.manager(),
                self.scope(),
                one.id.clone(),
                Text::default(),
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
                evidence: vec![Evidence::at(path::join(&one.folder, b"deploy"), "origin", says)],
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
            location: self.base.folder.clone(),
            name: deployed.id.clone(),
            version: deployed.deploy.version.as_deref().map(Text::from),
            arch: Some(deployed.arch.clone()),
            kind: deployed.kind.to_owned(),
            channel: Some(deployed.branch.clone()),
            revision: Some(deployed.deploy.commit.as_str()).filter(|commit| !commit.is_empty()).map(Text::from),
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
            if self.scene.root.entry(&wrapper).is_ok() {
                package.commands.push(wrapper);
            }
            let exported = self.names(&path::join(&deployed.folder, b"export/share/applications"), Kind::File);
            package.launchers = exported.into_iter().filter(|name| name.ends_with(b".desktop")).collect();
        }
        package
    }

    fn number_where(&self, fits: impl Fn(&Deployed) -> bool) -> Option<u32> {
        self.deployed.iter().position(fits).and_then(|place| u32::try_from(place).ok())
    }
}

impl FlatpakHoldings<'_> {
    /// The package that owns the tree in which a settled path lies, and the tree.
    fn tree_over(&self, settled: &[u8]) -> Option<(u32, Text)> {
        let below = settled.strip_prefix(&*self.scene.root.settle_folder(&self.base.folder))?.strip_prefix(b"/")?;
        let exported = |deployed: &Deployed| {
            deployed.kind == "app" && deployed.current && path::name(below).starts_with(&deployed.id)
        };
        let number = match below.starts_with(b"exports/") {
            true => self.number_where(exported)?,
            false => self.number_where(|deployed| path::within(settled, &deployed.folder))?,
        };
        Some((number, self.deployed(number).folder.clone()))
    }
}

impl Holdings for FlatpakHoldings<'_> {
    fn installation(&self) -> &Installation {
        &self.installation
    }

    fn coverage(&self) -> Vec<Coverage> {
        let late = self.late.lock().unwrap_or_else(PoisonError::into_inner);
        let notes: Vec<String> = self.notes.iter().chain(&*late).cloned().collect();
        let state = if notes.is_empty() { CoverageState::Read } else { CoverageState::Partial };
        vec![Coverage {
            manager: Some(ID),
            scope: self.installation.scope.clone(),
            location: self.installation.location.clone(),
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
            version: deployed.deploy.version.as_deref().map(Text::from),
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

    fn claims_on(&self, settled: &[u8]) -> Vec<PathClaim> {
        self.tree_over(settled).map(|(package, tree)| PathClaim::tree(package, tree)).into_iter().collect()
    }

    fn leads_to(&self, settled: &[u8]) -> Option<Lead> {
        // The exported command is a link into the deployment, where the wrapper itself lies.
        let is_wrapper = |deployed: &Deployed| {
            let wrapper = path::join(&path::join(&deployed.folder, b"export/bin"), &deployed.id);
            deployed.kind == "app" && *wrapper == *settled
        };
        let number = self.number_where(is_wrapper)?;
        let deployed = self.deployed(number);
        let command = deployed.metadata.get("Application", "command")?;
        Some(Lead::wrapper(path::join(&path::join(&deployed.folder, b"files/bin"), command.as_bytes())))
    }

    fn launcher_folders(&self) -> Vec<(Text, String)> {
        let how = "a log-in adds it, by /etc/profile.d/flatpak.sh or the session's environment generators".to_owned();
        vec![(path::join(&self.base.folder, b"exports/share"), how)]
    }

    fn dependents(&self, removed: &[u32]) -> Option<Vec<(u32, Evidence)>> {
        let gone: Vec<Text> = removed.iter().map(|number| self.deployed(*number).reference()).collect();
        let users = (0..).zip(&self.deployed).filter(|(number, _)| !removed.contains(number));
        let found = users.filter_map(|(number, deployed)| {
            let needs = deployed.needs().filter(|needs| gone.iter().any(|gone| **gone == *needs.as_bytes()))?;
            let file = path::join(&deployed.folder, b"metadata");
            Some((number, Evidence::at(file, "key runtime", format!("needs {needs}"))))
        });
        Some(found.collect())
    }

    fn hints(&self) -> Vec<Hint> {
        let of_one = |deployed: &Deployed| Hint {
            starts: deployed.metadata.get("Application", "command").map(Text::from).into_iter().collect(),
            ..Hint::default()
        };
        self.deployed.iter().map(of_one).collect()
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

    fn starts_as(&self, name: &[u8]) -> Vec<(u32, Text)> {
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

    fn package_evidence(&self, package: u32) -> Vec<Evidence> {
        let deployed = self.deployed(package);
        let file = path::join(&deployed.folder, b"deploy");
        let says = |text: &str| Text::from(text).to_string();
        let mut evidence =
            vec![Evidence::at(file.clone(), "field 1", format!("origin {}", says(&deployed.deploy.origin)))];
        let metadata = path::join(&deployed.folder, b"metadata");
        if let Some(origin) = self.origin(deployed).filter(|origin| origin.url.is_none()) {
            let config = path::join(&self.base.folder, b"repo/config");
            let says = format!("no remote {} with an address: no update will come", origin.name);
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
        for person in &self.scene.people {
            let data = path::join(&path::join(&person.home, b".var/app"), &deployed.id);
            let is_theirs =
                matches!(&self.base.scope, Scope::System) || self.base.scope == Scope::User(person.name.clone());
            if deployed.kind == "app" && is_theirs && self.scene.root.entry(&data).is_ok() {
                evidence.push(Evidence::at(data, "folder", format!("data of {}", person.name)));
            }
        }
        evidence
    }

    fn remedies(&self, package: u32) -> Vec<Remedy> {
        let deployed = self.deployed(package);
        let (option, reference) = (self.base.option(), deployed.reference());
        vec![Remedy { purpose: "remove".to_owned(), command: format!("flatpak uninstall {option} {reference}") }]
    }

    fn offers(&self, asked: &Asked) -> Vec<Offer> {
        let (offers, lost) = self.all_offers(asked);
        self.late.lock().unwrap_or_else(PoisonError::into_inner).extend(lost);
        offers
    }

    fn release(&self, package: &[u8]) -> Option<String> {
        Some(format!("flatpak mask {} --remove {}", self.base.option(), shell_word(package)))
    }

    fn take(&self, offer: &Offer) -> Option<String> {
        let remote = shell_word(&offer.source.as_ref()?.name);
        let branch = offer.channel.as_ref().map(|branch| [b"//", &**branch].concat()).unwrap_or_default();
        let reference = shell_word(&[&*offer.name, &branch].concat());
        Some(format!("flatpak install {} {remote} {reference}", self.base.option()))
    }

    /// Versions here are free text without an order of their own; Debian's is the closest to what people mean.
    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        debian::compare(a, b)
    }
}
