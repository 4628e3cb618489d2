//! What an installation of dpkg tells, in the terms of the contract.

use super::ADMIN;
use super::installation::DpkgInstallation;
use super::lists::{self, Keep, List};
use super::status::{self, Record, State};
use crate::backend::Log;
use crate::backend::components::Components;
use crate::backend::jobs::Job;
use crate::backend::{
    Automatic, Catalogue, Detail, FileIndex, FileRecords, Hint, Installation, Rehearsal, Relations, Removal,
    Unsearched, Upkeep,
};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::model::{
    Algorithm, Claim, Claimant, CommandLine, Coverage, CoverageState, Depth, Digest, Evidence, FileRecord, Finding,
    Location, NameFilter, Offer, OfferQuery, Owner, Package, PullsIn, RecordPosition, Remedy, RemedyKind, Search,
    Source, Status,
};
use crate::version::Scheme;

impl Installation for DpkgInstallation<'_> {
    fn location(&self) -> &Location {
        &self.location
    }

    fn coverage(&self) -> Vec<Coverage> {
        let notes = self.notes.list();
        let state = match () {
            () if self.unreadable => CoverageState::Unreadable,
            () if notes.is_empty() => CoverageState::Read,
            () => CoverageState::Partial,
        };
        vec![Coverage {
            manager: Some(self.location.manager),
            scope: self.location.scope.clone(),
            location: self.location.dir.clone(),
            state,
            packages: Some(self.records.len()),
            notes,
        }]
    }

    fn packages(&self, detail: Detail) -> Vec<Package> {
        self.every_package(detail)
    }

    fn in_full(&self, package: u32, detail: Detail) -> Option<Package> {
        self.one_package(package, detail)
    }

    fn owner(&self, package: u32) -> Owner {
        let record = self.record(package);
        Owner {
            id: self.id(record),
            manager: self.location.manager,
            scope: self.location.scope.clone(),
            name: record.name.clone(),
            version: record.version.clone(),
            status: record.status(),
        }
    }

    fn named(&self, name: &[u8]) -> Vec<u32> {
        let fits = |record: &Record| *record.name == *name || *self.full_name(record) == *name;
        let mut found: Vec<u32> = (0..).zip(&self.records).filter(|(_, record)| fits(record)).map(|(n, _)| n).collect();
        // The machine's own architecture first.
        found.sort_by_key(|&number| memchr::memchr(b':', &self.full_name(self.record(number))).is_some());
        found
    }

    fn is_present(&self, package: u32) -> bool {
        self.record(package).status() != Status::ConfigRemains
    }

    fn package_evidence(&self, package: u32) -> Vec<Evidence> {
        let record = self.record(package);
        let (line, says) = match &record.status_line {
            Some((line, status)) => (*line, format!("Status: {status}")),
            None if record.state == State::Lost => (record.line, "a list of files without a record".to_owned()),
            None => (record.line, format!("Package: {}", record.name)),
        };
        vec![Evidence::line(record.source.clone(), line, says)]
    }

    fn diagnostics(&self) -> Vec<Finding> {
        DpkgInstallation::diagnostics(self)
    }

    fn hints(&self) -> Vec<Hint> {
        status::hints(&self.host.root, &self.records)
    }

    fn remedies(&self, package: u32) -> Vec<Remedy> {
        // What is in an image goes with the image.
        if self.host.is_image_based() {
            return Vec::new();
        }
        let record = self.record(package);
        let name = self.full_name(record);
        let apt = self.host.root.target(b"/var/lib/apt").is_ok();
        let remedy = |kind, line: &str| Remedy::new(kind, CommandLine::new(line).operand(name.clone()));
        match record.state {
            State::Lost => vec![],
            // dpkg refuses to configure what lacks something; what that is, is a finding of its own.
            State::Unpacked | State::HalfConfigured if self.lacks_something(package) => Vec::new(),
            State::Unpacked | State::HalfConfigured => vec![remedy(RemedyKind::Repair, "dpkg --configure")],
            State::HalfInstalled if apt => vec![remedy(RemedyKind::Repair, "apt install --reinstall").online()],
            _ if record.reinstall_required && apt => {
                vec![remedy(RemedyKind::Repair, "apt install --reinstall").online()]
            }
            State::ConfigFiles if apt => vec![remedy(RemedyKind::Purge, "apt purge")],
            State::ConfigFiles => vec![remedy(RemedyKind::Purge, "dpkg --purge")],
            // Removing these breaks the system; no one should be told how in passing.
            _ if record.essential => vec![],
            _ if apt => vec![remedy(RemedyKind::Remove, "apt remove")],
            _ => vec![remedy(RemedyKind::Remove, "dpkg --remove")],
        }
    }

    fn query(&self, name: &[u8], version: Option<&[u8]>) -> Option<Rehearsal> {
        Some(Self::query_of(name, version))
    }

    fn go_to_version(&self, package: u32, version: &[u8]) -> Option<Removal> {
        if self.host.is_image_based() { None } else { self.to_version(package, version) }
    }

    fn removal(&self, packages: &[u32], with_settings: bool) -> Option<Removal> {
        if self.host.is_image_based() { None } else { self.removal_of(packages, with_settings) }
    }

    fn settings_files(&self, package: u32) -> Option<Vec<ByteString>> {
        Some(self.settings_of(package))
    }

    fn scheme(&self) -> Scheme {
        Scheme::Debian
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

    fn upkeep(&self) -> Option<&dyn Upkeep> {
        Some(self)
    }

    fn relations(&self) -> Option<&dyn Relations> {
        Some(self)
    }
}

impl FileIndex for DpkgInstallation<'_> {
    fn claims(&self, wanted: &NameFilter, take: &mut dyn FnMut(Claim<'_>)) {
        if wanted.is_nothing() {
            return;
        }
        let diversions = self.diversions();
        // What is asked for may be where a diverted file went; its claim then stands under the old name.
        let mut sought = wanted.clone();
        if let NameFilter::Names(names) = &mut sought {
            for diversion in &diversions.0 {
                if wanted.has(path::name(&diversion.to)) {
                    names.insert(path::name(&diversion.from).into());
                }
            }
        }
        let mut of_line = |package: u32, listed: &[u8], position: RecordPosition| {
            let claimant = Claimant::Package(package);
            let (at, rule) = match diversions.concern(path::name(listed)) {
                true => diversions.apply(&self.host.root, &self.record(package).name, listed),
                false => (listed, 0),
            };
            if rule == 0 {
                take(Claim { path: at, claimant, position });
            } else if wanted.has(path::name(at)) {
                take(Claim { path: at, claimant, position: RecordPosition { rule, ..position } });
            }
        };
        let kept = match &sought {
            NameFilter::Names(names) => self.kept_lists().map(|kept| (kept, names)),
            NameFilter::All => None,
        };
        if let Some((kept, names)) = kept {
            kept.each(names, &mut of_line);
        } else {
            let few = matches!(sought, NameFilter::Names(_));
            self.read_lists(Keep { test: &lists::by_name(&sought), few }, &mut |lines| {
                lines.each(|listed, position| of_line(lines.package, listed, position));
            });
        }
        for (number, group) in (0..).zip(self.groups()) {
            for (link, line) in group.placed().filter(|(link, _)| wanted.has(path::name(link))) {
                take(Claim {
                    path: &link,
                    claimant: Claimant::Group(number),
                    position: RecordPosition { line, rule: 0 },
                });
            }
        }
    }

    fn claim_evidence(&self, claimant: Claimant, at: &[u8], position: RecordPosition) -> Vec<Evidence> {
        match claimant {
            Claimant::Group(group) => {
                let group = &self.groups()[group as usize];
                vec![Evidence::line(
                    group.file.clone(),
                    position.line,
                    format!("{} is a link of this group", ByteString::from(at)),
                )]
            }
            Claimant::Package(package) => {
                let Some(list) = self.list_path(package) else { return Vec::new() };
                let name = &self.record(package).name;
                if position.rule == lists::FROM_DIGESTS {
                    let digests = [list.strip_suffix(b".list").unwrap_or(&list), b".md5sums"].concat();
                    let says = format!("{name} has a digest of {}; its list cannot be read", ByteString::from(at));
                    return vec![Evidence::line(digests, position.line, says)];
                }
                let Some(diversion) =
                    position.rule.checked_sub(1).and_then(|rule| self.diversions().0.get(usize::from(rule)))
                else {
                    let mut evidence =
                        vec![Evidence::line(list, position.line, format!("{name} lists {}", ByteString::from(at)))];
                    evidence.extend(self.stands_in(name, at));
                    return evidence;
                };
                let whose = diversion.by.as_ref().map_or("made by hand".to_owned(), |by| format!("for {by}"));
                vec![
                    Evidence::line(list, position.line, format!("{name} lists {}", diversion.from)),
                    Evidence::line(
                        path::join(ADMIN, b"diversions"),
                        diversion.line,
                        format!("{} gives way to {}, {whose}", diversion.from, diversion.to),
                    ),
                ]
            }
        }
    }

    fn group(&self, group: u32) -> Option<(ByteString, Vec<Evidence>)> {
        let group = &self.groups()[group as usize];
        Some((path::join(b"alternatives", &group.name), group.evidence(&self.host.root)))
    }

    fn next_of_group(&self, group: u32, is_gone: &dyn Fn(&ByteString) -> bool) -> Option<ByteString> {
        let choices = self.groups()[group as usize].choices.iter();
        let left = choices.filter(|choice| self.host.root.target(&choice.path).is_ok() && !is_gone(&choice.path));
        left.max_by_key(|choice| choice.priority).map(|choice| choice.path.clone())
    }

    fn repair_group(&self, group: u32) -> Option<Remedy> {
        let group = &self.groups()[group as usize];
        let is_there = |choice: &super::alternatives::Choice| self.host.root.target(&choice.path).is_ok();
        let remedy = match group.choices.iter().any(is_there) {
            true => Remedy::new(
                RemedyKind::Choose,
                CommandLine::new("update-alternatives --auto").operand(group.name.clone()),
            )
            .to("let the alternatives system choose again"),
            false => Remedy::new(
                RemedyKind::Remove,
                CommandLine::new("update-alternatives --remove-all").operand(group.name.clone()),
            )
            .to("remove the group, of which nothing is left"),
        };
        Some(remedy)
    }

    fn digest(&self, package: u32, at: &[u8]) -> Option<Digest> {
        let digests = match self.lists[package as usize].as_ref()? {
            List::Info(list) => {
                self.info.as_ref()?.read(&[list.strip_suffix(b".list")?, b".md5sums"].concat(), Limit::LIST)
            }
            List::Digests(list) => self.digests.as_ref()?.read(list, Limit::LIST),
        };
        // The record spells the path in its own way, and a diverted file under the name that it gave up.
        let name = &self.record(package).name;
        let ends_there = |listed: &[u8]| {
            let (moved, _) = self.diversions().apply(&self.host.root, name, listed);
            path::name(moved) == path::name(at) && *self.host.root.canonicalize(moved) == *at
        };
        lists::digest_in(&digests.ok()?.0, ends_there).map(|md5| Digest::from_hexadecimal(Algorithm::Md5, &md5))
    }
}

impl FileRecords for DpkgInstallation<'_> {
    fn each_batch(&self, packages: Option<&[u32]>, depth: Depth, take: &mut dyn FnMut(Vec<FileRecord>)) {
        self.each_recorded(packages, depth, take);
    }

    fn restore(&self, package: u32) -> Option<Remedy> {
        let record = self.record(package);
        let has_apt = self.host.root.target(b"/var/lib/apt").is_ok() && !self.host.is_image_based();
        let line = CommandLine::new("apt install --reinstall").operand(self.full_name(record));
        (has_apt && self.can_be_fetched(record)).then(|| Remedy::new(RemedyKind::Restore, line))
    }
}

impl Upkeep for DpkgInstallation<'_> {
    fn automatic(&self, name: &[u8], sources: &[ByteString], jobs: &[Job]) -> Option<Automatic> {
        self.upgraded_by_itself(name, sources, jobs)
    }

    fn is_own(&self, job: &Job) -> bool {
        job.calls("apt.systemd.daily", &[])
    }

    fn upgrade_command(&self, number: u32) -> Option<CommandLine> {
        let name = self.full_name(self.record(number));
        self.host.root.target(b"/var/lib/apt").ok()?;
        Some(CommandLine::new("apt-get install --only-upgrade").operand(name))
    }
}

impl Catalogue for DpkgInstallation<'_> {
    fn offers(&self, asked: &OfferQuery) -> Vec<Offer> {
        self.all_offers(asked)
    }

    fn having(&self, names: &[ByteString]) -> Vec<(ByteString, ByteString)> {
        // Each name is a look through the lists; of many, one look that takes them apart is less.
        const FEW: usize = 8;
        match names.len() <= FEW {
            true => self.lists_with(names),
            // These are names of packages: no catalogue of applications need be read.
            false => {
                let offers = self.offers_with(&OfferQuery::Names(names.to_vec()), &Components::default());
                offers.iter().filter_map(Offer::listed_in).collect()
            }
        }
    }

    fn pulls_in(&self, offer: &Offer) -> Option<PullsIn> {
        self.brings_along(offer)
    }

    fn is_fetched(&self) -> bool {
        self.has_lists()
    }

    fn sources(&self) -> Vec<Source> {
        self.configured_sources()
    }

    fn unsearched(&self, search: &Search) -> Vec<Unsearched> {
        self.not_searched(search)
    }

    fn source_notes(&self) -> Vec<String> {
        DpkgInstallation::on_sources(self)
    }

    fn unhold_command(&self, package: &[u8]) -> Option<CommandLine> {
        (!self.host.is_image_based()).then(|| CommandLine::new("apt-mark unhold").operand(package))
    }

    fn install_command(&self, offer: &Offer) -> Option<CommandLine> {
        if self.host.is_image_based() {
            return None;
        }
        // Without a version, apt takes its candidate.
        let version = offer.version.as_ref().filter(|_| !offer.candidate);
        let version = version.map(|version| [b"=", &**version].concat()).unwrap_or_default();
        let foreign = offer.arch.as_ref().filter(|arch| ***arch != *b"all" && *arch != self.native());
        let arch = foreign.map(|arch| [b":", &**arch].concat()).unwrap_or_default();
        Some(CommandLine::new("apt install").operand([&*offer.name, &arch, &version].concat()))
    }
}
