//! SDKMAN (SDKMAN documentation, "Usage").
//!
//! Below `~/.sdkman` (`SDKMAN_DIR`): `candidates/TOOL/VERSION/`, and `candidates/TOOL/current`, the link to the
//! default, whose `bin` is on the search path. A `.sdkmanrc` (`java=21.0.4-tem`) takes effect after `sdk env`, or at once
//! where `etc/config` says `sdkman_auto_env=true`.
//!
//! Traps: a version that is a link is one that a user keeps elsewhere; `tmp/` and `archives/` are downloads;
//! vendors of java are part of the version, and their numbers mean nothing to one another.

use super::nearest;
use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, dirs_in, is_dir, link_target, of_each_user};
use crate::backend::{CachePlace, Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::{Host, User};
use crate::model::{CommandLine, Evidence, Location, Loss, ManagerId, ManagerKind, Profile, RemedyKind};
use crate::version::Scheme;
use whodunit_formats::settings;

const ID: ManagerId = ManagerId("sdkman");

/// The manager.
#[derive(Debug)]
pub struct Sdkman;

struct SdkmanDir<'s>(&'s User);

impl Manager for Sdkman {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Versions)
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::without_command("archives that SDKMAN downloaded", "~/.sdkman/tmp")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let dir = host.user_dir(user, "SDKMAN_DIR", ".sdkman");
            let is_there = is_dir(host, &path::join(&dir, b"candidates"));
            is_there.then_some((dir, SdkmanDir(user)))
        })
    }
}

impl SimpleBackend for SdkmanDir<'_> {
    // Its packages declare nothing of one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let config = host.root.read(&path::join(&at.dir, b"etc/config"), Limit::SMALL).unwrap_or_default();
        let at_once = settings::assignments(&config).any(|set| set.name == b"sdkman_auto_env" && set.value == b"true");
        let project = nearest(host, &host.working_dir(self.0), ".sdkmanrc");
        let candidates = path::join(&at.dir, b"candidates");
        for (tool, _) in dirs_in(host, &candidates, false) {
            let dir = path::join(&candidates, &tool);
            let current = path::join(&dir, b"current");
            let default = link_target(host, &current);
            let asked = project.as_ref().and_then(|(file, content)| {
                let set = settings::assignments(content).find(|set| set.name == &*tool)?;
                let when = if at_once {
                    "takes effect when a shell enters this directory"
                } else {
                    "takes effect after `sdk env`"
                };
                Some((
                    ByteString::from(set.value),
                    Evidence::line(file.clone(), set.line, format!("{tool}={}: {when}", ByteString::from(set.value))),
                ))
            });
            for (version, kind) in dirs_in(host, &dir, true).into_iter().filter(|(name, _)| **name != *b"current") {
                let tree = path::join(&dir, &version);
                let mut item = InstalledPackage::kept("toolchain", tool.clone(), version.clone());
                item.installed_at = host.root.modified(&tree);
                if kind == Kind::Link {
                    let target = host.root.canonicalize_dir(&tree);
                    item.evidence.push(Evidence::at(
                        tree.clone(),
                        "link",
                        format!("kept elsewhere by a user: {target}"),
                    ));
                    item.places.push((tree.clone(), item.evidence[0].clone()));
                } else {
                    item.evidence.push(Evidence::directory(tree.clone(), format!("{tool} {version}")));
                    item.trees.push(tree.clone());
                }
                item.active = default.as_ref() == Some(&tree);
                if item.active {
                    item.evidence.push(Evidence::at(current.clone(), "link", format!("{version} is the default")));
                }
                if let Some((_, why)) = asked.as_ref().filter(|(wanted, _)| *wanted == version) {
                    item.evidence.push(why.clone());
                }
                // `sdk` is a function of the shell, which only its own script defines.
                let start = path::join(&at.dir, b"bin/sdkman-init.sh");
                let of_it = |verb: &str| {
                    let call = CommandLine::new("sdk").words(verb).arg(tool.clone()).arg(version.clone());
                    CommandLine::new("bash -c").arg(CommandLine::new(".").arg(start.clone()).and_then(call).to_string())
                };
                record.items.push(
                    item.remedy(RemedyKind::Remove, of_it("uninstall")).remedy(RemedyKind::Choose, of_it("default")),
                );
            }
            if let Some(missing) = default.filter(|target| !is_dir(host, target)) {
                record.notes.push(Loss::damaged(
                    current.clone(),
                    format!("points to {missing}, which does not exist"),
                    format!("{tool} has no default"),
                ));
            }
        }
        let mut item = InstalledPackage::new("program", "sdkman");
        let own = host.root.read(&path::join(&at.dir, b"var/version"), Limit::SMALL).ok();
        item.version =
            own.map(|version| version.trim_ascii().into()).filter(|version: &ByteString| !version.is_empty());
        item.evidence.push(Evidence::directory(at.dir.clone(), "SDKMAN itself: functions that a shell loads"));
        item.trees.push(at.dir.clone());
        record.items.push(item);
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }

    fn program_dirs(&self, host: &Host, at: &Location) -> Vec<ByteString> {
        let candidates = path::join(&at.dir, b"candidates");
        let tools = dirs_in(host, &candidates, false).into_iter();
        tools.map(|(tool, _)| path::join(&path::join(&candidates, &tool), b"current/bin")).collect()
    }
}
