//! Remotes as sources, and the runtimes that their apps bring along.

use super::installation::FlatpakInstallation;
use super::origin::is_local;
use super::summary::{self, Listed};
use crate::backend::keys::KeyRing;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::model::{Evidence, Loss, Offer, Pulled, PullsIn, Signing, Source};
use whodunit_formats::key_file::KeyFile;

impl FlatpakInstallation<'_> {
    /// The runtime that an app would bring along, if no installation has it.
    pub(super) fn brings_along(&self, offer: &Offer) -> Option<PullsIn> {
        let remote = &offer.source.as_ref()?.name;
        let (arch, branch) = (offer.arch.as_ref()?, offer.channel.as_ref()?);
        let listed = self.listed(remote);
        let is_it = |one: &&Listed| {
            one.kind == "app"
                && one.id.as_bytes() == &*offer.name
                && one.arch.as_bytes() == &**arch
                && one.branch.as_bytes() == &**branch
        };
        let metadata = KeyFile::parse(listed.iter().find(is_it)?.metadata.as_ref()?.as_bytes());
        let needs = metadata.get("Application", "runtime")?.to_owned();
        let place = |base: &[u8]| path::join(&path::join(base, b"runtime"), &[needs.as_bytes(), b"/active"].concat());
        let bases = [self.location(), ByteString::from("/var/lib/flatpak")];
        let is_here = bases.iter().any(|base| self.host.root.target(&place(base)).is_ok());
        let mut pulled =
            PullsIn { download_size: Some(0), installed_size: Some(0), complete: true, ..PullsIn::default() };
        if !is_here {
            let runtime = listed
                .iter()
                .find(|one| one.kind == "runtime" && format!("{}/{}/{}", one.id, one.arch, one.branch) == needs);
            // Another remote may have it; which, is decided when it is fetched.
            (pulled.download_size, pulled.installed_size) =
                runtime.map_or((None, None), |runtime| (runtime.download_size, runtime.size));
            pulled.complete = runtime.is_some();
            pulled.packages.push(Pulled {
                name: needs.split('/').next().unwrap_or_default().into(),
                version: needs.rsplit('/').next().map(ByteString::from),
                download_size: pulled.download_size,
                installed_size: pulled.installed_size,
                shared: true,
            });
        }
        Some(pulled)
    }

    /// What the summaries of a remote list.
    fn listed(&self, remote: &[u8]) -> Vec<Listed> {
        let dir = path::join(&self.location(), b"repo/tmp/cache/summaries");
        let names = self.host.root.names_in(&dir);
        let of_remote = names
            .into_iter()
            .filter(|(name, kind)| *kind == Kind::File && remote_of(name).is_some_and(|of| *of == *remote));
        let read = of_remote.filter_map(|(name, _)| self.host.root.read(&path::join(&dir, &name), Limit::RECORD).ok());
        read.flat_map(|content| summary::parse(&content).0).collect()
    }

    /// The remotes that are configured. One without an address was made for a bundle.
    pub(super) fn configured(&self, notes: &mut Vec<Loss>) -> Vec<Source> {
        let dir = self.location();
        let file = path::join(&dir, b"repo/config");
        let groups =
            self.config.groups().filter_map(|group| Some((group, group.strip_prefix("remote \"")?.strip_suffix('"')?)));
        let of_one = |(group, name): (&str, &str)| {
            let value = |key: &str| self.config.get(group, key).filter(|value| !value.is_empty());
            let is_on = |key: &str| value(key) == Some("true");
            let keys = path::join(&dir, format!("repo/{name}.trustedkeys.gpg").as_bytes());
            let ring = KeyRing::read(&self.host.root, &[keys], notes);
            let url = value("url").map(ByteString::from);
            let says = match (value("xa.filter"), value("xa.subset")) {
                (Some(filter), _) => format!("remote {name}, with the filter {filter}"),
                (None, Some(subset)) => format!("remote {name}, only {subset}"),
                (None, None) => format!("remote {name}"),
            };
            Source {
                enabled: !is_on("xa.disable"),
                trust: is_local(url.as_ref()).then(|| "local".to_owned()),
                signed: Signing { keys: ring.listed(), ..Signing::set(self.is_verified(name.as_bytes())) },
                refreshed_at: self.fetched_at(name),
                priority: value("xa.prio").and_then(|text| text.parse().ok()),
                evidence: vec![Evidence::line(file.clone(), self.config.line(group).unwrap_or(1), says)],
                origins: vec![name.into()],
                gives: url.iter().cloned().collect(),
                url,
                ..Source::new(self.manager(), self.scope(), name, "remote")
            }
        };
        groups.map(of_one).collect()
    }

    /// When a remote's catalogue or summary was last fetched.
    pub(super) fn fetched_at(&self, remote: &str) -> Option<i64> {
        let root = &self.host.root;
        let list = |dir: &[u8]| root.names_in(dir);
        let of_remote = path::join(&path::join(&self.location(), b"appstream"), remote.as_bytes());
        // Where the time of the last refresh is not kept, that of the catalogue itself tells.
        let of_arch = [&b".timestamp"[..], b"active/appstream.xml.gz", b"active/appstream.xml"];
        let stamps = list(&of_remote).into_iter().flat_map(|(arch, _)| {
            let dir = path::join(&of_remote, &arch);
            of_arch.map(|name| path::join(&dir, name))
        });
        let summaries = path::join(&self.location(), b"repo/tmp/cache/summaries");
        let is_of_it = |name: &ByteString| {
            name.strip_prefix(remote.as_bytes()).is_some_and(|rest| matches!(rest.first(), None | Some(b'-' | b'.')))
        };
        let summaries = list(&summaries)
            .into_iter()
            .filter(|(name, _)| is_of_it(name))
            .map(|(name, _)| path::join(&summaries, &name));
        stamps.chain(summaries).filter_map(|file| root.target(&file).ok()).map(|meta| meta.modified).max()
    }
}

/// The remote of a summary's file: `NAME-ARCH-CHECKSUM.sub`, where the name may itself hold hyphens, or `NAME`.
pub(super) fn remote_of(file: &ByteString) -> Option<ByteString> {
    match file.strip_suffix(b".sub") {
        Some(stem) => stem.rsplitn(3, |&b| b == b'-').nth(2).map(ByteString::from),
        None => (!file.ends_with(b".idx") && !file.contains(&b'.')).then(|| file.clone()),
    }
}
