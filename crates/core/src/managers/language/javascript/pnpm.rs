//! pnpm: packages in its global directory, and the scripts that start them.

use super::{PNPM, inner, origin, package, package_file, registries};
use crate::backend::simple::{InstalledPackage, MAX_SCRIPT, Record, SimpleBackend, is_dir, of_each_user};
use crate::backend::{CachePlace, Inner, Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{Affix, CommandLine, Evidence, ExecTarget, Location, Loss, ManagerId, Profile, RemedyKind, Source};
use crate::version::Scheme;

/// pnpm.
#[derive(Debug)]
pub struct Pnpm;

struct PnpmHome;

impl Manager for Pnpm {
    fn id(&self) -> ManagerId {
        PNPM
    }

    fn profile(&self) -> Profile {
        Profile::language(crate::model::Language::JavaScript, Affix::Scope)
    }

    fn indexes(&self, host: &Host, notes: &mut Vec<Loss>) -> Vec<Source> {
        registries::of_npmrc(host, PNPM, notes)
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::without_command("packages that pnpm downloaded", "~/.cache/pnpm")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, PNPM, |user| {
            let home = host.user_dir(user, "PNPM_HOME", ".local/share/pnpm");
            let is_there = is_dir(host, &path::join(&home, b"global"));
            is_there.then_some((home, PnpmHome))
        })
    }
}

/// What one of pnpm's shell scripts starts: a file below `$basedir`, the script's own directory.
fn behind_script(host: &Host, script: &[u8]) -> Option<ByteString> {
    const MARK: &[u8] = b"\"$basedir/global/";
    if host.root.entry(script).ok()?.kind != Kind::File {
        return None;
    }
    let content = host.root.read(script, Limit::bytes(MAX_SCRIPT)).ok()?;
    let start = memchr::memmem::find(&content, MARK)? + MARK.len();
    let end = start + memchr::memchr(b'"', &content[start..])?;
    Some(path::join(&path::join(path::parent(script), b"global"), &content[start..end]))
}

impl SimpleBackend for PnpmHome {
    // What its packages need lies beside them, in a store of its own.
    fn reads_needs(&self) -> bool {
        true
    }

    fn inner(&self, host: &Host, items: &[InstalledPackage], name: &[u8]) -> Vec<Inner> {
        inner(host, items, name)
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let scripts = host.root.names_in(&at.dir);
        let scripts: Vec<(ByteString, ByteString)> = scripts
            .into_iter()
            .filter(|(_, kind)| *kind == Kind::File)
            .map(|(name, _)| path::join(&at.dir, &name))
            .filter_map(|script| behind_script(host, &script).map(|behind| (script, behind)))
            .collect();
        let global = path::join(&at.dir, b"global");
        for (layout, _) in crate::backend::simple::dirs_in(host, &global, false) {
            let dir = path::join(&global, &layout);
            let modules = path::join(&dir, b"node_modules");
            let file = path::join(&dir, b"package.json");
            let asked = match package_file(host, &file) {
                Ok(read) => read.dependencies,
                Err(problem) => {
                    record.notes.push(Loss::because(problem, "what pnpm installed is not known"));
                    continue;
                }
            };
            for (name, wanted) in asked {
                let name = ByteString::from(name);
                let (mut item, _) = package(host, &modules, &name, &mut record);
                item.origin = origin(&wanted);
                item.evidence.push(Evidence::at(file.clone(), "dependencies", ByteString::from(wanted).to_string()));
                let place = path::join(&modules, &name);
                item.trees = vec![host.root.canonicalize_dir(&place)];
                for (script, _) in scripts.iter().filter(|(_, behind)| path::within(behind, &place)) {
                    let evidence = Evidence::at(script.clone(), "its text", format!("starts a file of {name}"));
                    item.bring(script.clone(), evidence);
                }
                let of_it = |verb: &str| {
                    // pnpm refuses where its own directory is not on the search path, and where it cannot read the
                    // current directory, as under sudo.
                    let home = [b"PNPM_HOME=", &*at.dir].concat();
                    let path = [b"PATH=", &*at.dir, b":/usr/local/bin:/usr/bin:/bin"].concat();
                    CommandLine::new("env -C")
                        .arg(at.dir.clone())
                        .arg(home)
                        .arg(path)
                        .words("pnpm")
                        .words(verb)
                        .words("--global")
                        .operand(name.clone())
                };
                let is_of_index = item.origin.as_ref().is_some_and(|origin| origin.kind == "index");
                let (remove, upgrade) = (of_it("remove"), of_it("update"));
                item = item.remedy(RemedyKind::Remove, remove);
                record.items.push(if is_of_index { item.remedy(RemedyKind::Upgrade, upgrade) } else { item });
            }
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Semver
    }

    fn exec_target(&self, host: &Host, at: &Location, canonical: &[u8]) -> Option<ExecTarget> {
        if *path::parent(canonical) != *at.dir {
            return None;
        }
        behind_script(host, canonical).map(ExecTarget::wrapper)
    }

    fn program_dirs(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![at.dir.clone()]
    }
}
