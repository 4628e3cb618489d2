//! What an installation of Snap tells, in the terms of the contract.

use std::sync::PoisonError;

use hashbrown::{HashMap, HashSet};

use super::installation::{Revision, SnapInstallation};
use super::revision::{self};
use super::{ID, MOUNTS, SNAPD, offers};
use crate::backend::jobs::Job;
use crate::backend::{
    Automatic, Catalogue, Detail, FileIndex, History, Installation, Launching, Rehearsal, Relations, Requirement,
    Unsearched, Upkeep, mark_candidates,
};
use crate::bytes::{ByteString, path};
use crate::model::{
    CommandLine, Coverage, CoverageState, Described, Evidence, ExecTarget, Finding, FindingKind, Location, Loss, Offer,
    OfferQuery, Owner, Package, Relation, Remedy, RemedyKind, Scope, Search, Severity, Signing, SigningState, Source,
};
use crate::version::Scheme;
use crate::version::debian;

impl Installation for SnapInstallation<'_> {
    fn location(&self) -> &Location {
        &self.location
    }

    fn coverage(&self) -> Vec<Coverage> {
        let lost = self.revisions.iter().filter_map(|revision| {
            let problem = revision.about.get()?.as_ref().err()?;
            let instance = &self.snap(revision).instance;
            Some(Loss::because(
                problem,
                format!("version and commands of {instance} at revision {} are unknown", revision.name),
            ))
        });
        let late = self.late.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let notes: Vec<Loss> = self.notes.iter().cloned().chain(lost).chain(late).collect();
        vec![Coverage {
            manager: Some(ID),
            scope: Scope::System,
            location: self.location.dir.clone(),
            state: if notes.is_empty() { CoverageState::Read } else { CoverageState::Partial },
            packages: Some(self.revisions.len()),
            notes,
        }]
    }

    fn packages(&self, detail: Detail) -> Vec<Package> {
        (0..).zip(&self.revisions).map(|(number, _)| self.package(number, detail)).collect()
    }

    fn owner(&self, package: u32) -> Owner {
        let revision = &self.revisions[package as usize];
        Owner {
            id: self.id(revision),
            manager: ID,
            scope: Scope::System,
            name: self.snap(revision).instance.clone(),
            version: self.about(revision).ok().and_then(|about| about.version.clone()),
            status: self.status(revision),
        }
    }

    fn named(&self, name: &[u8]) -> Vec<u32> {
        let fits = |revision: &Revision| *self.snap(revision).instance == *name;
        let mut found: Vec<u32> =
            (0..).zip(&self.revisions).filter(|(_, one)| fits(one)).map(|(number, _)| number).collect();
        found.sort_by_key(|&number| !self.is_active(&self.revisions[number as usize]));
        found
    }

    fn package_evidence(&self, package: u32) -> Vec<Evidence> {
        let revision = &self.revisions[package as usize];
        let snap = self.snap(revision);
        let (file, at) = match self.by_state {
            true => (path::join(SNAPD, b"state.json"), format!("data.snaps.{}", snap.instance)),
            false => (path::join(MOUNTS, &snap.instance), "directory".to_owned()),
        };
        let mut evidence = vec![Evidence::at(file.clone(), at.clone(), format!("revision {}", revision.name))];
        if let Ok(about) = self.about(revision) {
            let base = about.base.as_ref().map(|base| ByteString::from(base.as_str()).to_string());
            evidence.extend(base.map(|base| Evidence::at(about.file.clone(), "key base", format!("needs {base}"))));
            for (app, _, _) in about.apps.iter().filter(|(_, _, is_service)| *is_service) {
                let says = format!("{} is a service", ByteString::from(app.as_str()));
                evidence.push(Evidence::at(about.file.clone(), "key apps", says));
            }
        }
        if let Some((name, validation, file)) =
            revision.snap_id.as_ref().and_then(|id| revision::publisher(&self.host.root, id))
        {
            evidence.push(Evidence::at(
                file,
                "key publisher-id",
                format!("{name}, {validation}; the signature is not checked"),
            ));
        }
        for (alias, by_hand) in &snap.aliases {
            let how = if *by_hand { "by hand" } else { "by the store" };
            evidence.push(Evidence::at(
                file.clone(),
                at.clone(),
                format!("alias {}, made {how}", ByteString::from(alias.as_str())),
            ));
        }
        for user in &self.host.users {
            let data = path::join(&path::join(&user.home, b"snap"), &snap.instance);
            if self.host.root.entry(&data).is_ok() {
                evidence.push(Evidence::directory(data, format!("data of {}", user.name)));
            }
        }
        evidence
    }

    /// `sideloaded`: what was installed from a file has a revision that begins with `x`.
    fn diagnostics(&self) -> Vec<Finding> {
        let is_local = |revision: &&Revision| self.is_active(revision) && revision.name.starts_with(b"x");
        let told = self.revisions.iter().filter(is_local).map(|revision| {
            let instance = &self.snap(revision).instance;
            let summary = format!("{instance} was installed from a file (revision {})", revision.name);
            let consequence = "the store did not check it, and it gets no updates";
            let at = format!("data.snaps.{instance}");
            Finding {
                packages: vec![self.id(revision)],
                evidence: vec![Evidence::at(
                    path::join(SNAPD, b"state.json"),
                    at,
                    format!("revision {}", revision.name),
                )],
                ..Finding::new(FindingKind::Sideloaded, Severity::Note, instance.clone(), summary, consequence)
            }
        });
        told.collect()
    }

    fn collects(&self, _: &ByteString, target: &[u8]) -> Option<&'static str> {
        let is_below = |revision: &Revision| {
            let dir = path::join(&path::join(MOUNTS, &self.snap(revision).instance), &revision.name);
            path::within(target, &dir)
        };
        self.revisions.iter().any(is_below).then_some("after later revisions took its place")
    }

    fn query(&self, name: &[u8], version: Option<&[u8]>) -> Option<Rehearsal> {
        version.is_none().then(|| Rehearsal::succeeds(CommandLine::new("snap list").operand(name)))
    }

    fn remedies(&self, package: u32) -> Vec<Remedy> {
        let revision = &self.revisions[package as usize];
        let instance = &self.snap(revision).instance;
        let line = CommandLine::new("snap remove").operand(instance.clone());
        let remedy = match self.is_active(revision) {
            true => Remedy::new(RemedyKind::Remove, line).losing("its data, except in the snapshot that snapd keeps"),
            false => Remedy::new(RemedyKind::Remove, line.words("--revision").operand(revision.name.clone())),
        };
        vec![remedy]
    }

    /// Versions are free text without an order of their own; Debian's is the closest to what users mean.
    /// The images; what is mounted of them takes no room of its own.
    fn trees(&self) -> Vec<(u32, ByteString)> {
        let image = |revision: &Revision| revision::image(&self.snap(revision).instance, &revision.name);
        (0..).zip(&self.revisions).map(|(number, revision)| (number, image(revision))).collect()
    }

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

    fn history(&self) -> Option<&dyn History> {
        Some(self)
    }
}

impl FileIndex for SnapInstallation<'_> {
    fn tree_over(&self, canonical: &[u8]) -> Option<(u32, ByteString)> {
        if let Some((number, _)) = self.of_command(canonical) {
            return Some((number, canonical.into()));
        }
        if let Some(name) = canonical.strip_prefix(b"/var/lib/snapd/desktop/applications/") {
            let launches = |revision: &Revision| self.launchers(revision).iter().any(|launcher| **launcher == *name);
            return self.number_of(launches).map(|number| (number, canonical.into()));
        }
        let below = canonical.strip_prefix(MOUNTS)?.strip_prefix(b"/")?;
        let mut parts = below.split(|&b| b == b'/');
        let (instance, name) = (parts.next()?, parts.next()?);
        let is_it = |revision: &Revision| *self.snap(revision).instance == *instance && *revision.name == *name;
        self.number_of(is_it).map(|number| (number, canonical.into()))
    }
}

impl Relations for SnapInstallation<'_> {
    /// The snaps that are built on one of these: without its base a snap does not start.
    fn dependents(&self, removed: &[u32]) -> Option<Vec<(u32, Evidence)>> {
        let gone: Vec<&ByteString> =
            removed.iter().map(|number| &self.snap(&self.revisions[*number as usize]).instance).collect();
        let found = (0..).zip(&self.revisions).filter_map(|(number, revision)| {
            let base = self.about(revision).ok()?.base.as_ref()?;
            let is_lost = !removed.contains(&number)
                && self.is_active(revision)
                && gone.iter().any(|gone| ***gone == *base.as_bytes());
            let file = revision::image(&self.snap(revision).instance, &revision.name);
            is_lost.then(|| (number, Evidence::at(file, "base", format!("is built on {base}"))))
        });
        Some(found.collect())
    }

    /// A snap in use is built on the active revision of its base, and may use content of another one.
    fn requirements(&self) -> Option<Vec<Requirement>> {
        let in_use = || (0..).zip(&self.revisions).filter(|(_, revision)| self.is_active(revision));
        let found = in_use().filter_map(|(package, revision)| {
            let base = self.about(revision).ok()?.base.as_ref()?;
            let (needs, _) = in_use().find(|(_, other)| *self.snap(other).instance == *base.as_bytes())?;
            let file = revision::image(&self.snap(revision).instance, &revision.name);
            let evidence = Evidence::at(file, "base", format!("is built on {base}"));
            Some(Requirement { package, needs, relation: Relation::BaseOf, evidence })
        });
        let state = path::join(SNAPD, b"state.json");
        let shared = self.connections.iter().filter_map(|one| {
            let evidence = Evidence::at(
                state.clone(),
                "data.conns",
                format!("uses content of {} by its plug {}", one.provider, ByteString::from(one.plug.as_str())),
            );
            let (package, needs) = (self.active(&one.consumer)?, self.active(&one.provider)?);
            Some(Requirement { package, needs, relation: Relation::Recommends, evidence })
        });
        Some(found.chain(shared).collect())
    }
}

impl Upkeep for SnapInstallation<'_> {
    /// The daemon refreshes what came from the store four times a day, if nothing else is set.
    fn automatic(&self, _: &[u8], _: &[ByteString], _: &[Job]) -> Option<Automatic> {
        self.refresh().hold.is_none().then(|| Automatic {
            by: "snapd".to_owned(),
            schedule: self.refresh().timer.clone().or_else(|| self.by_state.then(|| "four times a day".to_owned())),
            evidence: self.refresh().evidence.iter().cloned().collect(),
        })
    }

    fn prevented(&self, number: u32, _: &Package) -> Option<Evidence> {
        let name = &self.snap(&self.revisions[number as usize]).instance;
        // A date that is past would hold nothing; without a clock the record is taken at its word.
        let until = self.refresh().held.iter().find(|(held, _)| held == name).map(|(_, until)| until)?;
        Some(Evidence::at(
            path::join(SNAPD, b"state.json"),
            "snaps-hold",
            format!("refreshes of it are held until {until}"),
        ))
    }

    fn upgrade_command(&self, number: u32) -> Option<CommandLine> {
        let revision = &self.revisions[number as usize];
        let from_store = !revision.name.starts_with(b"x");
        from_store.then(|| CommandLine::new("snap refresh").operand(self.snap(revision).instance.clone()))
    }
}

impl Catalogue for SnapInstallation<'_> {
    fn offers(&self, asked: &OfferQuery) -> Vec<Offer> {
        let instances: HashSet<&[u8]> = self.snaps.iter().map(|snap| &*snap.instance).collect();
        let is_wanted = |entry: &Described<'_>| match asked {
            OfferQuery::Installed => instances.contains(entry.name),
            _ => asked.wants(entry),
        };
        let (mut offers, lost) = offers::offers(self.host, &is_wanted);
        self.late.lock().unwrap_or_else(PoisonError::into_inner).extend(lost);
        let mut by_name: HashMap<ByteString, Vec<usize>> = HashMap::new();
        for (place, offer) in offers.iter().enumerate() {
            by_name.entry(offer.name.clone()).or_default().push(place);
        }
        for (number, revision) in (0..).zip(&self.revisions) {
            let name = &self.snap(revision).instance;
            let about = self.about(revision).ok();
            let commands: Vec<ByteString> =
                about.iter().flat_map(|about| about.apps.iter().map(|(app, ..)| app.as_str().into())).collect();
            let entry = Described { name, commands: &commands, ..Described::default() };
            let alike = by_name.entry(name.clone()).or_default();
            if !self.is_active(revision) || (!is_wanted(&entry) && alike.is_empty()) {
                continue;
            }
            let version = about.and_then(|about| about.version.clone());
            // The same version: one offer, with the date of the store's list.
            let listed = alike.iter().copied().find(|place| offers[*place].version == version);
            if let Some(listed) = listed.map(|place| &mut offers[place]).filter(|listed| listed.version.is_some()) {
                listed.installed = true;
                listed.channel = self.snap(revision).channel.clone();
                listed.confinement = self.confinement(revision);
                continue;
            }
            alike.push(offers.len());
            offers.push(Offer {
                version,
                channel: self.snap(revision).channel.clone(),
                source: self.origin(revision),
                confinement: self.confinement(revision),
                installed: true,
                evidence: self.package_evidence(number).into_iter().take(1).collect(),
                ..Offer::bare(ID, Scope::System, name.clone(), ByteString::default(), None, false)
            });
        }
        mark_candidates(&mut offers, &debian::compare);
        let installed: HashSet<ByteString> =
            offers.iter().filter(|one| one.installed).map(|one| one.name.clone()).collect();
        for one in offers.iter_mut().filter(|one| one.version.is_none()) {
            one.candidate = one.installed || !installed.contains(&one.name);
        }
        offers.sort_by(|a, b| a.name.cmp(&b.name));
        offers
    }

    fn is_fetched(&self) -> bool {
        offers::file(self.host).is_some()
    }

    fn sources(&self) -> Vec<Source> {
        let fetched = offers::file(self.host);
        let store = Source {
            signed: Signing::of(SigningState::Verified),
            refreshed_at: fetched.as_ref().and_then(|file| self.host.root.target(file).ok()).map(|meta| meta.modified),
            evidence: vec![Evidence::at(self.location.dir.clone(), "assertions", "the store that the daemon asks")],
            origin_kind: Some("publisher"),
            ..Source::new(ID, Scope::System, "the store", "store")
        };
        vec![store]
    }

    fn unsearched(&self, _: &Search) -> Vec<Unsearched> {
        match offers::file(self.host) {
            Some(_) => Vec::new(),
            None => vec![Unsearched::new("the store: its daemon has fetched no list of names yet", None)],
        }
    }

    fn install_command(&self, offer: &Offer) -> Option<CommandLine> {
        let is_here = self.snaps.iter().any(|snap| snap.instance == offer.name);
        Some(CommandLine::new(if is_here { "snap refresh" } else { "snap install" }).operand(offer.name.clone()))
    }
}

impl Launching for SnapInstallation<'_> {
    fn exec_target(&self, canonical: &[u8]) -> Option<ExecTarget> {
        let (number, app) = self.of_command(canonical)?;
        let revision = &self.revisions[number as usize];
        // A command whose image cannot be read is the snap's all the same.
        let Ok(about) = self.about(revision) else {
            let mount = path::join(&path::join(MOUNTS, &self.snap(revision).instance), &revision.name);
            return Some(ExecTarget::wrapper(mount));
        };
        let apps = &about.apps;
        let command = apps.iter().find(|(name, _, _)| name.as_bytes() == app)?.1.as_ref()?;
        let program = command.split(' ').next()?;
        let mount = path::join(&path::join(MOUNTS, &self.snap(revision).instance), &revision.name);
        Some(ExecTarget::wrapper(path::join(&mount, program.trim_start_matches('/').as_bytes())))
    }

    fn own_dirs(&self) -> Vec<ByteString> {
        // Where `/snap` is no directory of the root, it is there.
        vec!["/snap/bin".into(), path::join(SNAPD, b"snap/bin")]
    }

    fn launcher_dirs(&self) -> Vec<(ByteString, String)> {
        let how = "a login adds it, by /etc/profile.d/apps-bin-path.sh or environment.d".to_owned();
        vec![(path::join(SNAPD, b"desktop"), how)]
    }

    fn started_by(&self, words: &[String]) -> Option<u32> {
        words.iter().find_map(|word| self.of_command(word.as_bytes())).map(|(number, _)| number)
    }

    fn starts_as(&self, name: &[u8]) -> Vec<(u32, ByteString)> {
        let active = self.active(name).into_iter();
        active.map(|number| (number, ByteString::from([b"snap run ", name].concat()))).collect()
    }
}
