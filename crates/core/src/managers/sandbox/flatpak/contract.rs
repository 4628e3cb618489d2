//! The contract's traits for an installation of Flatpak.

use super::ID;
use super::installation::{Deployed, FlatpakInstallation};
use crate::backend::{
    Builds, Catalogue, Detail, FileIndex, Hint, Installation, Launching, Rehearsal, Relations, Removal, Requirement,
    Unsearched, Upkeep,
};
use crate::bytes::{ByteString, path};
use crate::model::{
    CommandLine, Coverage, CoverageState, Evidence, ExecTarget, Finding, Location, Loss, Offer, OfferQuery, Owner,
    Package, PullsIn, Relation, Remedy, RemedyKind, Scope, Search, Source,
};
use crate::version::Scheme;
use std::sync::PoisonError;

impl Installation for FlatpakInstallation<'_> {
    fn location(&self) -> &Location {
        &self.location
    }

    fn coverage(&self) -> Vec<Coverage> {
        let late = self.late.lock().unwrap_or_else(PoisonError::into_inner);
        let notes: Vec<Loss> = self.notes.iter().chain(&*late).cloned().collect();
        let state = if notes.is_empty() { CoverageState::Read } else { CoverageState::Partial };
        vec![Coverage {
            manager: Some(ID),
            scope: self.location.scope.clone(),
            location: self.location.dir.clone(),
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

    fn collects(&self, _: &ByteString, target: &[u8]) -> Option<&'static str> {
        let is_below = |deployed: &Deployed| path::within(target, &deployed.dir);
        self.deployed.iter().any(is_below).then_some("with the next update")
    }

    fn diagnostics(&self) -> Vec<Finding> {
        (0..).zip(&self.deployed).flat_map(|(number, deployed)| self.without_updates(number, deployed)).collect()
    }

    fn storage_diagnostics(&self) -> Vec<Finding> {
        self.stored_in_vain()
            .unwrap_or_else(|lost| {
                self.late.lock().unwrap_or_else(PoisonError::into_inner).push(lost);
                None
            })
            .into_iter()
            .collect()
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

    /// A version is a commit here.
    fn query(&self, name: &[u8], version: Option<&[u8]>) -> Option<Rehearsal> {
        if let Some(commit) = version {
            let is_it = |one: &&Deployed| *one.id == *name && *one.deploy.commit.as_bytes() == *commit;
            return self.deployed.iter().find(is_it).map(|one| self.is_deployed(one));
        }
        let current = path::join(&path::join(&path::join(&self.base.dir, b"app"), name), b"current");
        Some(Rehearsal::succeeds(CommandLine::new("test -e").arg(current)))
    }

    fn builds(&self, package: u32) -> Option<Builds> {
        let mut lost = self.late.lock().unwrap_or_else(PoisonError::into_inner);
        Some(self.builds_of(self.deployed(package), &mut lost))
    }

    fn go_to_version(&self, package: u32, version: &[u8]) -> Option<Removal> {
        self.to_commit(self.deployed(package), version)
    }

    fn remedies(&self, package: u32) -> Vec<Remedy> {
        let deployed = self.deployed(package);
        let line = self.flatpak("uninstall").words("-y").operand(deployed.reference());
        vec![Remedy::new(RemedyKind::Remove, line)]
    }

    fn trees(&self) -> Vec<(u32, ByteString)> {
        (0..).zip(&self.deployed).map(|(number, deployed)| (number, deployed.dir.clone())).collect()
    }

    /// Every file is a link to an object of the repository.
    fn names_along(&self) -> u64 {
        1
    }

    /// Versions here are free text without an order of their own; Debian's is the closest to what users mean.
    fn scheme(&self) -> Scheme {
        Scheme::Debian
    }

    fn file_index(&self) -> Option<&dyn FileIndex> {
        Some(self)
    }

    fn catalogue(&self) -> Option<&dyn Catalogue> {
        Some(self)
    }

    fn upkeep(&self) -> Option<&dyn Upkeep> {
        Some(self)
    }

    fn relations(&self) -> Option<&dyn Relations> {
        Some(self)
    }

    fn launching(&self) -> Option<&dyn Launching> {
        Some(self)
    }
}

impl FlatpakInstallation<'_> {
    /// The command for this installation. Started by sudo itself, flatpak refuses to act on a user's own installation;
    /// started by `env`, it does not.
    pub(super) fn flatpak(&self, verb: &str) -> CommandLine {
        let is_users = matches!(self.base.scope, Scope::User(_));
        CommandLine::new(if is_users { "env flatpak" } else { "flatpak" }).words(verb).arg(self.base.option())
    }
}

impl FileIndex for FlatpakInstallation<'_> {
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

impl Upkeep for FlatpakInstallation<'_> {
    fn upgrade_command(&self, number: u32) -> Option<CommandLine> {
        Some(self.flatpak("update").operand(self.deployed(number).reference()))
    }
}

impl Catalogue for FlatpakInstallation<'_> {
    fn offers(&self, asked: &OfferQuery) -> Vec<Offer> {
        let (offers, lost) = self.all_offers(asked);
        self.late.lock().unwrap_or_else(PoisonError::into_inner).extend(lost);
        offers
    }

    fn is_fetched(&self) -> bool {
        self.remotes().iter().any(|remote| self.fetched_at(&remote.to_string()).is_some())
    }

    fn pulls_in(&self, offer: &Offer) -> Option<PullsIn> {
        self.brings_along(offer)
    }

    fn sources(&self) -> Vec<Source> {
        let mut lost = Vec::new();
        let sources = self.configured(&mut lost);
        self.late.lock().unwrap_or_else(PoisonError::into_inner).extend(lost);
        sources
    }

    fn unsearched(&self, _: &Search) -> Vec<Unsearched> {
        let root = &self.host.root;
        let has_catalogue =
            |remote: &[u8]| root.dir(&path::join(&path::join(&self.base.dir, b"appstream"), remote)).is_ok();
        let missing = self.remotes().into_iter().filter(|remote| !has_catalogue(remote));
        missing
            .map(|remote| {
                let fetch = self.flatpak("update").words("--appstream").operand(remote.clone());
                Unsearched::new(format!("remote {remote}: no catalogue of apps was fetched"), Some(fetch))
            })
            .collect()
    }

    fn unhold_command(&self, package: &[u8]) -> Option<CommandLine> {
        Some(self.flatpak("mask").words("--remove").operand(package))
    }

    fn install_command(&self, offer: &Offer) -> Option<CommandLine> {
        let remote = offer.source.as_ref()?.name.clone();
        let branch = offer.channel.as_ref().map(|branch| [b"//", &**branch].concat()).unwrap_or_default();
        let line = self.flatpak("install").operand(remote);
        Some(line.operand([&*offer.name, &branch].concat()))
    }
}

impl Relations for FlatpakInstallation<'_> {
    fn dependents(&self, removed: &[u32]) -> Option<Vec<(u32, Evidence)>> {
        let gone: Vec<ByteString> = removed.iter().map(|number| self.deployed(*number).reference()).collect();
        let users = (0..).zip(&self.deployed).filter(|(number, _)| !removed.contains(number));
        let found = users.filter_map(|(number, deployed)| {
            let needs = deployed.needs().filter(|needs| gone.iter().any(|gone| **gone == *needs.as_bytes()))?;
            Some((number, needs_runtime(deployed, needs)))
        });
        Some(found.collect())
    }

    fn requirements(&self) -> Option<Vec<Requirement>> {
        let found = (0..).zip(&self.deployed).filter_map(|(package, deployed)| {
            let text = deployed.needs()?;
            let needs = self.number_where(|other| *other.reference() == *text.as_bytes())?;
            let evidence = needs_runtime(deployed, text);
            Some(Requirement { package, needs, relation: Relation::RuntimeOf, evidence })
        });
        // What is extended works without the extension, which is there for its sake.
        let extended = (0..).zip(&self.deployed).filter_map(|(needs, extension)| {
            let (kind, text) = extension.extends()?;
            let package = self.number_where(|other| other.kind == kind && *other.reference() == *text.as_bytes())?;
            let says = format!("extends {}", ByteString::from(text));
            let evidence = Evidence::at(path::join(&extension.dir, b"metadata"), "key ref", says);
            Some(Requirement { package, needs, relation: Relation::Recommends, evidence })
        });
        Some(found.chain(extended).collect())
    }

    /// An app of one installation can run on a runtime of another, which has no copy of its own here.
    fn dependents_on(&self, needed: &[Owner]) -> Vec<Requirement> {
        let place = |text: &str| needed.iter().position(|owner| owner.id.ends_with(format!("/{text}").as_bytes()));
        let is_here = |text: &str| self.deployed.iter().any(|other| *other.reference() == *text.as_bytes());
        let found = (0..).zip(&self.deployed).filter_map(|(package, deployed)| {
            let text = deployed.needs().filter(|text| !is_here(text))?;
            let needs = u32::try_from(place(text)?).ok()?;
            let evidence = needs_runtime(deployed, text);
            Some(Requirement { package, needs, relation: Relation::RuntimeOf, evidence })
        });
        found.collect()
    }
}

/// Where an app, or an extension, says which runtime it needs.
fn needs_runtime(deployed: &Deployed, runtime: &str) -> Evidence {
    Evidence::at(path::join(&deployed.dir, b"metadata"), "key runtime", format!("needs {runtime}"))
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
