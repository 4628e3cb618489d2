//! What is preferred: `preferences`, `preferences.d`, and the release that `apt.conf` names.

use super::conf;
use super::indexes::Index;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::model::Loss;
use whodunit_formats::stanza::stanzas;
use whodunit_shell::syntax::pattern::fits;

/// The word `never`, as apt itself has it as a number.
pub const NEVER: i32 = -32768;

/// What a pin is about.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Matches {
    /// A version, as a pattern.
    Version(ByteString),
    /// Facts of the release, as pairs of a letter and a value; or one word that is suite or codename.
    Release(Vec<(u8, ByteString)>),
    /// The machine that it comes from.
    Site(ByteString),
}

/// One pin.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Pin {
    /// Names as patterns; none where it is about every package.
    names: Vec<ByteString>,
    matches: Matches,
    priority: i32,
}

/// Every pin.
#[derive(Debug, Default)]
pub struct Pins {
    pins: Vec<Pin>,
    by_file: Vec<i32>,
    installed: i32,
}

impl Pins {
    pub fn read(root: &Root, notes: &mut Vec<Loss>) -> Self {
        let mut pins = Pins { installed: 100, ..Pins::default() };
        if let Some(release) = default_release(root, notes) {
            pins.pins.push(Pin { names: Vec::new(), matches: of_release(&release), priority: 990 });
        }
        let mut files = Vec::new();
        let dir = b"/etc/apt/preferences.d";
        let names = root.names_in(dir);
        let told = |name: &ByteString| {
            let is_plain = name.iter().all(|b| b.is_ascii_alphanumeric() || b"-_.".contains(b));
            is_plain && !name.starts_with(b".") && (name.ends_with(b".pref") || !name.contains(&b'.'))
        };
        files.extend(
            names.iter().filter(|(name, kind)| told(name) && *kind != Kind::Dir).map(|(name, _)| path::join(dir, name)),
        );
        files.push("/etc/apt/preferences".into());
        for file in files {
            match root.read(&file, Limit::SMALL) {
                Ok(content) => pins.pins.extend(in_file(&content)),
                Err(error) if error.is_missing() => {}
                Err(error) => notes.push(Loss::unread(&error, "which versions are preferred is unknown")),
            }
        }
        pins
    }

    /// The priority of each list: the first pin that is about every package and fits, else what its repository asks
    /// for.
    pub fn for_files(&mut self, indexes: &[Index]) {
        let usual = |index: &Index| match (index.release.not_automatic, index.release.but_upgrades) {
            (true, true) => 100,
            (true, false) => 1,
            (false, _) => 500,
        };
        let general = |fits: &dyn Fn(&Matches) -> bool| {
            let pin = self.pins.iter().find(|pin| pin.names.is_empty() && fits(&pin.matches))?;
            Some(pin.priority)
        };
        let by_file =
            indexes.iter().map(|index| general(&|matches| matches.file(index)).unwrap_or_else(|| usual(index)));
        let by_file: Vec<i32> = by_file.collect();
        let is_status = |matches: &Matches| matches!(matches, Matches::Release(facts) if facts.iter().all(|(letter, value)| *letter == b'a' && **value == *b"now"));
        self.installed = general(&is_status).unwrap_or(100);
        self.by_file = by_file;
    }

    /// The priority of a list.
    pub fn of_file(&self, index: usize) -> i32 {
        self.by_file.get(index).copied().unwrap_or(500)
    }

    /// The priority of what is installed and in no list.
    pub fn of_installed(&self) -> i32 {
        self.installed
    }

    /// The priority that a pin gives to this version of this package, which stands in these lists.
    pub fn of_version(&self, name: &[u8], version: &[u8], files: &[&Index]) -> Option<i32> {
        let named = self.pins.iter().filter(|pin| pin.names.iter().any(|pattern| name_fits(pattern, name)));
        let mut fitting = named.filter(|pin| match &pin.matches {
            Matches::Version(pattern) => fits(pattern, version),
            other => files.iter().any(|index| other.file(index)),
        });
        fitting.next().map(|pin| pin.priority)
    }
}

fn name_fits(pattern: &[u8], name: &[u8]) -> bool {
    let pattern = pattern.split(|&b| b == b':').next().unwrap_or(pattern);
    fits(pattern, name)
}

impl Matches {
    fn file(&self, index: &Index) -> bool {
        let is = |fact: Option<&ByteString>, value: &[u8]| {
            fact.is_some_and(|fact| fits(&value.to_ascii_lowercase(), &fact.to_ascii_lowercase()))
        };
        let release = &index.release;
        match self {
            Matches::Version(_) => false,
            Matches::Site(site) => fits(site, &index.site()),
            Matches::Release(facts) => {
                !facts.is_empty()
                    && facts.iter().all(|(letter, value)| match letter {
                        b'a' => is(release.suite.as_ref(), value),
                        b'n' => is(release.codename.as_ref(), value),
                        b'o' => is(release.origin.as_ref(), value),
                        b'l' => is(release.label.as_ref(), value),
                        b'v' => is(release.version.as_ref(), value),
                        b'c' => is(index.component.as_ref(), value),
                        b'b' => is(index.arch.as_ref(), value),
                        // One word: a suite, a codename, or a version.
                        b'*' => [&release.suite, &release.codename, &release.version]
                            .iter()
                            .any(|fact| is(fact.as_ref(), value)),
                        _ => false,
                    })
            }
        }
    }
}

fn of_release(text: &[u8]) -> Matches {
    let parts = text.split(|&b| b == b',').map(<[u8]>::trim_ascii).filter(|part| !part.is_empty());
    let facts = parts.map(|part| match part {
        [letter, b'=', value @ ..] => (*letter, value.into()),
        word => (b'*', word.into()),
    });
    Matches::Release(facts.collect())
}

fn in_file(content: &[u8]) -> Vec<Pin> {
    let mut found = Vec::new();
    let mut plain = Vec::with_capacity(content.len());
    for line in content.split_inclusive(|&b| b == b'\n').filter(|line| !line.starts_with(b"#")) {
        plain.extend_from_slice(if line.trim_ascii().is_empty() { b"\n" } else { line });
    }
    for stanza in stanzas(&plain) {
        let value = |name: &str| stanza.whole(name);
        let (Some(names), Some(pin)) = (value("Package"), value("Pin")) else { continue };
        let number = |text: Vec<u8>| match text.trim_ascii() {
            b"never" => Some(NEVER),
            digits => std::str::from_utf8(digits).ok()?.parse::<i32>().ok(),
        };
        let priority = value("Pin-Priority").and_then(number);
        let Some(priority) = priority.filter(|priority| *priority != 0) else { continue };
        let mut words = pin.splitn(2, u8::is_ascii_whitespace);
        let kind = words.next().unwrap_or_default().to_ascii_lowercase();
        let rest = words.next().unwrap_or_default().trim_ascii();
        let matches = match kind.as_slice() {
            b"version" => Matches::Version(rest.into()),
            b"release" => of_release(rest),
            b"origin" => {
                let bare = rest.strip_prefix(b"\"").and_then(|rest| rest.strip_suffix(b"\"")).unwrap_or(rest);
                Matches::Site(bare.into())
            }
            _ => continue,
        };
        let names: Vec<ByteString> =
            names.split(u8::is_ascii_whitespace).filter(|name| !name.is_empty()).map(ByteString::from).collect();
        let names = if names.iter().any(|name| **name == *b"*") { Vec::new() } else { names };
        found.push(Pin { names, matches, priority });
    }
    found
}

/// `APT::Default-Release`: the last one that is set.
fn default_release(root: &Root, notes: &mut Vec<Loss>) -> Option<ByteString> {
    let settings = conf::read(root, "which release is preferred is unknown", notes);
    settings.last("APT::Default-Release").map(ByteString::from).filter(|value| !value.is_empty())
}
