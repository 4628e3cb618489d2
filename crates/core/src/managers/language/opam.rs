//! opam: packages of OCaml in the switches of a user (opam manual, "Switches", "Common file format").
//!
//! `~/.opam` (`OPAMROOT`) has a directory for each switch; `config` names them all, those in projects by their path, and
//! the one that is current. `SWITCH/.opam-switch/switch-state` says what is installed and what of it was asked for,
//! `install/NAME.changes` which files each package added, `packages/NAME.VERSION/opam` what it needs.
//!
//! Traps: a switch of a project is in its directory `_opam`; name and version are parted by the first dot; what a package
//! needs is a formula, of which every name is taken for a need.

use hashbrown::HashSet;
use rayon::prelude::*;

use crate::backend::simple::{
    FileLists, InstalledPackage, Record, SimpleBackend, SimpleInstallation, dirs_in, each_list, is_dir, of, parsed,
};
use crate::backend::{CachePlace, Installation, Manager, Unattended};
use crate::bytes::{ByteString, path};
use crate::fs::{FsError, Limit};
use crate::host::{Host, User};
use crate::model::{
    CommandLine, Evidence, Location, Loss, ManagerId, ManagerKind, NameFilter, Profile, Reason, RemedyKind, Scope,
};
use crate::version::Scheme;
use whodunit_formats::opam::{Fields, Item, fields};

const ID: ManagerId = ManagerId("opam");

/// The manager.
#[derive(Debug)]
pub struct Opam;

/// One switch.
struct Switch {
    /// As opam calls it: a name, or the directory of a project.
    name: ByteString,
    /// Canonical.
    dir: ByteString,
    is_current: bool,
}

impl Manager for Opam {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile { keeps_versions: true, ..Profile::of(ManagerKind::Language) }
    }

    fn unattended(&self) -> &'static [Unattended] {
        &[("opam remove", "opam remove --yes")]
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::cleared_by("sources that opam downloaded", "~/.opam/download-cache", "opam clean -c")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        host.users.iter().flat_map(|user| of_user(host, user)).collect()
    }
}

fn of_user<'h>(host: &'h Host, user: &User) -> Vec<Box<dyn Installation + 'h>> {
    let root = host.user_dir(user, "OPAMROOT", ".opam");
    let file = path::join(&root, b"config");
    let read = host.root.read(&file, Limit::SMALL);
    if read.as_ref().is_err_and(FsError::is_missing) {
        return Vec::new();
    }
    // The directories tell of most of what a damaged file does not.
    let config = fields(&String::from_utf8_lossy(&read.unwrap_or_default())).unwrap_or_else(|problem| {
        host.root.note_gap(&file, format!("{problem}: which switch is in use is unknown"));
        Vec::new()
    });
    let current = texts(&config, "switch").next().map(|item| item.text.clone());
    let mut names: Vec<String> = texts(&config, "installed-switches").map(|item| item.text.clone()).collect();
    for (name, _) in dirs_in(host, &root, false) {
        let name = String::from_utf8_lossy(&name).into_owned();
        if !names.contains(&name) {
            names.push(name);
        }
    }
    let opened = names.into_iter().filter_map(|name| {
        let dir = match name.starts_with('/') {
            true => path::join(name.as_bytes(), b"_opam"),
            false => path::join(&root, name.as_bytes()),
        };
        let dir = host.root.canonicalize_dir(&dir);
        let is_current = current.as_deref() == Some(&name);
        let scope = if is_current { of(user) } else { Scope::Environment(dir.clone()) };
        let is_there = is_dir(host, &path::join(&dir, b".opam-switch"));
        let switch = Switch { name: name.into(), dir: dir.clone(), is_current };
        is_there.then(|| SimpleInstallation::boxed(host, ID, scope, dir, switch))
    });
    opened.collect()
}

/// The fields of a file.
fn read_fields(host: &Host, file: &ByteString, limit: Limit) -> Result<Fields, String> {
    parsed(host, file, limit, |content| fields(&String::from_utf8_lossy(content)))
}

/// The texts of a field.
fn texts<'f>(read: &'f Fields, name: &str) -> impl Iterator<Item = &'f Item> {
    read.iter().filter(move |(field, _)| field == name).flat_map(|(_, items)| items)
}

/// The names in what a package needs.
fn needs(host: &Host, dir: &ByteString) -> Result<Vec<String>, String> {
    let read = read_fields(host, &path::join(dir, b"opam"), Limit::SMALL)?;
    Ok(texts(&read, "depends").map(|item| item.text.clone()).collect())
}

impl Switch {
    fn item(&self, host: &Host, state: &ByteString, installed: &Item) -> (InstalledPackage, Option<Loss>) {
        let (name, version) = installed.text.split_once('.').unwrap_or((&installed.text, ""));
        let mut item = InstalledPackage::new("package", name);
        item.version = Some(version).filter(|version| !version.is_empty()).map(ByteString::from);
        item.active = self.is_current;
        item.evidence.push(Evidence::line(
            state.clone(),
            installed.line,
            ByteString::from(installed.text.as_str()).to_string(),
        ));
        let inside = path::join(&self.dir, b".opam-switch");
        item.entry = path::join(&path::join(&inside, b"install"), &[name.as_bytes(), b".changes"].concat());
        item.installed_at = host.root.modified(&item.entry);
        let package = path::join(&path::join(&inside, b"packages"), installed.text.as_bytes());
        let lost = match needs(host, &package) {
            Ok(needs) => {
                needs.iter().for_each(|need| item.need(need.as_bytes()));
                None
            }
            Err(problem) => Some(Loss::because(problem, format!("what {} needs is unknown", item.name))),
        };
        let switch = [b"--switch=", &*self.name].concat();
        let line = CommandLine::new("opam remove").arg(switch).operand(name);
        (item.remedy(RemedyKind::Remove, line), lost)
    }
}

impl SimpleBackend for Switch {
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, _: &Location) -> Record {
        let mut record = Record::default();
        let state = path::join(&self.dir, b".opam-switch/switch-state");
        let read = match read_fields(host, &state, Limit::LIST) {
            Ok(read) => read,
            Err(problem) => {
                record.notes.push(Loss::because(problem, "what opam installed is unknown"));
                return record;
            }
        };
        let roots: HashSet<&str> = texts(&read, "roots").map(|item| item.text.as_str()).collect();
        // A name becomes part of a path.
        let installed =
            texts(&read, "installed").filter(|item| !item.text.contains('/') && !item.text.starts_with('.'));
        let installed: Vec<&Item> = installed.collect();
        let items: Vec<_> = installed.par_iter().map(|item| self.item(host, &state, item)).collect();
        for ((mut item, lost), installed) in items.into_iter().zip(installed) {
            if !roots.contains(installed.text.as_str()) {
                item.reason = Reason::Dependency;
            }
            record.items.push(item);
            record.notes.extend(lost);
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Debian
    }

    fn lists(&self) -> Option<&dyn FileLists> {
        Some(self)
    }

    fn program_dirs(&self, _: &Host, _: &Location) -> Vec<ByteString> {
        if self.is_current { vec![path::join(&self.dir, b"bin")] } else { Vec::new() }
    }
}

impl FileLists for Switch {
    fn each(
        &self,
        host: &Host,
        items: &[InstalledPackage],
        wanted: &NameFilter,
        notes: &mut Vec<Loss>,
        take: &mut dyn FnMut(u32, &[u8], u32),
    ) {
        let find = |content: &[u8]| match fields(&String::from_utf8_lossy(content)) {
            Ok(read) => {
                let is_dir = |item: &&Item| item.options.iter().any(|option| option == "D");
                let added = texts(&read, "added").filter(|item| !is_dir(item) && !item.text.starts_with('/'));
                let files = added.map(|item| (path::without_dots(item.text.as_bytes(), &self.dir), item.line));
                let inside = files.filter(|(file, _)| path::within(file, &self.dir) && wanted.has(path::name(file)));
                (inside.collect(), None)
            }
            Err(what) => (Vec::new(), Some(what)),
        };
        // A package that only brings others along adds nothing.
        each_list(&host.root, items, |item| item.entry.clone(), |_| true, find, notes, take);
    }
}
