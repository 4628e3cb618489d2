//! Link farms: a folder for each package and version, whose files are linked into the prefix around the farm
//! (GNU Stow manual, "Terminology").
//!
//! The farm is a folder `stow` in the prefix (`/usr/local/stow`, `~/.local/stow`, or `STOW_DIR`); what lies in
//! `stow/barolog-2.1/bin` is linked from `bin`. A whole folder can be one link. There is no other record.

use std::cmp::Ordering;

use super::roster::{Item, Keeper, Record, Roster, folders_in, is_folder, link_target, links_into, scope_of};
use super::{Holdings, Manager};
use crate::model::{Evidence, Installation, ManagerId, Scope};
use crate::scene::Scene;
use crate::text::{Text, path, shell_word};
use crate::version::tokens;

const ID: ManagerId = ManagerId("stow");

/// The manager.
#[derive(Debug)]
pub struct Stow;

struct Farm;

impl Manager for Stow {
    fn id(&self) -> ManagerId {
        ID
    }

    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>> {
        let mut places: Vec<Text> = ["/usr/local/stow", "/opt/stow", "/usr/stow"].map(Text::from).to_vec();
        for person in &scene.people {
            places.extend(scene.variable(person, "STOW_DIR").cloned());
            places
                .extend([".local/stow", "stow", ".stow"].iter().map(|name| path::join(&person.home, name.as_bytes())));
        }
        let mut held: Vec<Box<dyn Holdings + 's>> = Vec::new();
        let mut seen: Vec<Text> = Vec::new();
        for place in places {
            let farm = scene.root.settle_folder(&place);
            if is_folder(scene, &farm) && !seen.contains(&farm) {
                seen.push(farm.clone());
                held.push(Roster::boxed(scene, ID, scope_of(scene, &farm), farm, Farm));
            }
        }
        held
    }
}

/// `barolog-2.1` → `barolog` and `2.1`.
fn name_and_version(folder: &[u8]) -> (Text, Option<Text>) {
    let cut =
        memchr::memrchr_iter(b'-', folder).find(|&at| at > 0 && folder.get(at + 1).is_some_and(u8::is_ascii_digit));
    match cut {
        Some(at) => (folder[..at].into(), Some(folder[at + 1..].into())),
        None => (folder.into(), None),
    }
}

impl Keeper for Farm {
    fn read(&self, scene: &Scene, at: &Installation) -> Record {
        let mut record = Record::default();
        let prefix = Text::from(path::folder(&at.location));
        let bins = ["bin", "sbin"].map(|name| path::join(&prefix, name.as_bytes()));
        for (folder, _) in folders_in(scene, &at.location, false) {
            let tree = path::join(&at.location, &folder);
            let (name, version) = name_and_version(&folder);
            let mut item = Item::new("package", name);
            item.version = version;
            item.tail = Some(folder.clone());
            item.installed_at = scene.root.entry(&tree).ok().map(|meta| meta.modified);
            item.evidence.push(Evidence::at(
                tree.clone(),
                "folder",
                "a package of the link farm; its name is all that is recorded",
            ));
            let links = bins.iter().flat_map(|bin| links_into(scene, bin, &tree));
            item.commands = links.map(|(link, _)| link).collect();
            // A folder of programs that is one link as a whole counts too.
            for bin in &bins {
                if scene.root.settle_folder(bin) != *bin && path::within(&scene.root.settle_folder(bin), &tree) {
                    let names = scene.root.folder(bin).and_then(|folder| folder.list()).unwrap_or_default();
                    item.commands.extend(names.into_iter().map(|(name, _)| path::join(bin, &name)));
                }
            }
            item.active = !item.commands.is_empty();
            item.trees.push(tree);
            let sudo = if at.scope == Scope::System { "sudo " } else { "" };
            let (farm, target, package) = (shell_word(&at.location), shell_word(&prefix), shell_word(&folder));
            record
                .items
                .push(item.remedy("remove", format!("{sudo}stow --dir={farm} --target={target} --delete {package}")));
        }
        record
    }

    /// Links can lie anywhere in the prefix.
    fn domain(&self, _: &Scene, at: &Installation) -> Vec<Text> {
        vec![path::folder(&at.location).into()]
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        tokens::compare(a, b)
    }

    fn linked(&self, scene: &Scene, at: &Installation, settled: &[u8]) -> Option<Text> {
        link_target(scene, settled).filter(|target| path::within(target, &at.location))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_folder_names_package_and_version() {
        for (folder, name, version) in [
            ("barolog-2.1", "barolog", Some("2.1")),
            ("tide-gauge", "tide-gauge", None),
            ("a-1-2", "a-1", Some("2")),
            ("-1", "-1", None),
        ] {
            assert_eq!(name_and_version(folder.as_bytes()), (name.into(), version.map(Text::from)), "{folder}");
        }
    }
}
