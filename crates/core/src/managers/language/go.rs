//! Programs that `go install` built, and Go's own toolchains (Go documentation, "go install"; package
//! `debug/buildinfo`).
//!
//! There is no record: each program in `GOBIN`, or `GOPATH/bin` (`~/go/bin`), says itself what it was built
//! from. Toolchains lie in `/usr/local/go` and, where several are kept, in `~/sdk/goX.Y`; each has a file
//! `VERSION`.
//!
//! Traps: a program built in a working copy says `(devel)`, which is no version, and names the commit; a
//! file that is no Go program is nobody's.

use crate::backend::simple::{
    InstalledPackage, Record, SimpleBackend, SimpleInstallation, dirs_in, is_dir, of_each_user,
};
use crate::backend::{CachePlace, Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{Affix, CommandLine, Evidence, Language, Location, ManagerId, Origin, Profile, RemedyKind, Scope};
use crate::version::Scheme;
use whodunit_formats::binary::{self, GoProgram};

const ID: ManagerId = ManagerId("go");

/// The manager.
#[derive(Debug)]
pub struct Go;

/// A directory of programs, with the toolchains that were put beside it.
struct GoPlace {
    bin: Option<ByteString>,
    toolchains: Vec<ByteString>,
}

impl Manager for Go {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::language(Language::Go, Affix::ModulePath)
    }

    fn caches(&self) -> &'static [CachePlace] {
        const {
            &[
                CachePlace::cleared_by("what the go command compiled", "~/.cache/go-build", "go clean -cache"),
                CachePlace::cleared_by("sources of modules", "~/go/pkg/mod", "go clean -modcache"),
            ]
        }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let mut held = of_each_user(host, ID, |user| {
            // Of several directories in GOPATH, programs go into the first.
            let first = host.variable(user, "GOPATH").and_then(|list| list.split(|&b| b == b':').next());
            let first = first.filter(|dir| dir.starts_with(b"/")).map(|dir| host.root.canonicalize_dir(dir));
            let home = first.unwrap_or_else(|| host.user_dir(user, "", "go"));
            let bin = match host.variable(user, "GOBIN") {
                Some(bin) => host.root.canonicalize_dir(bin),
                None => host.root.canonicalize_dir(&path::join(&home, b"bin")),
            };
            let sdk = host.user_dir(user, "", "sdk");
            let kept = dirs_in(host, &sdk, false).into_iter().filter(|(name, _)| name.starts_with(b"go"));
            let toolchains: Vec<ByteString> = kept.map(|(name, _)| path::join(&sdk, &name)).collect();
            let bin = is_dir(host, &bin).then_some(bin);
            let is_there = bin.is_some() || !toolchains.is_empty();
            is_there.then(|| (bin.clone().unwrap_or(sdk), GoPlace { bin, toolchains }))
        });
        let shared = host.root.canonicalize_dir(b"/usr/local/go");
        if host.root.entry(&path::join(&shared, b"VERSION")).is_ok() {
            let toolchains = vec![shared.clone()];
            held.push(SimpleInstallation::boxed(host, ID, Scope::System, shared, GoPlace { bin: None, toolchains }));
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

fn program(place: &ByteString, go: &GoProgram) -> InstalledPackage {
    let named = go.package.clone().or_else(|| go.module.clone());
    let mut item =
        InstalledPackage::new("program", named.clone().map_or_else(|| path::name(place).into(), ByteString::from));
    item.version = go.version.clone().filter(|version| version != "(devel)").map(ByteString::from);
    item.revision = go.revision.clone().map(ByteString::from);
    item.purl = Some("golang");
    item.also.push(path::name(place).into());
    if let Some(package) = &go.package {
        item.also.push(command_of(package).into());
    }
    item.origin = Some(match &go.version {
        Some(version) if version == "(devel)" => Origin::local("directory", "working copy", None),
        _ => Origin::third_party("module", go.module.clone().unwrap_or_default(), None),
    });
    let at = |key: &str, says: String| {
        Evidence::at(place.clone(), format!("section .go.buildinfo, {key}"), ByteString::from(says).to_string())
    };
    if let Some(package) = &go.package {
        item.evidence.push(at("path", package.clone()));
    }
    if let Some(module) = &go.module {
        item.evidence.push(at("mod", format!("{module} {}", go.version.clone().unwrap_or_default())));
    }
    item.evidence.push(at("toolchain", format!("built by {}", go.toolchain)));
    let module = go.package.clone().unwrap_or_default();
    let is_published = item.version.is_some() && !module.is_empty();
    let item = item.remedy(RemedyKind::Remove, CommandLine::new("rm --").arg(place.clone()));
    if !is_published {
        return item;
    }
    let bin = path::parent(place);
    let line = match bin.ends_with(b"/go/bin") {
        true => CommandLine::new("go install"),
        false => CommandLine::new("env").arg([b"GOBIN=", bin].concat()).words("go install"),
    };
    item.remedy(RemedyKind::Upgrade, line.operand(format!("{module}@latest")))
}

impl SimpleBackend for GoPlace {
    // Its packages declare nothing of one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, _: &Location) -> Record {
        let mut record = Record::default();
        if let Some(bin) = &self.bin {
            let names = host.root.names_in(bin);
            for (name, _) in names.into_iter().filter(|(_, kind)| *kind == Kind::File) {
                let place = path::join(bin, &name);
                let Ok(file) = host.root.open(&place) else { continue };
                let meta = file.meta();
                let Some(go) = binary::go_program(file) else { continue };
                let mut item = program(&place, &go);
                if record.items.iter().any(|other| other.name == item.name) {
                    item.tail = Some(path::join(&item.name, &name));
                }
                item.installed_at = Some(meta.modified);
                item.size = Some(meta.size);
                let evidence = item.evidence[0].clone();
                item.bring(place, evidence);
                record.items.push(item);
            }
        }
        for dir in &self.toolchains {
            let file = path::join(dir, b"VERSION");
            let content = host.root.read(&file, Limit::SMALL).unwrap_or_default();
            let line = content.split(|&b| b == b'\n').next().unwrap_or_default().trim_ascii();
            let version = line.strip_prefix(b"go").unwrap_or(line);
            let mut item = InstalledPackage::kept("toolchain", "go", version);
            item.installed_at = host.root.modified(&file);
            item.evidence.push(Evidence::line(file, 1, ByteString::from(line).to_string()));
            item.trees.push(dir.clone());
            record.items.push(item);
        }
        record
    }

    fn domain(&self, _: &Host, _: &Location) -> Vec<ByteString> {
        self.bin.iter().chain(&self.toolchains).cloned().collect()
    }

    fn scheme(&self) -> Scheme {
        Scheme::Semver
    }

    fn program_dirs(&self, _: &Host, _: &Location) -> Vec<ByteString> {
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
