//! Programs that `go install` built, and Go's own toolchains (Go documentation, "go install"; package
//! `debug/buildinfo`).
//!
//! There is no record: each program in `GOBIN`, or `GOPATH/bin` (`~/go/bin`), says itself what it was built
//! from. Toolchains lie in `/usr/local/go` and, where several are kept, in `~/sdk/goX.Y`; each has a file
//! `VERSION`.
//!
//! Traps: a program built in a working copy says `(devel)`, which is no version, and names the commit; a
//! file that is no Go program is nobody's.

use std::cmp::Ordering;

use super::roster::{Item, Keeper, Record, Roster, folders_in, is_folder, of};
use super::{Holdings, Manager};
use crate::formats::binary::{self, GoProgram};
use crate::model::{Evidence, Installation, ManagerId, Origin, Scope};
use crate::root::{Kind, Limit};
use crate::scene::{Person, Scene};
use crate::text::{Text, path, shell_word};
use crate::version::semver;

const ID: ManagerId = ManagerId("go");

/// The manager.
#[derive(Debug)]
pub struct Go;

/// A folder of programs, with the toolchains that were put beside it.
struct GoPlace {
    bin: Option<Text>,
    toolchains: Vec<Text>,
}

impl Manager for Go {
    fn id(&self) -> ManagerId {
        ID
    }

    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>> {
        let of_person = |person: &Person| -> Option<Box<dyn Holdings + 's>> {
            // Of several folders in GOPATH, programs go into the first.
            let first = scene.variable(person, "GOPATH").and_then(|list| list.split(|&b| b == b':').next());
            let first = first.filter(|folder| folder.starts_with(b"/")).map(|folder| scene.root.settle_folder(folder));
            let home = first.unwrap_or_else(|| scene.folder_of(person, "", "go"));
            let bin = match scene.variable(person, "GOBIN") {
                Some(bin) => scene.root.settle_folder(bin),
                None => scene.root.settle_folder(&path::join(&home, b"bin")),
            };
            let sdk = scene.folder_of(person, "", "sdk");
            let kept = folders_in(scene, &sdk, false).into_iter().filter(|(name, _)| name.starts_with(b"go"));
            let toolchains: Vec<Text> = kept.map(|(name, _)| path::join(&sdk, &name)).collect();
            let bin = is_folder(scene, &bin).then_some(bin);
            let is_there = bin.is_some() || !toolchains.is_empty();
            is_there
                .then(|| Roster::boxed(scene, ID, of(person), bin.clone().unwrap_or(sdk), GoPlace { bin, toolchains }))
        };
        let mut held: Vec<Box<dyn Holdings + 's>> = scene.people.iter().filter_map(of_person).collect();
        let shared = scene.root.settle_folder(b"/usr/local/go");
        if scene.root.entry(&path::join(&shared, b"VERSION")).is_ok() {
            let toolchains = vec![shared.clone()];
            held.push(Roster::boxed(scene, ID, Scope::System, shared, GoPlace { bin: None, toolchains }));
        }
        held
    }
}

/// The command that a main package becomes: its last element, a major version left out.
fn command_of(package: &str) -> &str {
    let mut parts = package.rsplit('/');
    let last = parts.next().unwrap_or(package);
    let is_major =
        last.strip_prefix('v').is_some_and(|rest| !rest.is_empty() && rest.bytes().all(|b| b.is_ascii_digit()));
    if is_major { parts.next().unwrap_or(last) } else { last }
}

fn program(place: &Text, go: &GoProgram) -> Item {
    let named = go.package.clone().or_else(|| go.module.clone());
    let mut item = Item::new("program", named.clone().map_or_else(|| path::name(place).into(), Text::from));
    item.version = go.version.clone().filter(|version| version != "(devel)").map(Text::from);
    item.revision = go.revision.clone().map(Text::from);
    item.purl = Some("golang");
    item.also.push(path::name(place).into());
    if let Some(package) = &go.package {
        item.also.push(command_of(package).into());
    }
    item.origin = Some(match &go.version {
        Some(version) if version == "(devel)" => Origin {
            name: "working copy".into(),
            kind: "folder".to_owned(),
            url: None,
            trust: Some("local".to_owned()),
        },
        _ => Origin {
            name: go.module.clone().unwrap_or_default().into(),
            kind: "module".to_owned(),
            url: None,
            trust: None,
        },
    });
    let at = |key: &str, says: String| {
        Evidence::at(place.clone(), format!("section .go.buildinfo, {key}"), Text::from(says).to_string())
    };
    if let Some(package) = &go.package {
        item.evidence.push(at("path", package.clone()));
    }
    if let Some(module) = &go.module {
        item.evidence.push(at("mod", format!("{module} {}", go.version.clone().unwrap_or_default())));
    }
    item.evidence.push(at("toolchain", format!("built by {}", go.toolchain)));
    let module = go.package.clone().unwrap_or_default();
    let remove = format!("rm {}", shell_word(place));
    item.remedy("remove", remove).remedy("upgrade", format!("go install {}@latest", shell_word(module.as_bytes())))
}

impl Keeper for GoPlace {
    fn read(&self, scene: &Scene, _: &Installation) -> Record {
        let mut record = Record::default();
        if let Some(bin) = &self.bin {
            let names = scene.root.folder(bin).and_then(|folder| folder.list()).unwrap_or_default();
            for (name, _) in names.into_iter().filter(|(_, kind)| *kind == Kind::File) {
                let place = path::join(bin, &name);
                let Ok(file) = scene.root.open(&place) else { continue };
                let meta = file.meta();
                let Some(go) = binary::go_program(file) else { continue };
                let mut item = program(&place, &go);
                if record.items.iter().any(|other| other.name == item.name) {
                    item.tail = Some(path::join(&item.name, &name));
                }
                item.installed_at = Some(meta.modified);
                item.size = Some(meta.size);
                item.commands.push(place.clone());
                item.places.push((place, item.evidence[0].clone()));
                record.items.push(item);
            }
        }
        for folder in &self.toolchains {
            let file = path::join(folder, b"VERSION");
            let content = scene.root.read(&file, Limit::SMALL).unwrap_or_default();
            let line = content.split(|&b| b == b'\n').next().unwrap_or_default().trim_ascii();
            let version = line.strip_prefix(b"go").unwrap_or(line);
            let mut item = Item::kept("toolchain", "go", version);
            item.installed_at = scene.root.entry(&file).ok().map(|meta| meta.modified);
            item.evidence.push(Evidence::line(file, 1, Text::from(line).to_string()));
            item.trees.push(folder.clone());
            record.items.push(item);
        }
        record
    }

    fn domain(&self, _: &Scene, _: &Installation) -> Vec<Text> {
        self.bin.iter().chain(&self.toolchains).cloned().collect()
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        semver::compare(a, b)
    }

    fn program_folders(&self, _: &Scene, _: &Installation) -> Vec<Text> {
        self.bin.iter().cloned().collect()
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn a_command_is_called_after_its_package() {
        for (package, command) in [
            ("quay.example/osprey", "osprey"),
            ("quay.example/tern/v2", "tern"),
            ("quay.example/x/cmd/vane", "vane"),
            ("v2", "v2"),
        ] {
            assert_eq!(super::command_of(package), command);
        }
    }
}
