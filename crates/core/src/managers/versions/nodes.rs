//! nvm and fnm, which put the chosen Node.js on the search path (their READMEs).
//!
//! | manager | versions | default |
//! |---|---|---|
//! | nvm | `~/.nvm/versions/node/vX/` (`NVM_DIR`) | `alias/default`, a word that can name another alias |
//! | fnm | `~/.local/share/fnm/node-versions/vX/location/` (`FNM_DIR`) | link `aliases/default` |
//!
//! A `.nvmrc` in the current directory counts only after `nvm use` or `fnm use`: it is told, and decides nothing.
//!
//! Traps: nvm's `alias/lts/*` name versions that need not be installed; aliases can lead in a circle; fnm's
//! links for each open shell pile up and are no versions.

use super::{highest, nearest};
use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, dirs_in, is_dir, link_target, of_each_user};
use crate::backend::{CachePlace, Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::{Host, User};
use crate::model::{CommandLine, Evidence, Location, ManagerId, ManagerKind, Profile, RemedyKind};
use crate::version::Scheme;
use crate::version::semver;

const NVM: ManagerId = ManagerId("nvm");
const FNM: ManagerId = ManagerId("fnm");

/// nvm.
#[derive(Debug)]
pub struct Nvm;

/// fnm.
#[derive(Debug)]
pub struct Fnm;

struct NvmDir<'s>(&'s User);
struct FnmDir<'s>(&'s User);

impl Manager for Nvm {
    fn id(&self) -> ManagerId {
        NVM
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Versions)
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::without_command("archives that nvm downloaded", "~/.nvm/.cache")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, NVM, |user| {
            let dir = host.user_dir(user, "NVM_DIR", ".nvm");
            let is_there =
                is_dir(host, &path::join(&dir, b"versions")) || host.root.entry(&path::join(&dir, b"nvm.sh")).is_ok();
            is_there.then_some((dir, NvmDir(user)))
        })
    }
}

impl Manager for Fnm {
    fn id(&self) -> ManagerId {
        FNM
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Versions)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, FNM, |user| {
            let dir = host.user_dir(user, "FNM_DIR", ".local/share/fnm");
            let is_there = is_dir(host, &path::join(&dir, b"node-versions"));
            is_there.then_some((dir, FnmDir(user)))
        })
    }
}

/// What a version file in the current directory asks for: it counts once the manager is told to use it.
fn asked_here(
    host: &Host,
    user: &User,
    files: &[&str],
    kept: &[ByteString],
    how: &str,
) -> Option<(ByteString, Evidence)> {
    let start = host.working_dir(user);
    let (file, content) = files.iter().find_map(|name| nearest(host, &start, name))?;
    let word = ByteString::from(content.split(u8::is_ascii_whitespace).find(|word| !word.is_empty())?);
    let version = highest(kept, word.strip_prefix(b"v").unwrap_or(&word), Scheme::Semver)?.clone();
    Some((version, Evidence::line(file, 1, format!("{word} is requested here; it takes effect after `{how}`"))))
}

/// The most aliases that may name one another.
const MAX_ALIASES: usize = 10;

/// The version that nvm's default names, alias by alias.
fn nvm_default(host: &Host, at: &Location, kept: &[ByteString]) -> Option<(ByteString, Evidence)> {
    let first = path::join(&at.dir, b"alias/default");
    let mut word = ByteString::from("default");
    for _ in 0..MAX_ALIASES {
        let file = path::join(&path::join(&at.dir, b"alias"), &word);
        let Ok(content) = host.root.read(&file, Limit::SMALL) else { break };
        word = content.trim_ascii().into();
    }
    let version = match &*word {
        b"node" | b"stable" => kept.iter().max_by(|a, b| semver::compare(a, b))?,
        other => highest(kept, other.strip_prefix(b"v").unwrap_or(other), Scheme::Semver)?,
    };
    Some((version.clone(), Evidence::line(first, 1, format!("a new shell gets {version}"))))
}

impl SimpleBackend for NvmDir<'_> {
    // Its packages declare nothing of one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let versions = path::join(&at.dir, b"versions/node");
        let kept: Vec<ByteString> = dirs_in(host, &versions, false).into_iter().map(|(name, _)| name).collect();
        let default = nvm_default(host, at, &kept);
        let requested = asked_here(host, self.0, &[".nvmrc"], &kept, "nvm use");
        for version in &kept {
            let tree = path::join(&versions, version);
            let mut item = kept_node(host, version, tree, default.as_ref(), requested.as_ref());
            // `nvm` is a function of the shell, which only its own script defines.
            let start = CommandLine::new(".").arg(path::join(&at.dir, b"nvm.sh")).words("--no-use");
            let of_it = |verb: &str| {
                let call = CommandLine::new("nvm").words(verb).arg(version.clone());
                CommandLine::new("bash -c").arg(start.clone().and_then(call).to_string())
            };
            item =
                item.remedy(RemedyKind::Remove, of_it("uninstall")).remedy(RemedyKind::Choose, of_it("alias default"));
            record.items.push(item);
        }
        let mut item = InstalledPackage::new("program", "nvm");
        item.evidence.push(Evidence::directory(at.dir.clone(), "nvm itself: functions that a shell loads"));
        item.trees.push(at.dir.clone());
        record.items.push(item);
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Semver
    }
}

fn kept_node(
    host: &Host,
    version: &ByteString,
    tree: ByteString,
    default: Option<&(ByteString, Evidence)>,
    requested: Option<&(ByteString, Evidence)>,
) -> InstalledPackage {
    let mut item = InstalledPackage::kept("toolchain", "node", version.clone());
    // The directory has the version with a `v`, which is no part of it.
    item.version = Some(version.strip_prefix(b"v").unwrap_or(version).into());
    item.tail = Some(path::join(b"node", version.strip_prefix(b"v").unwrap_or(version)));
    item.installed_at = host.root.modified(&tree);
    item.evidence.push(Evidence::directory(tree.clone(), format!("node {version}")));
    item.active = default.is_some_and(|(chosen, _)| chosen == version);
    let says = [default, requested].into_iter().flatten().filter(|(chosen, _)| chosen == version);
    item.evidence.extend(says.map(|(_, why)| why.clone()));
    item.trees.push(tree);
    item
}

impl SimpleBackend for FnmDir<'_> {
    // Its packages declare nothing of one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let versions = path::join(&at.dir, b"node-versions");
        let kept: Vec<ByteString> = dirs_in(host, &versions, false).into_iter().map(|(name, _)| name).collect();
        let alias = path::join(&at.dir, b"aliases/default");
        let default = link_target(host, &alias).and_then(|target| {
            let version = ByteString::from(path::name(path::parent(&target)));
            kept.contains(&version)
                .then(|| (version.clone(), Evidence::at(alias, "link", format!("a new shell gets {version}"))))
        });
        let requested = asked_here(host, self.0, &[".nvmrc", ".node-version"], &kept, "fnm use");
        for version in &kept {
            let tree = path::join(&versions, version);
            let item = kept_node(host, version, tree, default.as_ref(), requested.as_ref());
            let of_it = |verb: &str| CommandLine::new("fnm").words(verb).operand(version.clone());
            record
                .items
                .push(item.remedy(RemedyKind::Remove, of_it("uninstall")).remedy(RemedyKind::Choose, of_it("default")));
        }
        record
    }

    fn domain(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.dir, b"node-versions")]
    }

    fn scheme(&self) -> Scheme {
        Scheme::Semver
    }
}
