//! What remotes offered when their catalogues were last fetched: `appstream/REMOTE/ARCH/active/appstream.xml`.

use std::cmp::Ordering;
use std::io::{BufReader, Read as _};

use super::holdings::FlatpakHoldings;
use crate::formats::{appstream, packed};
use crate::model::{Asked, Evidence, Offer, Origin};
use crate::root::{Kind, Limit};
use crate::text::{Text, path};
use crate::version::debian;

/// As much of one catalogue is looked at.
const MOST_UNPACKED: u64 = 1 << 30;

impl FlatpakHoldings<'_> {
    pub(super) fn all_offers(&self, asked: &Asked) -> (Vec<Offer>, Vec<String>) {
        let (mut offers, mut notes) = (self.installed_offers(asked), Vec::new());
        let folder = path::join(&self.location(), b"appstream");
        let list = |folder: &[u8]| self.scene.root.folder(folder).and_then(|folder| folder.list()).unwrap_or_default();
        for (remote, _) in list(&folder).iter().filter(|(_, kind)| *kind == Kind::Folder) {
            let of_remote = path::join(&folder, remote);
            for (arch, _) in list(&of_remote).iter().filter(|(_, kind)| *kind == Kind::Folder) {
                let active = path::join(&path::join(&of_remote, arch), b"active");
                let files = ["appstream.xml.gz", "appstream.xml"].map(|name| path::join(&active, name.as_bytes()));
                let Some(file) = files.into_iter().find(|file| self.scene.root.target(file).is_ok()) else { continue };
                if let Err(problem) = self.of_catalogue(asked, remote, &file, &mut offers) {
                    notes.push(format!("{file}: {problem}: what stands behind that is not known"));
                }
            }
        }
        // An update goes to what the remote has on the same branch, where that is newer.
        let newer = |one: &Offer, now: &Offer| match (&one.version, &now.version) {
            (Some(one), Some(now)) => debian::compare(one, now) == Ordering::Greater,
            _ => false,
        };
        let taken = |one: &Offer| {
            let same = |other: &&Offer| other.name == one.name && other.channel == one.channel;
            match offers.iter().filter(same).find(|other| other.installed) {
                Some(now) if one.installed => now.held || !offers.iter().filter(same).any(|other| newer(other, one)),
                Some(now) => !now.held && newer(one, now),
                None => true,
            }
        };
        let taken: Vec<bool> = offers.iter().map(taken).collect();
        offers.iter_mut().zip(taken).for_each(|(one, taken)| one.candidate = taken);
        (offers, notes)
    }

    fn of_catalogue(&self, asked: &Asked, remote: &Text, file: &Text, offers: &mut Vec<Offer>) -> Result<(), String> {
        let dated = self.scene.root.target(file).map_or(0, |meta| meta.modified);
        let bytes = self.scene.root.read(file, Limit::RECORD).map_err(|error| error.reason())?;
        let stream = packed::open(&bytes).map_err(|error| error.to_string())?;
        let stream = BufReader::with_capacity(256 << 10, stream.take(MOST_UNPACKED));
        let read = appstream::each(stream, &mut |one| {
            let Some((_, reference)) = one.bundle.as_ref().filter(|(kind, _)| kind == "flatpak") else { return };
            let parts: Vec<&str> = reference.split('/').collect();
            let [_, id, arch, branch] = parts[..] else { return };
            let title = one.name.to_lowercase().replace(' ', "");
            let is_installed = offers.iter().any(|offer| offer.installed && *offer.name == *id.as_bytes());
            let is_wanted = match asked {
                Asked::Installed => is_installed,
                Asked::Names(_) => asked.has(id.as_bytes()) || asked.has(title.as_bytes()),
            };
            if !is_wanted {
                return;
            }
            let version = one.version.as_deref().unwrap_or_default();
            let known = offers.iter_mut().find(|offer| {
                offer.installed
                    && *offer.name == *id.as_bytes()
                    && offer.channel.as_deref() == Some(branch.as_bytes())
                    && offer.version.as_deref() == Some(version.as_bytes())
            });
            // The same version: one offer, with the catalogue's date.
            if let Some(known) = known {
                known.catalogued_at = Some(dated);
                return;
            }
            let held = offers.iter().any(|offer| offer.held && *offer.name == *id.as_bytes());
            let bare = Offer::bare(self.manager(), self.scope(), id.into(), version.into(), Some(arch.into()), held);
            offers.push(Offer {
                version: one.version.as_deref().map(Text::from),
                channel: Some(branch.into()),
                source: Some(self.remote(remote)),
                publisher: Some(one.developer.as_str()).filter(|name| !name.is_empty()).map(Text::from),
                says: Some(one.summary.as_str()).filter(|says| !says.is_empty()).map(Text::from),
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

    fn remote(&self, name: &Text) -> Origin {
        let url = self.remote_address(name);
        Origin { name: name.clone(), kind: "remote".to_owned(), url, trust: None }
    }
}
