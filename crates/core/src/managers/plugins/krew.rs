//! Plug-ins of `kubectl` that Krew keeps (Krew documentation, "Developer guide", "Directory layout").
//!
//! Below `~/.krew` (`KREW_ROOT`): a document `receipts/NAME.yaml` for each plug-in, its files in `store/NAME/VERSION/`,
//! and a link `bin/kubectl-NAME` to its program.
//!
//! Traps: a dash in a name is an underscore in the link's; the version that counts is the receipt's, and others may
//! lie beside it in the store; Krew is a plug-in of its own.

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, is_dir, links_into, of_each_user, parsed};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, Origin, Profile};
use crate::version::Scheme;
use whodunit_formats::yaml::Node;

const ID: ManagerId = ManagerId("krew");

/// The manager.
#[derive(Debug)]
pub struct Krew;

struct KrewRoot;

impl Manager for Krew {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Language)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let root = host.user_dir(user, "KREW_ROOT", ".krew");
            let is_there = is_dir(host, &path::join(&root, b"receipts"));
            is_there.then_some((root, KrewRoot))
        })
    }
}

/// The version that a receipt names, and the index that the plug-in came from.
fn receipt(document: &Node) -> Result<(ByteString, Option<&str>), &'static str> {
    let version = document.get("spec").and_then(|spec| spec.text_at("version")).ok_or("names no version")?;
    let source = document.get("status").and_then(|status| status.get("source"));
    Ok((version.strip_prefix('v').unwrap_or(version).into(), source.and_then(|source| source.text_at("name"))))
}

impl SimpleBackend for KrewRoot {
    // Plug-ins do not need one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let receipts = path::join(&at.dir, b"receipts");
        let links = links_into(host, &path::join(&at.dir, b"bin"), &path::join(&at.dir, b"store"));
        for (entry, _) in host.root.names_in(&receipts) {
            let Some(name) = entry.strip_suffix(b".yaml") else { continue };
            let file = path::join(&receipts, &entry);
            let tree = path::join(&path::join(&at.dir, b"store"), name);
            let mut item = InstalledPackage::new("plug-in", name);
            let read = parsed(host, &file, Limit::SMALL, |content| {
                let document = Node::parse(&String::from_utf8_lossy(content))?;
                let (version, source) = receipt(&document)?;
                Ok::<_, String>((version, source.map(str::to_owned)))
            });
            match read {
                Ok((version, source)) => {
                    item.evidence.push(Evidence::at(file.clone(), "spec", format!("{} {version}", item.name)));
                    item.version = Some(version);
                    item.origin = source.map(|name| Origin::third_party("index", name, None));
                }
                Err(problem) => {
                    item.evidence.push(Evidence::whole(file.clone(), "a plug-in's receipt"));
                    record.notes.push(Loss::because(problem, format!("the version of {} is unknown", item.name)));
                }
            }
            item.installed_at = host.root.modified(&file);
            for (link, _) in links.iter().filter(|(_, target)| path::within(target, &tree)) {
                let says = format!("starts {}", item.name);
                item.bring(link.clone(), Evidence::at(link.clone(), "link", says));
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
