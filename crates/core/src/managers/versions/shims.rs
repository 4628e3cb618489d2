//! pyenv and the managers that are made after the same plan: rbenv, nodenv, goenv, jenv (their READMEs,
//! "Choosing the version").
//!
//! Below the root (`~/.pyenv`, or `PYENV_ROOT`): `versions/V/` is a version with its own `bin`, `shims/NAME` a
//! script that chooses one of them at each start, `version` the choice for everywhere. A choice is looked
//! for in `PYENV_VERSION`, then in the nearest `.python-version` from the current directory upwards, then in
//! `version`; without any, the next program on the search path runs (`system`).
//!
//! Traps: the nearest file counts even when it is empty; only the first word of a line counts; pyenv takes
//! several versions and, last, the system, and `3.11` for the highest 3.11.x; rbenv takes one, by its full
//! name, and fails where that lacks the command. A link in `versions` to another place is a version
//! registered by hand; one to a place in `versions` is an environment and no version.

use super::{highest, nearest, nowhere};
use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, dirs_in, is_dir, of_each_user};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::{ENVIRONMENT, Host, User};
use crate::model::{
    CommandLine, Evidence, ExecDestination, ExecTarget, Location, ManagerId, ManagerKind, Profile, RemedyKind, Status,
};
use crate::version::Scheme;

/// How one of them differs from the others.
#[derive(Debug)]
pub struct ShimManager {
    id: ManagerId,
    root: (&'static str, &'static str),
    variable: &'static str,
    file: &'static str,
    language: &'static str,
    /// Takes several versions, partial ones too, and the system's program when none has the command.
    is_lenient: bool,
    scheme: Scheme,
}

/// pyenv, for Python.
pub static PYENV: ShimManager = ShimManager {
    id: ManagerId("pyenv"),
    root: ("PYENV_ROOT", ".pyenv"),
    variable: "PYENV_VERSION",
    file: ".python-version",
    language: "python",
    is_lenient: true,
    scheme: Scheme::Pep440,
};

/// rbenv, for Ruby.
pub static RBENV: ShimManager = ShimManager {
    id: ManagerId("rbenv"),
    root: ("RBENV_ROOT", ".rbenv"),
    variable: "RBENV_VERSION",
    file: ".ruby-version",
    language: "ruby",
    is_lenient: false,
    scheme: Scheme::Gem,
};

/// nodenv, for Node.js.
pub static NODENV: ShimManager = ShimManager {
    id: ManagerId("nodenv"),
    root: ("NODENV_ROOT", ".nodenv"),
    variable: "NODENV_VERSION",
    file: ".node-version",
    language: "node",
    is_lenient: false,
    scheme: Scheme::Semver,
};

/// goenv, for Go.
pub static GOENV: ShimManager = ShimManager {
    id: ManagerId("goenv"),
    root: ("GOENV_ROOT", ".goenv"),
    variable: "GOENV_VERSION",
    file: ".go-version",
    language: "go",
    is_lenient: true,
    scheme: Scheme::Tokens,
};

/// jenv, for Java: its versions are links to what others installed.
pub static JENV: ShimManager = ShimManager {
    id: ManagerId("jenv"),
    root: ("JENV_ROOT", ".jenv"),
    variable: "JENV_VERSION",
    file: ".java-version",
    language: "java",
    is_lenient: false,
    scheme: Scheme::Tokens,
};

impl Manager for ShimManager {
    fn id(&self) -> ManagerId {
        self.id
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Versions)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        // The five are constants; the registry wants one that lives as long.
        let all = [&PYENV, &RBENV, &NODENV, &GOENV, &JENV];
        let Some(kind) = all.into_iter().find(|kind| kind.id == self.id) else { return Vec::new() };
        of_each_user(host, kind.id, |user| {
            let root = host.user_dir(user, kind.root.0, kind.root.1);
            let is_there = ["versions", "shims"].iter().any(|name| is_dir(host, &path::join(&root, name.as_bytes())));
            is_there.then_some((root, Shims { kind, user }))
        })
    }
}

struct Shims<'s> {
    kind: &'static ShimManager,
    user: &'s User,
}

/// The chosen versions, in order, and the evidence for them.
struct Choice {
    versions: Vec<ByteString>,
    why: Evidence,
}

impl Shims<'_> {
    fn choose(&self, host: &Host, at: &Location) -> Choice {
        if let Some(value) = host.variable(self.user, self.kind.variable) {
            let versions =
                value.split(|&b| b == b':').filter(|version| !version.is_empty()).map(ByteString::from).collect();
            let why = Evidence::at(ENVIRONMENT, self.kind.variable, value.to_string());
            return Choice { versions, why };
        }
        let global = || {
            let file = path::join(&at.dir, b"version");
            host.root.read(&file, Limit::SMALL).ok().map(|content| (file, content))
        };
        let found = nearest(host, &host.working_dir(self.user), self.kind.file).or_else(global);
        let Some((file, content)) = found else {
            let why = Evidence::at(path::join(&at.dir, b"version"), "lookup", "does not exist: the system's copy runs");
            return Choice { versions: vec!["system".into()], why };
        };
        let mut versions: Vec<ByteString> = words(&content).map(ByteString::from).collect();
        if !self.kind.is_lenient {
            versions.truncate(1);
        }
        let says = match versions.as_slice() {
            [] => "names no version: the system's copy runs".to_owned(),
            some => some.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "),
        };
        if versions.is_empty() {
            versions.push("system".into());
        }
        Choice { versions, why: Evidence::at(file, "first word of each line", says) }
    }

    /// The directory of a version that a name means.
    fn user_dir(&self, host: &Host, at: &Location, version: &[u8]) -> Option<ByteString> {
        let versions = path::join(&at.dir, b"versions");
        let prefix = [self.kind.language.as_bytes(), b"-"].concat();
        let version = version.strip_prefix(prefix.as_slice()).unwrap_or(version);
        if version.is_empty() || version.split(|&b| b == b'/').any(|part| part == b"..") {
            return None;
        }
        let exact = path::join(&versions, version);
        if is_dir(host, &exact) {
            return Some(exact);
        }
        let kept: Vec<ByteString> = dirs_in(host, &versions, true).into_iter().map(|(name, _)| name).collect();
        let found = if self.kind.is_lenient { highest(&kept, version, self.kind.scheme) } else { None };
        found.map(|version| path::join(&versions, version))
    }

    /// The manager's own version, from the script that prints it.
    fn own_version(&self, host: &Host, at: &Location) -> Option<ByteString> {
        let script = path::join(&at.dir, format!("libexec/{}---version", self.kind.id).as_bytes());
        let content = host.root.read(&script, Limit::SMALL).ok()?;
        let line = content.split(|&b| b == b'\n').find_map(|line| line.strip_prefix(b"version=\""))?;
        Some(line.split(|&b| b == b'"').next()?.into())
    }
}

/// The first word of each line; a comment runs to the end of its line.
fn words(content: &[u8]) -> impl Iterator<Item = &[u8]> {
    let lines =
        content.split(|b| matches!(b, b'\n' | b'\r')).map(|line| line.split(|&b| b == b'#').next().unwrap_or_default());
    lines.filter_map(|line| line.split(|b| matches!(b, b' ' | b'\t')).find(|word| !word.is_empty()))
}

impl SimpleBackend for Shims<'_> {
    // Its packages declare nothing of one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let versions = path::join(&at.dir, b"versions");
        let choice = self.choose(host, at);
        let chosen: Vec<ByteString> =
            choice.versions.iter().filter_map(|version| self.user_dir(host, at, version)).collect();
        let id = self.kind.id;
        for (version, kind) in dirs_in(host, &versions, true) {
            let dir = path::join(&versions, &version);
            let mut item = InstalledPackage::kept("toolchain", self.kind.language, version.clone());
            item.installed_at = host.root.modified(&dir);
            if kind == Kind::Link {
                let target = host.root.canonicalize_dir(&dir);
                if path::within(&target, &versions) {
                    continue;
                }
                item.evidence.push(Evidence::at(dir.clone(), "link", format!("registered by hand: {target}")));
                item.places.push((dir.clone(), item.evidence[0].clone()));
                if host.root.target(&dir).is_err() {
                    item.status = Status::Broken;
                    item.evidence.push(Evidence::at(dir.clone(), "link", format!("{target} does not exist")));
                }
            } else {
                item.evidence.push(Evidence::directory(dir.clone(), format!("{} {version}", self.kind.language)));
                item.trees.push(dir.clone());
            }
            item.active = chosen.first() == Some(&dir);
            if chosen.contains(&dir) {
                item.evidence.push(choice.why.clone());
            }
            let own = path::join(&at.dir, format!("bin/{id}").as_bytes());
            let program = if host.root.target(&own).is_ok() { own } else { id.to_string().into() };
            let of_it = |verb: &str| CommandLine::program(program.clone()).words(verb).operand(version.clone());
            let remove = if id == JENV.id { of_it("remove") } else { of_it("uninstall") };
            record.items.push(item.remedy(RemedyKind::Remove, remove).remedy(RemedyKind::Choose, of_it("global")));
        }
        let mut item = InstalledPackage::new("program", id.0);
        item.version = self.own_version(host, at);
        item.evidence.push(Evidence::directory(at.dir.clone(), format!("{id} itself, and its shims")));
        item.trees.push(at.dir.clone());
        record.items.push(item);
        record
    }

    fn scheme(&self) -> Scheme {
        self.kind.scheme
    }

    fn exec_target(&self, host: &Host, at: &Location, canonical: &[u8]) -> Option<ExecTarget> {
        let shims = path::join(&at.dir, b"shims");
        if *path::parent(canonical) != *shims {
            return None;
        }
        let name = path::name(canonical);
        let choice = self.choose(host, at);
        let mut why = vec![choice.why];
        let versions = path::join(&at.dir, b"versions");
        for version in &choice.versions {
            if **version == *b"system" {
                return Some(ExecTarget { to: ExecDestination::NextOnPath(vec![shims]), is_shim: true, why });
            }
            let Some(dir) = self.user_dir(host, at, version) else {
                why.push(Evidence::at(versions.clone(), "lookup", format!("{version} is not installed")));
                continue;
            };
            let program = path::join(&path::join(&dir, b"bin"), name);
            match host.root.target(&program) {
                Ok(meta) if host.root.can_execute(&program, meta) => {
                    return Some(ExecTarget { to: ExecDestination::File(program), is_shim: true, why });
                }
                _ => why.push(Evidence::at(dir, "lookup", format!("has no {}", ByteString::from(name)))),
            }
        }
        if self.kind.is_lenient {
            return Some(ExecTarget { to: ExecDestination::NextOnPath(vec![shims]), is_shim: true, why });
        }
        Some(nowhere(why))
    }

    fn program_dirs(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.dir, b"shims")]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_first_word_of_a_line_counts() {
        for (content, expected) in [
            ("3.13.2 3.9.4\n# no\n  3.8 # why\n\n", vec!["3.13.2", "3.8"]),
            ("", vec![]),
            ("#3.9\n", vec![]),
            ("3.11\r\n3.12", vec!["3.11", "3.12"]),
        ] {
            let found: Vec<String> = words(content.as_bytes()).map(|word| ByteString::from(word).to_string()).collect();
            assert_eq!(found, expected, "{content:?}");
        }
        let kept = ["3.9.18", "3.11.7", "3.11.10", "3.1"].map(ByteString::from);
        assert_eq!(highest(&kept, b"3.11", Scheme::Pep440), Some(&kept[2]));
        assert_eq!(highest(&kept, b"3.1", Scheme::Pep440), Some(&kept[3]));
        assert_eq!(highest(&kept, b"3", Scheme::Pep440), Some(&kept[2]));
        assert_eq!(highest(&kept, b"4", Scheme::Pep440), None);
    }
}
