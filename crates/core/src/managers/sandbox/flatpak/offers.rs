//! What remotes offered when their catalogues were last fetched: `appstream/REMOTE/ARCH/active/appstream.xml`, and the
//! summaries in `repo/tmp/cache/summaries`: `REMOTE-ARCH-CHECKSUM.sub`, or `REMOTE` in older releases. A summary has
//! every reference with its commit and size, and no version; a catalogue has the versions, of apps alone.

use std::cmp::Ordering;
use std::io::{BufReader, Read as _};

use hashbrown::{HashMap, HashSet};

use super::installation::FlatpakInstallation;
use super::origin;
use super::summary::{self, Listed};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::model::{Described, Evidence, Loss, Offer, OfferQuery, Origin};
use crate::version::debian;
use whodunit_formats::key_file::KeyFile;
use whodunit_formats::{appstream, packed};

/// The most bytes of one catalogue that are read.
const MAX_UNPACKED: u64 = 1 << 30;

/// A name and its branch.
type Branch<'o> = (&'o [u8], Option<&'o [u8]>);

/// Which of these an update, or a new installation, would take.
fn candidates(offers: &[Offer]) -> Vec<bool> {
    // An update goes to what the remote has on the same branch, where that is newer.
    let newer = |one: &Offer, now: &Offer| match (&one.version, &now.version) {
        (Some(one), Some(now)) => debian::compare(one, now) == Ordering::Greater,
        _ => false,
    };
    // The installed one of each branch, and the newest that its version can be compared with.
    let mut installed: HashMap<Branch<'_>, &Offer> = HashMap::new();
    let mut newest: HashMap<Branch<'_>, &Offer> = HashMap::new();
    for one in offers {
        let branch = (&*one.name, one.channel.as_deref());
        if one.installed {
            installed.entry(branch).or_insert(one);
        }
        let newest = newest.entry(branch).or_insert(one);
        if newest.version.is_none() || newer(one, newest) {
            *newest = one;
        }
    }
    let taken = |one: &Offer| {
        let branch = (&*one.name, one.channel.as_deref());
        match installed.get(&branch) {
            Some(now) if one.installed => now.held || !newer(newest[&branch], one),
            // A commit that is not the deployed one, of a version that nobody tells.
            Some(now) => !now.held && (one.version.is_none() || newer(one, now)),
            None => true,
        }
    };
    offers.iter().map(taken).collect()
}

impl FlatpakInstallation<'_> {
    pub(super) fn all_offers(&self, asked: &OfferQuery) -> (Vec<Offer>, Vec<Loss>) {
        let (mut offers, mut notes) = (self.installed_offers(asked), Vec::new());
        let dir = path::join(&self.location(), b"appstream");
        let list = |dir: &[u8]| self.host.root.names_in(dir);
        for (remote, _) in list(&dir).iter().filter(|(_, kind)| *kind == Kind::Dir) {
            let of_remote = path::join(&dir, remote);
            for (arch, _) in list(&of_remote).iter().filter(|(_, kind)| *kind == Kind::Dir) {
                let active = path::join(&path::join(&of_remote, arch), b"active");
                let files = ["appstream.xml.gz", "appstream.xml"].map(|name| path::join(&active, name.as_bytes()));
                let Some(file) = files.into_iter().find(|file| self.host.root.target(file).is_ok()) else { continue };
                if let Err(problem) = self.of_catalogue(asked, remote, &file, &mut offers) {
                    notes.push(Loss::damaged(file.clone(), problem.clone(), "what follows is unknown"));
                }
            }
        }
        self.of_summaries(asked, &mut offers, &mut notes);
        let taken = candidates(&offers);
        offers.iter_mut().zip(taken).for_each(|(one, taken)| one.candidate = taken);
        (offers, notes)
    }

    fn of_catalogue(
        &self,
        asked: &OfferQuery,
        remote: &ByteString,
        file: &ByteString,
        offers: &mut Vec<Offer>,
    ) -> Result<(), String> {
        let dated = self.host.root.target(file).map_or(0, |meta| meta.modified);
        let bytes = self.host.root.stream(file, Limit::RECORD).map_err(|error| error.reason())?;
        let stream = packed::open(bytes).map_err(|error| error.to_string())?;
        let stream = BufReader::with_capacity(256 << 10, stream.take(MAX_UNPACKED));
        let mut installed: HashMap<ByteString, Vec<usize>> = HashMap::new();
        for (place, offer) in offers.iter().enumerate().filter(|(_, offer)| offer.installed) {
            installed.entry(offer.name.clone()).or_default().push(place);
        }
        let mut seen: HashSet<(String, Option<String>)> = HashSet::new();
        let read = appstream::each(stream, &mut |one| {
            let Some((_, reference)) = one.bundle.as_ref().filter(|(kind, _)| kind == "flatpak") else { return };
            let parts: Vec<&str> = reference.split('/').collect();
            let [_, id, arch, branch] = parts[..] else { return };
            let owned = |list: &[String]| list.iter().map(|word| word.as_str().into()).collect::<Vec<ByteString>>();
            let (keywords, commands) = (owned(&one.keywords), owned(&one.binaries));
            let of_name: &[usize] = installed.get(id.as_bytes()).map_or(&[], Vec::as_slice);
            let is_wanted = match asked {
                OfferQuery::Installed => !of_name.is_empty(),
                _ => asked.wants(&Described {
                    name: id.as_bytes(),
                    display_name: Some(one.name.as_bytes()),
                    summary: Some(one.summary.as_bytes()),
                    keywords: &keywords,
                    commands: &commands,
                }),
            };
            if !is_wanted {
                return;
            }
            let version = one.version.as_deref().unwrap_or_default();
            // A catalogue that says the same again adds nothing.
            if !seen.insert((reference.clone(), one.version.clone())) {
                return;
            }
            let known = of_name.iter().find(|place| {
                let offer = &offers[**place];
                offer.channel.as_deref() == Some(branch.as_bytes())
                    && offer.version.as_deref() == Some(version.as_bytes())
            });
            // The same version: one offer, with the catalogue's date.
            if let Some(known) = known {
                offers[*known].catalogued_at = Some(dated);
                return;
            }
            let held = of_name.iter().any(|place| offers[*place].held);
            let bare = Offer::bare(self.manager(), self.scope(), id.into(), version.into(), Some(arch.into()), held);
            offers.push(Offer {
                version: one.version.as_deref().map(ByteString::from),
                channel: Some(branch.into()),
                source: Some(self.remote(remote)),
                publisher: ByteString::unless_empty(&one.developer),
                says: ByteString::unless_empty(&one.summary),
                display_name: ByteString::unless_empty(&one.name),
                homepage: ByteString::unless_empty(&one.homepage),
                license: ByteString::unless_empty(&one.license),
                signed: self.is_verified(remote),
                confinement: Some("sandboxed".to_owned()),
                provides: commands,
                keywords,
                catalogued_at: Some(dated),
                evidence: vec![Evidence::at(
                    file.clone(),
                    format!("component {}", one.id),
                    format!("release {version}"),
                )],
                ..bare
            });
        });
        read.map_err(|error| error.to_string())
    }

    fn of_summaries(&self, asked: &OfferQuery, offers: &mut Vec<Offer>, notes: &mut Vec<Loss>) {
        let dir = path::join(&self.location(), b"repo/tmp/cache/summaries");
        let names = self.host.root.names_in(&dir);
        for (name, _) in names.iter().filter(|(name, kind)| *kind == Kind::File && !name.ends_with(b".idx")) {
            let Some(remote) = super::remotes::remote_of(name) else { continue };
            let file = path::join(&dir, name);
            let dated = self.host.root.target(&file).map_or(0, |meta| meta.modified);
            match self.host.root.read(&file, Limit::RECORD) {
                Ok(content) => {
                    let (listed, lost) = summary::parse(&content);
                    if lost > 0 || listed.is_empty() && !content.is_empty() {
                        notes.push(Loss::damaged(
                            file.clone(),
                            "damaged",
                            format!("{lost} references in it cannot be read"),
                        ));
                    }
                    for one in listed {
                        self.of_reference(asked, &remote, &one, (&file, dated), offers);
                    }
                }
                Err(error) => notes.push(Loss::unread(&error, format!("what {remote} has is unknown"))),
            }
        }
    }

    /// Adds what a summary says of one reference to the catalogue's offer, or as one of its own.
    fn of_reference(
        &self,
        asked: &OfferQuery,
        remote: &ByteString,
        one: &Listed,
        (file, dated): (&ByteString, i64),
        offers: &mut Vec<Offer>,
    ) {
        let id = one.id.as_bytes();
        let deployed = self.commit_of(&one.kind, id, one.arch.as_bytes(), one.branch.as_bytes());
        let is_wanted = match asked {
            OfferQuery::Installed => deployed.is_some(),
            _ => {
                asked.wants(&Described { name: id, ..Described::default() })
                    || offers.iter().any(|offer| *offer.name == *id)
            }
        };
        if !is_wanted {
            return;
        }
        let is_it = |offer: &&mut Offer| {
            *offer.name == *id
                && offer.channel.as_deref() == Some(one.branch.as_bytes())
                && offer.arch.as_deref() == Some(one.arch.as_bytes())
                && offer.source.as_ref().is_some_and(|source| source.name == *remote)
        };
        let is_deployed = deployed.is_some_and(|commit| commit == one.commit);
        let mut known = offers.iter_mut().filter(is_it).filter(|offer| !offer.installed || is_deployed).peekable();
        if known.peek().is_some() {
            for offer in known {
                offer.size = offer.size.or(one.size);
                offer.download_size = offer.download_size.or(one.download_size);
                if offer.permissions.is_empty() {
                    offer.permissions = permissions(one);
                }
                offer.catalogued_at = offer.catalogued_at.or(Some(dated));
            }
            return;
        }
        let held = offers.iter().any(|offer| offer.held && *offer.name == *id);
        let arch = Some(one.arch.as_str().into());
        let bare = Offer::bare(self.manager(), self.scope(), id.into(), ByteString::default(), arch, held);
        let reference = format!("{}/{}/{}/{}", one.kind, one.id, one.arch, one.branch);
        let commit = one.commit.get(..12).unwrap_or_default();
        offers.push(Offer {
            version: None,
            channel: Some(one.branch.as_str().into()),
            source: Some(self.remote(remote)),
            signed: self.is_verified(remote),
            confinement: Some("sandboxed".to_owned()),
            permissions: permissions(one),
            download_size: one.download_size,
            size: one.size,
            catalogued_at: Some(dated),
            evidence: vec![Evidence::at(file.clone(), reference, format!("commit {commit}"))],
            ..bare
        });
    }

    pub(super) fn remote(&self, name: &ByteString) -> Origin {
        origin::of_remote(self.host, name.clone(), self.remote_address(name))
    }
}

/// What an app would be let through, by the metadata in a summary.
fn permissions(one: &Listed) -> Vec<String> {
    let metadata = one.metadata.as_deref().map(|text| KeyFile::parse(text.as_bytes()));
    metadata.map(|metadata| FlatpakInstallation::granted(&metadata)).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::managers::sandbox::flatpak::ID;
    use crate::model::Scope;

    /// Each offer looked at beside all others: the definition, which takes too long for large catalogues.
    fn by_definition(offers: &[Offer]) -> Vec<bool> {
        let newer = |one: &Offer, now: &Offer| match (&one.version, &now.version) {
            (Some(one), Some(now)) => debian::compare(one, now) == Ordering::Greater,
            _ => false,
        };
        let taken = |one: &Offer| {
            let same: Vec<&Offer> =
                offers.iter().filter(|other| (&other.name, &other.channel) == (&one.name, &one.channel)).collect();
            match same.iter().find(|other| other.installed) {
                Some(now) if one.installed => now.held || !same.iter().any(|other| newer(other, one)),
                Some(now) => !now.held && (one.version.is_none() || newer(one, now)),
                None => true,
            }
        };
        offers.iter().map(taken).collect()
    }

    #[test]
    fn what_an_update_takes_is_what_each_beside_all_others_gives() {
        // Every way in which four offers of two branches can be.
        for code in 0..16_u32.pow(4) {
            let offers: Vec<Offer> = (0..4)
                .map(|place| {
                    let bits = code >> (4 * place) & 15;
                    let version = [None, Some("1.0"), Some("1.1"), Some("1.0~rc1")][(bits & 3) as usize];
                    let is_first = place == 0;
                    let bare = Offer::bare(ID, Scope::System, "org.x.Tide".into(), ByteString::default(), None, false);
                    Offer {
                        version: version.map(ByteString::from),
                        channel: Some(if bits & 4 == 0 { "stable" } else { "beta" }.into()),
                        installed: bits & 8 != 0,
                        held: is_first && bits & 8 != 0 && code & 64 != 0,
                        ..bare
                    }
                })
                .collect();
            assert_eq!(candidates(&offers), by_definition(&offers), "{code}");
        }
    }
}
