//! Programs that Mason keeps for Neovim: language servers, debuggers, formatters (Mason's own manual, `:help mason`).
//!
//! Below `~/.local/share/nvim/mason` (`XDG_DATA_HOME`, `NVIM_APPNAME`): `packages/NAME` with a document
//! `mason-receipt.json`, and `bin` with a link or a script for each program.
//!
//! Traps: the receipt names the source as a package URL, whose version counts, under a key that newer ones renamed; `bin`
//! is put on the editor's search path and not on the shell's; a script names its package's directory.

use serde::Deserialize;

use crate::backend::simple::{
    InstalledPackage, Record, SimpleBackend, dirs_in, is_dir, links_into, of_each_user, parsed, scripts_in,
};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, Origin, Profile};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("mason");

/// The manager.
#[derive(Debug)]
pub struct Mason;

struct MasonRoot;

/// What was installed, and from where.
#[derive(Deserialize)]
struct Receipt {
    #[serde(alias = "primary_source")]
    source: SourceOf,
}

#[derive(Deserialize)]
struct SourceOf {
    /// A package URL.
    id: String,
}

impl Manager for Mason {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Language)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let data = host.user_dir(user, "XDG_DATA_HOME", ".local/share");
            let editor = host.variable(user, "NVIM_APPNAME").cloned().unwrap_or_else(|| "nvim".into());
            let dir = path::join(&path::join(&data, &editor), b"mason");
            let is_there = is_dir(host, &path::join(&dir, b"packages"));
            is_there.then_some((dir, MasonRoot))
        })
    }
}

/// The kind of source, the name in it and the version that a package URL has: `pkg:npm/tide@1.2?x#y`.
fn parts(url: &str) -> Option<(&str, &str, &str)> {
    let (kind, rest) = url.strip_prefix("pkg:")?.split_once('/')?;
    let (name, version) = rest.rsplit_once('@')?;
    let version = version.split(['?', '#']).next().unwrap_or_default();
    (!name.is_empty() && !version.is_empty()).then_some((kind, name, version))
}

impl SimpleBackend for MasonRoot {
    // What a program needs is in its own directory.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let (bin, packages) = (path::join(&at.dir, b"bin"), path::join(&at.dir, b"packages"));
        let mut scripts = scripts_in(host, &bin).unwrap_or_default();
        let contents: Vec<(ByteString, Vec<u8>)> = scripts
            .iter_mut()
            .filter_map(|script| Some((script.path.clone(), script.take_content(&mut record.notes)?)))
            .collect();
        for (name, _) in dirs_in(host, &packages, false) {
            let tree = path::join(&packages, &name);
            let file = path::join(&tree, b"mason-receipt.json");
            let mut item = InstalledPackage::new("program", name.clone());
            let read = parsed(host, &file, Limit::SMALL, |content| {
                let receipt = serde_json::from_slice::<Receipt>(content).map_err(|error| error.to_string())?;
                let (kind, name, version) = parts(&receipt.source.id).ok_or("its source has no version")?;
                // Of what can be encoded in it, only the sign of a scope occurs in names.
                Ok::<_, String>((kind.to_owned(), name.replace("%40", "@"), version.to_owned()))
            });
            match read {
                Ok((kind, of_source, version)) => {
                    item.version = Some(version.strip_prefix('v').unwrap_or(&version).into());
                    item.origin = Some(Origin::third_party("index", format!("{kind} {of_source}").as_str(), None));
                    item.evidence.push(Evidence::at(file.clone(), "source", item.with_version()));
                }
                Err(problem) => {
                    item.evidence.push(Evidence::directory(tree.clone(), "a package"));
                    record.notes.push(Loss::because(problem, format!("the version of {name} is unknown")));
                }
            }
            item.installed_at = host.root.modified(&file);
            for (link, _) in links_into(host, &bin, &tree) {
                item.bring(link.clone(), Evidence::at(link, "link", format!("starts {name}")));
            }
            let own = [&tree[..], b"/"].concat();
            for (script, _) in contents.iter().filter(|(_, text)| memchr::memmem::find(text, &own).is_some()) {
                item.bring(script.clone(), Evidence::whole(script.clone(), format!("starts {name}")));
            }
            item.trees.push(tree);
            record.items.push(item);
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Semver
    }

    fn program_dirs(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.dir, b"bin")]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_source_names_its_package_and_its_version() {
        for (url, expected) in [
            ("pkg:npm/tide@1.2.0", Some(("npm", "tide", "1.2.0"))),
            ("pkg:github/quay/tide@v3.1#cmd/tide", Some(("github", "quay/tide", "v3.1"))),
            ("pkg:npm/%40quay/tide@2?x=y", Some(("npm", "%40quay/tide", "2"))),
            ("pkg:npm/tide", None),
            ("tide@1", None),
        ] {
            assert_eq!(parts(url), expected, "{url}");
        }
    }
}
