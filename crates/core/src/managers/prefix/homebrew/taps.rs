//! Taps: repositories of formulae, checked out with git below `Library/Taps/USER/homebrew-NAME` (*Homebrew
//! documentation*, "Taps"); and the formulae and casks that come from Homebrew's own list.

use super::offers;
use crate::backend::index_settings::without_credentials;
use crate::backend::simple::dirs_in;
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, Location, Source};
use whodunit_formats::key_file::KeyFile;

/// The directories of taps, below the prefix and below its repository on Linux and Intel Macs.
const PLACES: [&[u8]; 2] = [b"Library/Taps", b"Homebrew/Library/Taps"];

/// The taps of a prefix.
pub(super) fn configured(host: &Host, at: &Location) -> Vec<Source> {
    let mut found = Vec::new();
    for file in offers::lists(host) {
        let Ok(meta) = host.root.target(&file) else { continue };
        let name = if file.ends_with(b"cask.jws.json") { "homebrew/cask" } else { "homebrew/core" };
        found.push(Source {
            refreshed_at: Some(meta.modified),
            evidence: vec![Evidence::at(file, "whole file", format!("the list of {name}"))],
            origins: vec![name.into()],
            gives: vec![name.into()],
            ..Source::new(at.manager, at.scope.clone(), name, "tap")
        });
    }
    for place in PLACES {
        let dir = path::join(&at.dir, place);
        for (user, _) in dirs_in(host, &dir, false) {
            let of_user = path::join(&dir, &user);
            for (name, _) in dirs_in(host, &of_user, false) {
                found.push(tap(host, at, &user, &name, &path::join(&of_user, &name)));
            }
        }
    }
    found
}

fn tap(host: &Host, at: &Location, user: &ByteString, dir_name: &ByteString, dir: &ByteString) -> Source {
    let bare = dir_name.strip_prefix(b"homebrew-").unwrap_or(dir_name);
    let name = path::join(user, bare);
    let config = path::join(dir, b".git/config");
    let settings = KeyFile::parse(&host.root.read(&config, Limit::SMALL).unwrap_or_default());
    let url = settings.get("remote \"origin\"", "url").map(|url| without_credentials(url.as_bytes()));
    let fetched = host.root.target(&path::join(dir, b".git/FETCH_HEAD")).ok();
    let is_own = **user == *b"homebrew";
    Source {
        trust: (!is_own).then(|| "third-party".to_owned()),
        refreshed_at: fetched.map(|meta| meta.modified),
        evidence: vec![Evidence::at(dir.clone(), "directory", format!("tap {name}"))],
        origins: vec![name.clone()],
        gives: url.iter().cloned().collect(),
        url,
        ..Source::new(at.manager, at.scope.clone(), name, "tap")
    }
}
