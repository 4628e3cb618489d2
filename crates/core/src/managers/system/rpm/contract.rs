//! What an installation of rpm tells, in the terms of the contract.

use super::catalogues;
use super::expression::is_rpms_own;
use super::installation::{Brief, RpmInstallation, digest_of, is_there, tail};
use crate::backend::Log;
use crate::backend::runtimes;
use crate::backend::{
    Catalogue, Detail, FileIndex, FileRecords, Hint, Installation, Rehearsal, Relations, Removal, Requirement,
    Unneeded, Unsearched,
};
use crate::bytes::{ByteString, path};
use crate::model::{
    Claim, Claimant, CommandLine, Coverage, CoverageState, Depth, Digest, Evidence, FileRecord, Location, NameFilter,
    Offer, OfferQuery, Owner, Package, PullsIn, RecordPosition, Remedy, RemedyKind, Scope, Search, Source,
};
use crate::version::Scheme;
use crate::version::rpm;
use hashbrown::HashMap;
use whodunit_formats::rpm_header::{Header, tag};

impl Installation for RpmInstallation<'_> {
    fn location(&self) -> &Location {
        &self.location
    }

    fn coverage(&self) -> Vec<Coverage> {
        let notes = self.store.notes();
        let state = match () {
            () if self.store.is_lost() => CoverageState::Unreadable,
            () if notes.is_empty() => CoverageState::Read,
            () => CoverageState::Partial,
        };
        let count = || {
            let mut count = 0;
            self.each(&mut |_, _| count += 1);
            count
        };
        let is_known = matches!(state, CoverageState::Read | CoverageState::Partial);
        vec![Coverage {
            manager: Some(self.location.manager),
            scope: self.location.scope.clone(),
            location: self.location.dir.clone(),
            state,
            packages: is_known.then(|| self.store.count().unwrap_or_else(count)),
            notes,
        }]
    }

    fn packages(&self, detail: Detail) -> Vec<Package> {
        self.numbered(detail).into_iter().map(|(_, package)| package).collect()
    }

    /// The database numbers packages as they come, and no number twice.
    fn numbered(&self, detail: Detail) -> Vec<(u32, Package)> {
        // Both ask the database, which is busy with the query below.
        let (_, _) = (self.distribution(), self.records());
        let (mut briefs, mut packages) = (Vec::new(), Vec::new());
        self.each(&mut |number, header| {
            if let Some(brief) = Brief::of(header) {
                packages.push((number, self.package(number, header, &brief, detail)));
                briefs.push(brief);
            }
        });
        let mut by_name: HashMap<&[u8], Vec<&Brief>> = HashMap::new();
        for brief in &briefs {
            by_name.entry(&brief.name).or_default().push(brief);
        }
        for ((_, package), brief) in packages.iter_mut().zip(&briefs) {
            package.id = self.owner_of(brief, &tail(brief, &by_name[&*brief.name])).id;
        }
        packages
    }

    fn in_full(&self, package: u32, detail: Detail) -> Option<Package> {
        let (_, _) = (self.distribution(), self.records());
        let full = |header: &Header<'_>| Some(self.package(package, header, &Brief::of(header)?, detail));
        Some(Package { id: self.owner(package).id, ..self.with(package, full).flatten()? })
    }

    fn owner(&self, package: u32) -> Owner {
        let brief = self.with(package, Brief::of).flatten();
        let brief = brief.unwrap_or_else(|| Brief { name: package.to_string().into(), version: None, arch: None });
        let same = self.of_name(&brief.name);
        let same: Vec<&Brief> = same.iter().map(|(_, brief)| brief).collect();
        self.owner_of(&brief, &tail(&brief, &same))
    }

    fn named(&self, name: &[u8]) -> Vec<u32> {
        // `NAME`, `NAME.ARCH`, `NAME-VERSION-RELEASE` and both.
        let mut stems: Vec<&[u8]> = vec![name];
        let bare = memchr::memrchr(b'.', name).map(|at| &name[..at]);
        stems.extend(bare);
        for whole in [Some(name), bare].into_iter().flatten() {
            let cut = memchr::memrchr(b'-', whole).and_then(|at| memchr::memrchr(b'-', &whole[..at]));
            stems.extend(cut.map(|at| &whole[..at]));
        }
        let fits = |brief: &Brief| {
            let without_arch = [&*brief.name, b"-", brief.version.as_deref().unwrap_or_default()].concat();
            *brief.name == *name || *brief.dotted() == *name || *brief.in_full() == *name || *without_arch == *name
        };
        stems
            .into_iter()
            .map(|stem| self.of_name(stem).into_iter().filter(|(_, brief)| fits(brief)).map(|(n, _)| n).collect())
            .find(|found: &Vec<u32>| !found.is_empty())
            .unwrap_or_default()
    }

    fn package_evidence(&self, package: u32) -> Vec<Evidence> {
        let brief = self.with(package, Brief::of).flatten();
        brief.map(|brief| self.evidence(package, &brief)).unwrap_or_default()
    }

    fn hints(&self) -> Vec<Hint> {
        let mut hints = Vec::new();
        self.each(&mut |_, header| {
            // `NAME-VERSION-RELEASE.src.rpm`.
            let source = header.text(tag::SOURCE).map(|file| file.rsplitn(3, |&b| b == b'-').last().unwrap_or(file));
            let (source, upstream) = (source.map(ByteString::from), header.text(tag::URL).map(ByteString::from));
            if Brief::of(header).is_some() {
                let needs = [tag::REQUIRE_NAMES, tag::RECOMMEND_NAMES].into_iter().flat_map(|tag| header.texts(tag));
                let runtimes = runtimes::of_needs(needs.filter(|name| !is_rpms_own(name)));
                hints.push(Hint { source, upstream, runtimes, ..Hint::default() });
            }
        });
        hints
    }

    fn remedies(&self, package: u32) -> Vec<Remedy> {
        let Some(brief) = self.with(package, Brief::of).flatten() else { return Vec::new() };
        let name = self.owner(package).full_name();
        let remedy = Remedy::new;
        if self.location.scope != Scope::System {
            let line = CommandLine::new("rpm --dbpath").arg(self.location.dir.clone()).words("-e");
            return vec![remedy(RemedyKind::Remove, line.operand(brief.in_full()))];
        }
        // What is in the image goes with the image.
        if self.host.is_image_based() {
            return Vec::new();
        }
        match self.records().tool(&self.host.root) {
            Some(tool) => {
                let of_it = |verb: &str| CommandLine::new(tool).words(verb).operand(name.clone());
                let upgrade = of_it(if tool == "zypper" { "update" } else { "upgrade" });
                vec![remedy(RemedyKind::Remove, of_it("remove")), remedy(RemedyKind::Upgrade, upgrade)]
            }
            None => vec![remedy(RemedyKind::Remove, CommandLine::new("rpm -e").operand(name))],
        }
    }

    fn query(&self, name: &[u8], version: Option<&[u8]>) -> Option<Rehearsal> {
        let line = CommandLine::new("rpm -q --queryformat").arg("%{EVR}\\n").operand(name);
        let found = match version {
            Some(version) => Rehearsal::prints(line, None, vec![ByteString::from(version).to_string()]),
            None => Rehearsal::succeeds(line),
        };
        (self.location.scope == Scope::System).then_some(found)
    }

    fn go_to_version(&self, package: u32, version: &[u8]) -> Option<Removal> {
        if self.tool() != Some("dnf") {
            return None;
        }
        let owner = self.owner(package);
        self.has_version(&owner.name, version).then_some(())?;
        let is_older = owner.version.as_ref().is_some_and(|now| rpm::compare(version, now).is_lt());
        let line = CommandLine::new(if is_older { "dnf downgrade" } else { "dnf install" });
        let line = line.operand([&*owner.name, b"-", version].concat());
        let rehearsal = Rehearsal::succeeds(CommandLine::new("rpm -q").operand(owner.name));
        Some(Removal { remedy: Remedy::new(RemedyKind::Choose, line).online(), rehearsal })
    }

    fn removal(&self, packages: &[u32], _: bool) -> Option<Removal> {
        if self.location.scope != Scope::System || self.host.is_image_based() {
            return None;
        }
        let names: Vec<ByteString> = packages.iter().map(|number| self.owner(*number).full_name()).collect();
        let named = |line: &str| names.iter().fold(CommandLine::new(line), |line, name| line.operand(name.clone()));
        let line = match self.records().tool(&self.host.root) {
            // What nothing needs then is named, or stays.
            Some("dnf") => named("dnf --setopt=clean_requirements_on_remove=0 remove"),
            Some("zypper") => named("zypper remove"),
            Some(_) | None => named("rpm -e"),
        };
        let rehearsal = Rehearsal::succeeds(named("rpm -e --test"));
        Some(Removal { remedy: Remedy::new(RemedyKind::Remove, line), rehearsal })
    }

    fn scheme(&self) -> Scheme {
        Scheme::Rpm
    }

    fn file_index(&self) -> Option<&dyn FileIndex> {
        Some(self)
    }

    fn file_records(&self) -> Option<&dyn FileRecords> {
        Some(self)
    }

    fn catalogue(&self) -> Option<&dyn Catalogue> {
        Some(self)
    }

    fn log(&self) -> Option<&dyn Log> {
        Some(self)
    }

    fn relations(&self) -> Option<&dyn Relations> {
        Some(self)
    }
}

impl FileIndex for RpmInstallation<'_> {
    fn claims(&self, wanted: &NameFilter, take: &mut dyn FnMut(Claim<'_>)) {
        if wanted.is_nothing() {
            return;
        }
        let mut file = Vec::new();
        let mut claims = |number: u32, header: &Header<'_>| {
            let states: Vec<u64> = header.numbers(tag::FILE_STATES).collect();
            for (place, dir, name) in header.files() {
                if wanted.has(name) && is_there(states.get(place)) {
                    file.clear();
                    file.extend_from_slice(dir);
                    file.extend_from_slice(name);
                    let line = u32::try_from(place + 1).unwrap_or(u32::MAX);
                    let position = RecordPosition { line, rule: 0 };
                    take(Claim { path: &file, claimant: Claimant::Package(number), position });
                }
            }
        };
        let few = match wanted {
            NameFilter::Names(names) => self.store.with_files(names),
            NameFilter::All => None,
        };
        self.among(few, &mut claims);
    }

    fn claim_evidence(&self, claimant: Claimant, path: &[u8], position: RecordPosition) -> Vec<Evidence> {
        let Claimant::Package(package) = claimant else { return Vec::new() };
        let name =
            self.with(package, |header| header.text(tag::NAME).map(ByteString::from)).flatten().unwrap_or_default();
        let at = format!("entry {package}, file {}", position.line);
        vec![Evidence::at(self.store.file.clone(), &at, format!("{name} lists {}", ByteString::from(path)))]
    }

    fn digest(&self, package: u32, path: &[u8]) -> Option<Digest> {
        self.with(package, |header| {
            let fits = |(_, dir, name): &(usize, &[u8], &[u8])| {
                path::name(path) == *name && *self.host.root.canonicalize(&[*dir, *name].concat()) == *path
            };
            let (place, ..) = header.files().find(fits)?;
            let digest = header.texts(tag::FILE_DIGESTS).nth(place)?;
            digest_of(digest, header.number(tag::FILE_DIGEST_ALGORITHM))
        })?
    }
}

impl FileRecords for RpmInstallation<'_> {
    fn each_batch(&self, packages: Option<&[u32]>, depth: Depth, take: &mut dyn FnMut(Vec<FileRecord>)) {
        // A header has it all together.
        let _ = depth;
        self.each_recorded(packages, take);
    }

    fn restore(&self, package: u32) -> Option<Remedy> {
        let tool = self.tool()?;
        let line = match tool {
            "zypper" => CommandLine::new("zypper install --force"),
            tool => CommandLine::new(tool).words("reinstall"),
        };
        Some(Remedy::new(RemedyKind::Restore, line.operand(self.owner(package).full_name())))
    }
}

impl Catalogue for RpmInstallation<'_> {
    fn offers(&self, asked: &OfferQuery) -> Vec<Offer> {
        self.all_offers(asked)
    }

    fn unhold_command(&self, package: &[u8]) -> Option<CommandLine> {
        let line = match self.tool()? {
            "zypper" => CommandLine::new("zypper removelock"),
            tool => CommandLine::new(tool).words("versionlock delete"),
        };
        Some(line.operand(package))
    }

    fn install_command(&self, offer: &Offer) -> Option<CommandLine> {
        let tool = self.tool()?;
        // `dnf install` leaves what is installed at its version, unless one is named.
        if tool != "zypper" && offer.candidate && !self.of_name(&offer.name).is_empty() {
            return Some(CommandLine::new(tool).words("upgrade").operand(offer.name.clone()));
        }
        let version = offer.version.as_ref().filter(|_| !offer.candidate);
        let between = if tool == "zypper" { "=" } else { "-" };
        let version = version.map(|version| [between.as_bytes(), version].concat()).unwrap_or_default();
        Some(CommandLine::new(tool).words("install").operand([&*offer.name, &version].concat()))
    }

    fn pulls_in(&self, offer: &Offer) -> Option<PullsIn> {
        self.brought_along(offer)
    }

    fn is_fetched(&self) -> bool {
        !catalogues::fetched(&self.host.root).is_empty()
    }

    fn sources(&self) -> Vec<Source> {
        self.configured_sources()
    }

    fn unsearched(&self, _: &Search) -> Vec<Unsearched> {
        self.not_searched()
    }

    fn source_notes(&self) -> Vec<String> {
        RpmInstallation::on_sources(self)
    }
}

impl Relations for RpmInstallation<'_> {
    fn dependents(&self, removed: &[u32]) -> Option<Vec<(u32, Evidence)>> {
        self.dependents_of(removed)
    }

    fn unneeded(&self) -> Option<Unneeded> {
        RpmInstallation::unneeded(self)
    }

    fn requirements(&self) -> Option<Vec<Requirement>> {
        self.all_requirements()
    }
}
