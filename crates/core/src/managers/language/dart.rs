//! Programs that `dart pub global activate` put into a home (Dart documentation, "dart pub global").
//!
//! `~/.pub-cache/global_packages/NAME/pubspec.lock` (`PUB_CACHE`) has each package with its version, and
//! `~/.pub-cache/bin` a script for each command, whose comments name package, version and command.
//!
//! Traps: a package can be activated and bring no command; a script outlives its package.

use crate::backend::simple::{
    InstalledPackage, Record, SimpleBackend, dirs_in, is_dir, of_each_user, parsed, scripts_in,
};
use crate::backend::{CachePlace, Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, Origin, Profile, Status};
use crate::version::Scheme;
use whodunit_formats::yaml::Node;

const ID: ManagerId = ManagerId("pub");

/// The manager.
#[derive(Debug)]
pub struct Pub;

struct Cache;

impl Manager for Pub {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Language)
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::without_command("packages that pub downloaded", "~/.pub-cache/hosted")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let cache = host.user_dir(user, "PUB_CACHE", ".pub-cache");
            let is_there = is_dir(host, &path::join(&cache, b"global_packages"));
            is_there.then_some((cache, Cache))
        })
    }
}

/// The package that a script says it starts, and the line.
fn package_of(script: &[u8]) -> Option<(&[u8], u32)> {
    let mut head = (1..).zip(script.split(|&b| b == b'\n')).take(8);
    head.by_ref().find(|(_, line)| line.starts_with(b"# This file was created by pub "))?;
    head.find_map(|(number, line)| Some((line.strip_prefix(b"# Package: ")?.trim_ascii(), number)))
}

/// A package as its lock file has it: its version, and where it came from.
fn locked(host: &Host, file: &ByteString, name: &str) -> Result<(Option<String>, Option<String>), String> {
    let lock = parsed(host, file, Limit::SMALL, |content| Node::parse(&String::from_utf8_lossy(content)))?;
    let own = lock.get("packages").and_then(|packages| packages.get(name));
    let text = |key: &str| own.and_then(|own| own.text_at(key)).map(str::to_owned);
    Ok((text("version"), text("source")))
}

impl SimpleBackend for Cache {
    // What a program needs is locked for it alone.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let packages = path::join(&at.dir, b"global_packages");
        for (name, _) in dirs_in(host, &packages, false) {
            let tree = path::join(&packages, &name);
            let file = path::join(&tree, b"pubspec.lock");
            let mut item = InstalledPackage::new("program", name.clone());
            item.purl = Some("pub");
            item.installed_at = host.root.modified(&file);
            match locked(host, &file, &String::from_utf8_lossy(&name)) {
                Ok((version, source)) => {
                    item.version = version.map(ByteString::from);
                    item.evidence.push(Evidence::at(file, "packages", item.with_version()));
                    item.origin = source.map(|source| {
                        let is_local = source == "path";
                        let (origin, kind) = if is_local { ("local", "directory") } else { ("package index", "index") };
                        let trust = is_local.then(|| "local".to_owned());
                        Origin { name: origin.into(), kind: kind.to_owned(), url: None, trust }
                    });
                }
                Err(problem) => {
                    item.status = Status::Broken;
                    item.evidence.push(Evidence::directory(tree.clone(), "an activated package"));
                    record.notes.push(Loss::because(problem, format!("the version of {name} is unknown")));
                }
            }
            item.trees.push(tree);
            record.items.push(item);
        }
        let bin = path::join(&at.dir, b"bin");
        for mut script in scripts_in(host, &bin).unwrap_or_default() {
            let Some(content) = script.take_content(&mut record.notes) else { continue };
            let Some((package, line)) = package_of(&content) else { continue };
            if let Some(item) = record.items.iter_mut().find(|item| *item.name == *package) {
                let evidence = Evidence::line(script.path.clone(), line, format!("starts {}", item.name));
                item.bring(script.path, evidence);
            }
        }
        record
    }

    fn domain(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        [&b"bin"[..], b"global_packages"].map(|dir| path::join(&at.dir, dir)).to_vec()
    }

    fn scheme(&self) -> Scheme {
        Scheme::Semver
    }

    fn program_dirs(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.dir, b"bin")]
    }
}
