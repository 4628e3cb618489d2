//! npm: packages in the global directory of each prefix.

use super::{NPM, add_links, inner, package, packages_in, registries};
use crate::backend::advice::actor_for;
use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, at_each, is_dir, of};
use crate::backend::version_dirs::{self, Language};
use crate::backend::{CachePlace, Inner, Installation, Manager, UpgradeCall};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{
    Actor, Affix, CommandLine, Evidence, Location, Loss, ManagerId, Origin, Profile, RemedyKind, Scope, Source,
};
use crate::version::Scheme;

/// npm.
#[derive(Debug)]
pub struct Npm;

struct Prefix;

impl Manager for Npm {
    fn id(&self) -> ManagerId {
        NPM
    }

    fn profile(&self) -> Profile {
        Profile::language(crate::model::Language::JavaScript, Affix::Scope)
    }

    fn indexes(&self, host: &Host, notes: &mut Vec<Loss>) -> Vec<Source> {
        registries::of_npmrc(host, NPM, notes)
    }

    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[("npm", &["update", "upgrade"])]
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::cleared_by("packages that npm downloaded", "~/.npm/_cacache", "npm cache clean --force")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let mut prefixes: Vec<(Scope, ByteString)> =
            vec![(Scope::System, "/usr/local".into()), (Scope::System, "/usr".into())];
        for file in ["/etc/npmrc", "/usr/etc/npmrc", "/usr/local/etc/npmrc"] {
            prefixes.extend(configured(host, file.as_bytes(), b"/").map(|prefix| (Scope::System, prefix)));
        }
        for user in &host.users {
            let variable = host.variable(user, "NPM_CONFIG_PREFIX").or(host.variable(user, "npm_config_prefix"));
            let own = configured(host, &path::join(&user.home, b".npmrc"), &user.home);
            let usual = [".npm-global", ".npm-packages", ".local"].map(|name| path::join(&user.home, name.as_bytes()));
            prefixes.extend(variable.cloned().into_iter().chain(own).chain(usual).map(|prefix| (of(user), prefix)));
            let kept = version_dirs::versions_of(host, user, Language::Node);
            prefixes.extend(kept.into_iter().map(|prefix| (Scope::Environment(prefix.clone()), prefix)));
        }
        at_each(host, NPM, prefixes, |prefix| is_dir(host, &path::join(prefix, b"lib/node_modules")), |_| Prefix)
    }
}

/// The links in a directory with what their text says, links on the way left alone: a linked checkout is one.
fn links_by_their_text(host: &Host, dir: &ByteString) -> Vec<(ByteString, ByteString)> {
    let names = host.root.names_in(dir);
    let links = names.into_iter().filter(|(_, kind)| *kind == Kind::Link).map(|(name, _)| path::join(dir, &name));
    let told = links.filter_map(|link| {
        let text = host.root.read_link(&link).ok()?;
        let target = path::without_dots(&text, dir);
        Some((link, target))
    });
    told.collect()
}

/// `prefix=` in a file of npm's settings, `${HOME}` and `~` replaced.
fn configured(host: &Host, file: &[u8], home: &[u8]) -> Option<ByteString> {
    let content = host.root.read(file, Limit::SMALL).ok()?;
    let mut set = content.split(|&b| b == b'\n').filter_map(|line| {
        let at = memchr::memchr(b'=', line)?;
        (line[..at].trim_ascii() == b"prefix").then(|| line[at + 1..].trim_ascii())
    });
    let value = set.next_back()?;
    let value = value.strip_prefix(b"\"").and_then(|value| value.strip_suffix(b"\"")).unwrap_or(value);
    let value = bstr::ByteSlice::replace(value, b"${HOME}", home);
    let value = match value.strip_prefix(b"~") {
        Some(rest) if rest.is_empty() || rest.starts_with(b"/") => [home, rest].concat(),
        _ => value,
    };
    value.starts_with(b"/").then(|| value.into())
}

impl SimpleBackend for Prefix {
    // What its packages need lies inside them.
    fn reads_needs(&self) -> bool {
        true
    }

    // A prefix in nobody's home can still belong to a user.
    fn actor(&self, host: &Host, at: &Location) -> Actor {
        actor_for(host, &path::join(&at.dir, b"lib"))
    }

    fn inner(&self, host: &Host, items: &[InstalledPackage], name: &[u8]) -> Vec<Inner> {
        inner(host, items, name)
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let modules = path::join(&at.dir, b"lib/node_modules");
        let links = links_by_their_text(host, &path::join(&at.dir, b"bin"));
        for (name, kind) in packages_in(host, &modules) {
            let dir = path::join(&modules, &name);
            let (mut item, _) = package(host, &modules, &name, &mut record);
            if kind == Kind::Link {
                let target = host.root.canonicalize_dir(&dir);
                let says = format!("linked from the checkout {target}");
                item.origin = Some(Origin::local("directory", "checkout", Some(target)));
                item.places.push((dir.clone(), Evidence::at(dir.clone(), "link", says)));
            } else {
                item.trees.push(dir.clone());
            }
            add_links(&mut item, &links, &dir, NPM);
            item.record = (at.scope == Scope::System).then(|| path::join(&dir, b"package.json"));
            let npm = |verb: &str| {
                // A version that is kept brings an npm of its own, which runs on the node beside it.
                let own = [&b"bin/node"[..], b"bin/npm"].map(|name| path::join(&at.dir, name));
                let line = match own.iter().all(|file| host.root.target(file).is_ok()) {
                    true => CommandLine::default().arg(own[0].clone()).arg(own[1].clone()),
                    false => CommandLine::new("npm"),
                };
                line.words(verb).words("--global --prefix").arg(at.dir.clone())
            };
            let remove = npm("uninstall").operand(name.clone());
            // No record tells an index from a local archive, so that `NAME@latest` could be somebody else's package.
            record.items.push(item.remedy(RemedyKind::Remove, remove));
        }
        record
    }

    fn domain(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.dir, b"lib/node_modules"), path::join(&at.dir, b"bin")]
    }

    fn scheme(&self) -> Scheme {
        Scheme::Semver
    }

    fn program_dirs(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.dir, b"bin")]
    }
}
