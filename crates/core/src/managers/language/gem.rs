//! RubyGems: a gem is installed where its specification is (RubyGems guides, "Specification reference";
//! `gem help environment`).
//!
//! | home | for whom | commands |
//! |---|---|---|
//! | `/var/lib/gems/X.Y.Z` (Debian), `/usr/local/lib/ruby/gems/X.Y.Z` | all | `/usr/local/bin` |
//! | `/usr/lib/ruby/gems/X.Y.Z`, `/usr/share/rubygems-integration/*`, the same below `/usr/lib/TRIPLE` | all; the distribution's where it claims them | `/usr/bin` |
//! | `~/.local/share/gem/ruby/X.Y.Z`, `~/.gem/ruby/X.Y.Z`, `GEM_HOME` | a user | its own `bin` |
//! | `PREFIX/lib/ruby/gems/X.Y.Z` of a kept ruby | its user | `PREFIX/bin` |
//!
//! Each has `specifications/NAME-VERSION[-PLATFORM].gemspec` (default gems: `specifications/default`) and
//! `gems/NAME-VERSION`. A specification is a program and is not run: its comment `# stub: NAME VERSION PLATFORM
//! DIRECTORIES` and the literal list `s.executables = [...]` are read.
//!
//! Traps: several versions at once are the rule, and the highest runs; the small script in the directory of
//! commands starts the highest version in *any* home of the caller; nothing says what was asked for.

use super::gem_sources;

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, SimpleInstallation, dirs_in, is_dir, of};
use crate::backend::version_dirs::{self, Language};
use crate::backend::{Installation, Manager, Unattended, UpgradeCall};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{
    Affix, CommandLine, Evidence, Location, Loss, ManagerId, Profile, Reason, RemedyKind, Scope, Source,
};
use crate::version::Scheme;
use crate::version::gem;

const ID: ManagerId = ManagerId("gem");

/// The manager.
#[derive(Debug)]
pub struct Gem;

struct GemHome {
    bin: ByteString,
    shared: bool,
}

impl Manager for Gem {
    fn id(&self) -> ManagerId {
        ID
    }

    fn unattended(&self) -> &'static [Unattended] {
        &[("gem uninstall", "gem uninstall --executables --abort-on-dependent")]
    }

    fn profile(&self) -> Profile {
        Profile::language(crate::model::Language::Ruby, Affix::None)
    }

    fn indexes(&self, host: &Host, notes: &mut Vec<Loss>) -> Vec<Source> {
        gem_sources::configured(host, ID, notes)
    }

    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[("gem", &["update"])]
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let mut held: Vec<Box<dyn Installation + 'h>> = Vec::new();
        let mut seen: Vec<ByteString> = Vec::new();
        let mut add = |scope: Scope, home: ByteString, bin: ByteString, shared: bool| {
            let home = host.root.canonicalize_dir(&home);
            if is_dir(host, &path::join(&home, b"specifications")) && !seen.contains(&home) {
                seen.push(home.clone());
                let bin = host.root.canonicalize_dir(&bin);
                held.push(SimpleInstallation::boxed(host, ID, scope, home, GemHome { bin, shared }));
            }
        };
        let versions = |dir: &[u8]| -> Vec<ByteString> {
            let names = dirs_in(host, dir, true).into_iter();
            names.map(|(name, _)| path::join(dir, &name)).collect()
        };
        for (dir, bin, shared) in [
            ("/var/lib/gems", "/usr/local/bin", false),
            ("/usr/local/lib/ruby/gems", "/usr/local/bin", false),
            ("/usr/lib/ruby/gems", "/usr/bin", true),
            ("/usr/lib64/ruby/gems", "/usr/bin", true),
            ("/usr/share/rubygems-integration", "/usr/bin", true),
        ] {
            for home in versions(dir.as_bytes()) {
                add(Scope::System, home, bin.into(), shared);
            }
        }
        for (triple, _) in dirs_in(host, b"/usr/lib", false).iter().filter(|(name, _)| name.ends_with(b"-gnu")) {
            let library = path::join(b"/usr/lib", triple);
            for dir in [&b"ruby/gems"[..], b"rubygems-integration"] {
                for home in versions(&path::join(&library, dir)) {
                    add(Scope::System, home, "/usr/bin".into(), true);
                }
            }
        }
        for user in &host.users {
            for prefix in version_dirs::versions_of(host, user, Language::Ruby) {
                for home in versions(&path::join(&prefix, b"lib/ruby/gems")) {
                    add(Scope::Environment(prefix.clone()), home, path::join(&prefix, b"bin"), false);
                }
            }
            let own = host.variable(user, "GEM_HOME").cloned();
            let below = |name: &str| versions(&host.user_dir(user, "", name));
            for home in own.into_iter().chain(below(".local/share/gem/ruby")).chain(below(".gem/ruby")) {
                let bin = path::join(&home, b"bin");
                add(of(user), home, bin, false);
            }
            for home in below(".rvm/gems") {
                let bin = path::join(&home, b"bin");
                add(Scope::Environment(home.clone()), home, bin, false);
            }
        }
        held
    }
}

/// The facts that a specification gives without being run.
#[derive(Debug, PartialEq, Eq)]
struct Specification {
    name: ByteString,
    version: ByteString,
    platform: Option<ByteString>,
    programs: Vec<String>,
    /// The gems that it needs to run.
    needs: Vec<String>,
}

/// The most bytes of a specification that are read.
const SPECIFICATION: Limit = Limit::SMALL;

fn specification(content: &[u8], file: &[u8]) -> Option<Specification> {
    let text = String::from_utf8_lossy(content);
    let stub = text.lines().take(5).find_map(|line| line.strip_prefix("# stub: "));
    let (name, version, platform) = match stub {
        Some(stub) => {
            let mut words = stub.split_whitespace();
            (words.next()?.to_owned(), words.next()?.to_owned(), words.next().map(str::to_owned))
        }
        None => {
            // `NAME-VERSION[-PLATFORM]`: the version is the first part that begins with a digit.
            let stem = String::from_utf8_lossy(file.strip_suffix(b".gemspec")?).into_owned();
            let at =
                stem.match_indices('-').find(|(at, _)| stem[at + 1..].starts_with(|c: char| c.is_ascii_digit()))?.0;
            let (version, platform) = match stem[at + 1..].split_once('-') {
                Some((version, platform)) => (version.to_owned(), Some(platform.to_owned())),
                None => (stem[at + 1..].to_owned(), None),
            };
            (stem[..at].to_owned(), version, platform)
        }
    };
    let list = text.lines().find_map(|line| line.trim_start().strip_prefix("s.executables = ["));
    let list = list.and_then(|list| list.split(']').next()).unwrap_or_default();
    let programs = list.split('"').skip(1).step_by(2).map(str::to_owned).collect();
    // `s.add_runtime_dependency(%q<mooring>.freeze, [">= 1.0"])`, in older ones `s.add_dependency`.
    let needs = text.lines().filter_map(|line| {
        let line = line.trim_start();
        let call = line.strip_prefix("s.add_runtime_dependency(").or_else(|| line.strip_prefix("s.add_dependency("))?;
        Some(call.strip_prefix("%q<")?.split('>').next()?.to_owned())
    });
    let mut needs: Vec<String> = needs.collect();
    // Older releases of the tool write every one of them twice, for tools that are older still.
    needs.sort();
    needs.dedup();
    let platform = platform.filter(|platform| platform != "ruby").map(ByteString::from);
    Some(Specification { name: name.into(), version: version.into(), platform, programs, needs })
}

/// Whether a small script in a directory of commands starts a program of this gem.
fn is_stub_of(host: &Host, script: &[u8], gem: &[u8]) -> bool {
    const MOST: usize = 4096;
    let Ok(start) = host.root.read_start(script, MOST) else { return false };
    let has = |text: &[u8]| memchr::memmem::find(&start, text).is_some();
    let quoted = |quote: &str| has(&[b"(", quote.as_bytes(), gem, quote.as_bytes(), b","].concat());
    has(b"generated by RubyGems") && (quoted("'") || quoted("\""))
}

impl SimpleBackend for GemHome {
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let mut all_programs: Vec<Vec<String>> = Vec::new();
        for (below, kind) in [("specifications", "gem"), ("specifications/default", "default-gem")] {
            let dir = path::join(&at.dir, below.as_bytes());
            let names = host.root.names_in(&dir);
            for (name, _) in names.iter().filter(|(name, _)| name.ends_with(b".gemspec")) {
                let file = path::join(&dir, name);
                let content = host.root.read(&file, SPECIFICATION).unwrap_or_else(|error| {
                    record.notes.push(Loss::unread(&error, "the commands of this gem are unknown"));
                    Vec::new()
                });
                if !content.is_empty() && !content.trim_ascii_end().ends_with(b"end") {
                    let hides = "the commands and the needs of this gem may be more";
                    record.notes.push(Loss::damaged(file.clone(), "ends before its specification does", hides));
                }
                let Some(read) = specification(&content, name) else {
                    record.notes.push(Loss::damaged(file.clone(), "names no gem", "skipped"));
                    continue;
                };
                let mut item = InstalledPackage::kept(kind, read.name.clone(), read.version.clone());
                item.reason = Reason::Unknown;
                item.purl = Some("gem");
                item.arch.clone_from(&read.platform);
                item.installed_at = host.root.modified(&file);
                item.evidence.push(Evidence::at(file.clone(), "stub", format!("{} {}", read.name, read.version)));
                let stem = name.strip_suffix(b".gemspec").unwrap_or(name);
                let tree = path::join(&path::join(&at.dir, b"gems"), stem);
                item.trees.push(tree);
                item.places.push((file.clone(), item.evidence[0].clone()));
                if self.shared {
                    item.record = Some(file);
                }
                read.needs.iter().for_each(|name| item.need(name.as_bytes()));
                // `gem install` goes back to the current directory, which another user's need not be able to.
                let (own, inside) = match at.scope {
                    Scope::User(_) => ("--user-install", CommandLine::new("env -C").arg(at.dir.clone()).words("gem")),
                    _ => ("", CommandLine::new("gem")),
                };
                let of_it = |line: CommandLine, verb| line.words(verb).words(own).operand(read.name.clone());
                if kind == "gem" {
                    let line = of_it(CommandLine::new("gem"), "uninstall").words("--version");
                    item = item.remedy(RemedyKind::Remove, line.operand(read.version.clone()));
                }
                record.items.push(item.remedy(RemedyKind::Upgrade, of_it(inside, "install")));
                all_programs.push(read.programs);
            }
        }
        self.choose(host, &mut record.items, &all_programs);
        record
    }

    fn domain(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![at.dir.clone(), self.bin.clone()]
    }

    fn scheme(&self) -> Scheme {
        Scheme::Gem
    }

    fn program_dirs(&self, _: &Host, _: &Location) -> Vec<ByteString> {
        vec![self.bin.clone()]
    }
}

impl GemHome {
    /// The highest version of a gem is the one in use, and the commands start it.
    fn choose(&self, host: &Host, items: &mut [InstalledPackage], programs: &[Vec<String>]) {
        let versions: Vec<(ByteString, ByteString)> =
            items.iter().map(|item| (item.name.clone(), item.version.clone().unwrap_or_default())).collect();
        for (place, item) in items.iter_mut().enumerate() {
            let (name, version) = &versions[place];
            let higher =
                |(other, than): &(ByteString, ByteString)| other == name && gem::compare(than, version).is_gt();
            let is_active = !versions.iter().any(higher);
            item.active = is_active;
            for program in programs[place].iter().filter(|_| is_active) {
                let script = path::join(&self.bin, program.as_bytes());
                if is_stub_of(host, &script, name) {
                    let says = format!("starts the highest installed version of {name}");
                    item.bring(script.clone(), Evidence::at(script, "its text", says));
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_specification_is_read_and_not_run() {
        let content = b"# -*- encoding: utf-8 -*-\n# stub: sedge 0.7.0 ruby lib\n\nGem::Specification.new do |s|\n  \
            s.executables = [\"sedge\".freeze, \"sedge-view\".freeze]\nend\n";
        let read = specification(content, b"sedge-0.7.0.gemspec").unwrap();
        assert_eq!(
            (read.name.to_string(), read.version.to_string(), read.platform),
            ("sedge".into(), "0.7.0".into(), None)
        );
        assert_eq!(read.programs, ["sedge", "sedge-view"]);
        let bare = specification(b"", b"tide-gauge-1.0.2-x86_64-linux.gemspec").unwrap();
        assert_eq!((bare.name.to_string(), bare.version.to_string()), ("tide-gauge".into(), "1.0.2".into()));
        assert_eq!(bare.platform, Some("x86_64-linux".into()));
        assert_eq!(specification(b"# stub: \n", b"x.gemspec"), None);
        assert_eq!(specification(b"", b"x.gemspec"), None);
    }
}
