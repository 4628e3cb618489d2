//! What Steam installed into its libraries.
//!
//! `steamapps/appmanifest_ID.acf` in a library describes what was installed: name, directory below `steamapps/common`,
//! build, bytes. `steamapps/libraryfolders.vdf` in Steam's own directory names the libraries. Both are nested pairs of
//! quoted texts. A launcher in `~/.local/share/applications` starts `steam steam://rungameid/ID`.
//!
//! Traps: a manifest can be there before anything is: `StateFlags` has the bit 4 once it is all there; a library can be
//! on a medium that is not mounted.

use std::sync::OnceLock;

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, is_dir, launchers_in, of_each_user, parsed};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, Profile, Status};
use crate::version::Scheme;
use whodunit_formats::quoted_pairs::Pairs;

const ID: ManagerId = ManagerId("steam");
/// Set in `StateFlags` where all is there.
const INSTALLED: u64 = 4;

/// The manager.
#[derive(Debug)]
pub struct Steam;

struct Libraries {
    launchers: ByteString,
    /// Their directories, and why further ones are unknown; looked for on first use.
    found: OnceLock<(Vec<ByteString>, Option<Loss>)>,
}

impl Manager for Steam {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Prefix)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let dirs = [".local/share/Steam", ".steam/steam"].map(|dir| host.user_dir(user, "", dir));
            let dir = dirs.into_iter().find(|dir| is_dir(host, &path::join(dir, b"steamapps")))?;
            let launchers = host.user_dir(user, "", ".local/share/applications");
            Some((dir, Libraries { launchers, found: OnceLock::new() }))
        })
    }
}

/// The directories of libraries: Steam's own, and those that its list names.
fn libraries(host: &Host, own: &ByteString) -> (Vec<ByteString>, Option<Loss>) {
    let file = path::join(own, b"steamapps/libraryfolders.vdf");
    let mut found = vec![own.clone()];
    if host.root.entry(&file).is_err() {
        return (found, None);
    }
    match parsed(host, &file, Limit::SMALL, Pairs::parse) {
        Ok(read) => {
            let listed = read.below("libraryfolders").into_iter().flat_map(Pairs::children);
            for dir in listed.filter_map(|library| library.text("path")).filter(|dir| dir.starts_with('/')) {
                let dir = host.root.canonicalize_dir(dir.as_bytes());
                if !found.contains(&dir) {
                    found.push(dir);
                }
            }
            (found, None)
        }
        Err(problem) => (found, Some(Loss::because(problem, "further libraries are unknown"))),
    }
}

/// What a manifest describes.
fn described(file: &ByteString, read: &Pairs, common: &ByteString) -> Option<InstalledPackage> {
    let state = read.below("AppState")?;
    let number = |key: &str| state.text(key)?.parse::<u64>().ok();
    let mut item = InstalledPackage::new("application", state.text("name")?);
    item.tail = Some(state.text("appid")?.into());
    item.also.push(state.text("appid")?.into());
    item.version = state.text("buildid").map(ByteString::from);
    item.size = number("SizeOnDisk");
    item.installed_at = number("LastUpdated").and_then(|seconds| i64::try_from(seconds).ok());
    if number("StateFlags").is_none_or(|flags| flags & INSTALLED == 0) {
        item.status = Status::Broken;
    }
    item.evidence.push(Evidence::at(file.clone(), "AppState", item.name.to_string()));
    let dir = state.text("installdir").filter(|dir| !dir.is_empty() && !dir.contains('/') && *dir != "..")?;
    item.trees.push(path::join(common, dir.as_bytes()));
    Some(item)
}

impl Libraries {
    fn found(&self, host: &Host, at: &Location) -> &(Vec<ByteString>, Option<Loss>) {
        self.found.get_or_init(|| libraries(host, &at.dir))
    }
}

impl SimpleBackend for Libraries {
    // What one needs comes with it.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let (libraries, lost) = self.found(host, at);
        let mut record = Record { notes: lost.iter().cloned().collect(), ..Record::default() };
        for library in libraries {
            let apps = path::join(library, b"steamapps");
            let common = path::join(&apps, b"common");
            for (name, _) in host.root.names_in(&apps) {
                if !name.starts_with(b"appmanifest_") || !name.ends_with(b".acf") {
                    continue;
                }
                let file = path::join(&apps, &name);
                let unknown = format!("what {name} describes is unknown");
                match parsed(host, &file, Limit::SMALL, Pairs::parse).map(|read| described(&file, &read, &common)) {
                    Ok(Some(item)) => record.items.push(item),
                    Ok(None) => record.notes.push(Loss::damaged(file, "lacks a name or a directory", unknown)),
                    Err(problem) => record.notes.push(Loss::because(problem, unknown)),
                }
            }
        }
        for (file, entry) in launchers_in(host, &self.launchers, &mut record.notes) {
            let starts = entry.text("Exec").unwrap_or_default();
            let Some((_, id)) = starts.split_once("steam://rungameid/") else { continue };
            let id: String = id.chars().take_while(char::is_ascii_digit).collect();
            if let Some(item) = record.items.iter_mut().find(|item| item.tail.as_deref() == Some(id.as_bytes())) {
                let evidence = Evidence::line(file.clone(), entry.line("Exec"), format!("starts {}", item.name));
                item.places.push((file, evidence));
            }
        }
        record
    }

    fn domain(&self, host: &Host, at: &Location) -> Vec<ByteString> {
        self.found(host, at).0.iter().chain([&self.launchers]).cloned().collect()
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }
}
