//! What one database of rpm holds. A package's number is that of its entry.

use std::sync::OnceLock;

use super::available::Ground;
use super::records::Records;
use super::store::{Form, Store};
use crate::backend::Detail;
use crate::backend::listed::{self, Role};
use crate::bytes::ByteString;
use crate::host::Host;
use crate::model::{Algorithm, Digest, Evidence, Location, Loss, Origin, Owner, Package, Scope, Status, package_id};
use crate::version::rpm;
use whodunit_formats::rpm_header::{Header, tag};

/// The installations of one database.
pub struct RpmInstallation<'s> {
    pub(super) host: &'s Host,
    pub(super) location: Location,
    pub(super) store: Store<'s>,
    pub(super) records: OnceLock<Records>,
    /// What tells what packages bring along.
    pub(super) ground: OnceLock<Ground>,
    /// Who made the distribution's own packages, as they themselves say.
    pub(super) vendor: OnceLock<Option<ByteString>>,
}

/// What a header says of its package, in short.
pub(super) struct Brief {
    pub name: ByteString,
    pub version: Option<ByteString>,
    pub arch: Option<ByteString>,
}

impl Brief {
    pub(super) fn of(header: &Header<'_>) -> Option<Self> {
        Some(Brief {
            name: header.text(tag::NAME)?.into(),
            version: header.version(),
            arch: header.text(tag::ARCH).map(ByteString::from),
        })
    }

    pub(super) fn dotted(&self) -> ByteString {
        [&*self.name, b".", self.arch.as_deref().unwrap_or(b"noarch")].concat().into()
    }

    pub fn in_full(&self) -> ByteString {
        [
            &*self.name,
            b"-",
            self.version.as_deref().unwrap_or_default(),
            b".",
            self.arch.as_deref().unwrap_or(b"noarch"),
        ]
        .concat()
        .into()
    }
}

/// Keys for checking signatures are kept beside the packages.
pub(super) const KEY: &[u8] = b"gpg-pubkey";

/// States of a file in which it was put there (`rpm`'s `RPMFILE_IS_INSTALLED`): normal, and on a shared disk.
pub(super) fn is_there(state: Option<&u64>) -> bool {
    matches!(state, None | Some(0 | 3))
}

/// A digest of a header, by the number of its algorithm (OpenPGP, RFC 9580, section 9.5).
pub(super) fn digest_of(text: &[u8], algorithm: Option<u64>) -> Option<Digest> {
    let text = std::str::from_utf8(text).ok().filter(|text| !text.is_empty())?;
    let algorithm = match algorithm {
        None | Some(1) => Algorithm::Md5,
        Some(2) => Algorithm::Sha1,
        Some(8) => Algorithm::Sha256,
        Some(9) => Algorithm::Sha384,
        Some(10) => Algorithm::Sha512,
        Some(_) => return None,
    };
    Some(Digest::from_hexadecimal(algorithm, text))
}

impl<'s> RpmInstallation<'s> {
    pub fn new(host: &'s Host, location: Location, form: Form) -> Self {
        let store = Store::new(&host.root, &location.dir, form);
        let (records, ground, vendor) = Default::default();
        RpmInstallation { host, location, store, records, ground, vendor }
    }

    /// The program with which packages are changed here; none, where that is an image.
    pub(super) fn tool(&self) -> Option<&'static str> {
        self.records().tool(&self.host.root).filter(|_| !self.host.is_image_based())
    }

    pub(super) fn records(&self) -> &Records {
        self.records.get_or_init(|| {
            // What dnf and zypper write is about the system's database alone.
            if self.location.scope != Scope::System {
                return Records::default();
            }
            let records = Records::read(&self.host.root);
            records.notes.iter().for_each(|note| self.store.note(note.clone()));
            records
        })
    }

    /// Hands the header of every package to `take`, which must not ask the database; keys are none.
    pub(super) fn each(&self, take: &mut dyn FnMut(u32, &Header<'_>)) {
        self.store.each(&mut |number, blob| self.hand_over(number, Header::parse(blob), take));
    }

    /// Hands a package's header to `take`, unless it is a key; one that is damaged is noted.
    fn hand_over(&self, number: u32, header: Option<Header<'_>>, take: &mut dyn FnMut(u32, &Header<'_>)) {
        match header.as_ref().and_then(|header| Some((header, header.text(tag::NAME)?))) {
            Some((_, KEY)) => {}
            Some((header, _)) => {
                self.check(number, header);
                take(number, header);
            }
            None => self.store.note_entry(number),
        }
    }

    /// The same of these entries, or of all where the database has no index that tells which.
    pub(super) fn among(&self, numbers: Option<Vec<u32>>, take: &mut dyn FnMut(u32, &Header<'_>)) {
        match numbers {
            Some(numbers) => self.some(&numbers, take),
            None => self.each(take),
        }
    }

    pub(super) fn some(&self, numbers: &[u32], take: &mut dyn FnMut(u32, &Header<'_>)) {
        for &number in numbers {
            let blob = self.store.one(number);
            self.hand_over(number, blob.as_deref().and_then(Header::parse), take);
        }
    }

    pub(super) fn check(&self, number: u32, header: &Header<'_>) {
        let (says, there) = header.counts_of_files();
        if says != there {
            let lost = format!("entry {number} says {says} files and names {there}: the rest of them are unknown");
            self.store.note(Loss::damaged(self.store.file.clone(), lost, ""));
        }
    }

    pub(super) fn with<T>(&self, number: u32, work: impl FnOnce(&Header<'_>) -> T) -> Option<T> {
        let blob = self.store.one(number)?;
        Some(work(&Header::parse(&blob)?))
    }

    /// Entries of a name, in the order of their numbers.
    pub(super) fn of_name(&self, name: &[u8]) -> Vec<(u32, Brief)> {
        let mut found = Vec::new();
        let mut take = |number, header: &Header<'_>| {
            found.extend(Brief::of(header).filter(|brief| *brief.name == *name).map(|brief| (number, brief)));
        };
        self.among(self.store.named(name), &mut take);
        found
    }

    pub(super) fn owner_of(&self, brief: &Brief, tail: &ByteString) -> Owner {
        let Location { manager, scope, .. } = &self.location;
        Owner {
            id: package_id(*manager, scope, tail),
            manager: *manager,
            scope: scope.clone(),
            name: brief.name.clone(),
            version: brief.version.clone(),
            status: Status::Installed,
        }
    }

    pub(super) fn distribution(&self) -> Option<&ByteString> {
        let vendor = self.vendor.get_or_init(|| {
            let mut vendor = None;
            let mut take = |_, header: &Header<'_>| {
                let has = |(_, dir, name): (usize, &[u8], &[u8])| {
                    name == b"os-release" && (dir == b"/etc/" || dir == b"/usr/lib/")
                };
                if vendor.is_none() && header.files().any(has) {
                    vendor = header.text(tag::VENDOR).map(ByteString::from);
                }
            };
            self.among(self.store.with_files(&[Box::from(&b"os-release"[..])].into_iter().collect()), &mut take);
            vendor
        });
        vendor.as_ref()
    }

    pub(super) fn origin(&self, header: &Header<'_>, brief: &Brief) -> Option<Origin> {
        let vendor = header.text(tag::VENDOR);
        let by_distribution = vendor.is_some() && vendor == self.distribution().map(|vendor| &**vendor);
        let trust = if by_distribution { "distribution" } else { "third-party" };
        match self.records().repository(&brief.name, brief.version.as_deref(), brief.arch.as_deref()) {
            // dnf's names for what was fetched by hand.
            Some(name) if name.starts_with(b"@") || name.is_empty() => Some(Origin::local("file", name.clone(), None)),
            Some(name) => Some(Origin {
                name: name.clone(),
                kind: "repository".to_owned(),
                url: self.records().address(name),
                trust: Some(trust.to_owned()),
            }),
            None if self.records().knows_repositories => None,
            None => vendor.map(|vendor| Origin {
                name: vendor.into(),
                kind: "publisher".to_owned(),
                url: None,
                trust: Some(trust.to_owned()),
            }),
        }
    }

    pub(super) fn package(&self, number: u32, header: &Header<'_>, brief: &Brief, detail: Detail) -> Package {
        let records = self.records();
        let mut package = Package {
            id: ByteString::default(),
            manager: self.location.manager,
            scope: self.location.scope.clone(),
            location: self.location.dir.clone(),
            name: brief.name.clone(),
            version: brief.version.clone(),
            arch: brief.arch.clone(),
            kind: "package".to_owned(),
            channel: header.text(tag::MODULARITY_LABEL).map(ByteString::from),
            revision: None,
            origin: self.origin(header, brief),
            reason: records.reason(&brief.name, brief.arch.as_deref()),
            held: records.is_held(&brief.name),
            active: true,
            status: Status::Installed,
            confinement: Some("none".to_owned()),
            installed_at: header.number(tag::INSTALL_TIME).and_then(|seconds| i64::try_from(seconds).ok()),
            size: header.number(tag::LONG_SIZE).or_else(|| header.number(tag::SIZE)),
            commands: Vec::new(),
            launchers: Vec::new(),
            title: None,
            purl: if detail.evidence { self.purl(brief) } else { None },
            evidence: if detail.evidence { self.evidence(number, brief) } else { Vec::new() },
        };
        if detail.programs {
            let states: Vec<u64> = header.numbers(tag::FILE_STATES).collect();
            for (_, dir, name) in header.files().filter(|(place, ..)| is_there(states.get(*place))) {
                let file = [dir, name].concat();
                match listed::role(&file) {
                    Some(Role::Command) => package.commands.push(file.into()),
                    Some(Role::Launcher) => package.launchers.push(listed::launcher_id(&file)),
                    None => {}
                }
            }
        }
        package
    }

    pub(super) fn evidence(&self, number: u32, brief: &Brief) -> Vec<Evidence> {
        let says = format!("{} {}", brief.name, brief.version.clone().unwrap_or_default());
        let mut evidence = vec![Evidence::entry(self.store.file.clone(), number, says)];
        evidence.extend(self.records().evidence(&brief.name, brief.arch.as_deref()));
        evidence
    }

    /// As the package-url type `rpm` has it.
    pub(super) fn purl(&self, brief: &Brief) -> Option<String> {
        let utf8 = |text: &[u8]| std::str::from_utf8(text).ok().map(str::to_owned);
        let mut purl = packageurl::PackageUrl::new("rpm", utf8(&brief.name)?).ok()?;
        if let Some(id) = self.host.system().and_then(|system| system.id.as_ref()) {
            purl.with_namespace(utf8(id)?).ok()?;
        }
        let (epoch, version, release) = rpm::parts(brief.version.as_deref()?);
        let release = release.map(|release| [b"-", release].concat()).unwrap_or_default();
        purl.with_version(utf8(&[version, &release].concat())?).ok()?;
        if let Some(arch) = &brief.arch {
            purl.add_qualifier("arch", utf8(arch)?).ok()?;
        }
        if epoch != b"0" {
            purl.add_qualifier("epoch", utf8(epoch)?).ok()?;
        }
        Some(purl.to_string())
    }
}

/// What an id ends in: the name where that is the only one, else with whatever tells it apart.
pub(super) fn tail(brief: &Brief, same_name: &[&Brief]) -> ByteString {
    let others: Vec<_> = same_name.iter().filter(|other| other.in_full() != brief.in_full()).collect();
    if others.is_empty() {
        brief.name.clone()
    } else if others.iter().all(|other| other.arch != brief.arch) {
        brief.dotted()
    } else {
        brief.in_full()
    }
}
