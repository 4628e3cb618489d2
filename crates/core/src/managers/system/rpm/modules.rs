//! Modules: of packages that a repository has in several streams, dnf takes those of one (*dnf documentation*,
//! "Modularity").
//!
//! A stream is active where it is enabled (`/etc/dnf/modules.d`, or the state that dnf 5 keeps), or is the default of a
//! module that is not disabled, and where what it requires can be active as well. Packages that belong only to other
//! streams are not there for dnf, and neither is one of no module that has or provides the name of a package of an
//! active stream.
//!
//! Traps: versions of one stream that require different things never count together: those count whose requirements,
//! put as text, come first and can be met; which platform they are for makes no difference there. A repository with
//! `module_hotfixes` is taken as it is. zypper and yum know no modules.

use std::collections::BTreeMap;
use std::io::Read as _;

use hashbrown::{HashMap, HashSet};

use super::nevra::{name_end, without_epoch_0};
use super::repositories::{MAIN, main_setting};
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::host::{os_release, os_release_field};
use crate::model::Loss;
use whodunit_formats::key_file::KeyFile;
use whodunit_formats::modulemd::{Document, Stream, documents};
use whodunit_formats::packed;
use whodunit_formats::primary::Primary;

/// The most bytes of one repository's modules: more than any real one's.
const MAX_UNPACKED: u64 = 128 << 20;

const CHOICES: &[u8] = b"/etc/dnf/modules.d";
const DEFAULTS: &[u8] = b"/etc/dnf/modules.defaults.d";
const DNF5: &[u8] = b"/usr/lib/sysimage/libdnf5/modules.toml";

const LOST: &str = "which streams of modules count is unknown";

/// Which packages the streams of modules let through.
#[derive(Debug, Default)]
pub(super) struct Modules {
    /// Packages of active streams, and of others: `NAME-[EPOCH:]VERSION-RELEASE.ARCH`.
    active: HashSet<String>,
    inactive: HashSet<String>,
    /// The names of those of active streams.
    names: HashSet<String>,
    /// What could not be read.
    pub(super) notes: Vec<Loss>,
}

impl Modules {
    /// Reads what these files say of modules, and which streams are chosen.
    pub(super) fn read(root: &Root, files: &[ByteString]) -> Self {
        let (mut known, mut notes) = (Known::default(), Vec::new());
        for file in files {
            known.add(root, file, 0, &mut notes);
        }
        if known.streams.is_empty() {
            return Modules { notes, ..Modules::default() };
        }
        for (name, _) in root.names_in(DEFAULTS).iter().filter(|(name, _)| name.ends_with(b".yaml")) {
            known.add(root, &path::join(DEFAULTS, name), 1, &mut notes);
        }
        let chosen = chosen(root, &mut notes);
        let Some(active) = known.active(&chosen, platform(root).as_deref()) else {
            let file = files.first().cloned().unwrap_or_default();
            notes.push(Loss::damaged(file, "modules require each other beyond all measure", LOST));
            return Modules { notes, ..Modules::default() };
        };
        let mut found = Modules { notes, ..Modules::default() };
        for (place, one) in known.streams.iter().enumerate() {
            let packages = one.packages.iter().map(|package| without_epoch_0(package));
            if !active.contains(&place) {
                found.inactive.extend(packages);
                continue;
            }
            for package in packages {
                found.names.extend(name_of_binary(&package).map(str::to_owned));
                found.active.insert(package);
            }
        }
        found
    }

    /// Whether it depends on what packages provide.
    pub(super) fn ask_for_provides(&self) -> bool {
        !self.names.is_empty()
    }

    /// Whether a package, with what it provides, is let through.
    pub(super) fn give(&self, package: &Primary) -> bool {
        if self.names.is_empty() && self.inactive.is_empty() {
            return true;
        }
        let full = package.in_full();
        let mut offers = package.provides.iter().map(|entry| &entry.name).chain([&package.name]);
        self.active.contains(&full) || !(self.inactive.contains(&full) || offers.any(|name| self.names.contains(name)))
    }
}

/// The name of a package that is no source package.
fn name_of_binary(package: &str) -> Option<&str> {
    let (_, arch) = package.rsplit_once('.')?;
    let name = &package[..name_end(package.as_bytes())?];
    (arch != "src" && arch != "nosrc").then_some(name)
}

/// What somebody chose of a module.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Choice {
    Enabled(String),
    Disabled,
}

/// All that is said of modules.
#[derive(Debug, Default)]
struct Known {
    streams: Vec<Stream>,
    /// Defaults by module: how strong the place is that says so, the date, and the stream; of two of one date, neither
    /// counts.
    defaults: HashMap<String, (u8, u64, Option<String>)>,
}

impl Known {
    fn add(&mut self, root: &Root, file: &[u8], strength: u8, notes: &mut Vec<Loss>) {
        let bytes = match root.stream(file, Limit::RECORD) {
            Ok(bytes) => bytes,
            Err(error) => return notes.push(Loss::unread(&error, LOST)),
        };
        let mut text = Vec::new();
        let read = packed::open(bytes).and_then(|stream| stream.take(MAX_UNPACKED + 1).read_to_end(&mut text));
        if let Err(error) = read {
            notes.push(Loss::damaged(file, error, LOST));
        }
        if text.len() as u64 > MAX_UNPACKED {
            notes.push(Loss::damaged(file, "larger than any real one", LOST));
        }
        let (found, damaged) = documents(&String::from_utf8_lossy(&text));
        if damaged > 0 {
            notes.push(Loss::damaged(file, format!("{damaged} damaged documents"), LOST));
        }
        for one in found {
            match one {
                Document::Stream(stream) => self.streams.push(stream),
                Document::Default { module, stream, modified } => {
                    let new = (strength, modified, stream);
                    let known = self.defaults.entry(module).or_insert_with(|| new.clone());
                    match (new.0, new.1).cmp(&(known.0, known.1)) {
                        std::cmp::Ordering::Greater => *known = new,
                        std::cmp::Ordering::Equal if known.2 != new.2 => known.2 = None,
                        _ => {}
                    }
                }
            }
        }
    }

    /// The places of the streams' versions that count; `None` where they require each other beyond all measure.
    fn active(&self, chosen: &HashMap<String, Choice>, platform: Option<&str>) -> Option<HashSet<usize>> {
        let defaults = self.defaults.iter().filter(|(module, _)| !chosen.contains_key(*module));
        let defaults = defaults.filter_map(|(module, (.., stream))| Some((module.as_str(), stream.as_deref()?)));
        let enabled = chosen.iter().filter_map(|(module, choice)| match choice {
            Choice::Enabled(stream) => Some((module.as_str(), stream.as_str())),
            Choice::Disabled => None,
        });
        let mut by_module: HashMap<&str, BTreeMap<&str, Groups>> = HashMap::new();
        for (place, one) in self.streams.iter().enumerate() {
            let groups = by_module.entry(&one.module).or_default().entry(&one.stream).or_default();
            groups.entry(key(one)).or_default().push(place);
        }
        let mut search = Search {
            streams: &self.streams,
            by_module,
            chosen,
            platform,
            wanted: enabled.chain(defaults).collect(),
            decided: HashMap::new(),
            decisions: Vec::new(),
            depth: 0,
            looks: MAX_LOOKS,
        };
        let mut wanted: Vec<(&str, &str)> = search.wanted.iter().map(|(module, stream)| (*module, *stream)).collect();
        wanted.sort_unstable();
        for (module, stream) in wanted {
            search.decide(module, stream);
        }
        let is_whole = search.looks > 0;
        is_whole.then(|| search.decided.into_values().flatten().flat_map(|(_, places)| places).collect())
    }
}

/// Versions of one stream by what they require.
type Groups = BTreeMap<String, Vec<usize>>;

/// What a version requires, as text, without the platform.
fn key(one: &Stream) -> String {
    let texts = needs_of(one).map(|(module, streams)| format!("{module}:[{}]", streams.join(",")));
    let mut parts: Vec<String> = texts.collect();
    parts.sort_unstable();
    parts.join(",")
}

/// The modules that a version requires, and not the platform.
fn needs_of(one: &Stream) -> impl Iterator<Item = &(String, Vec<String>)> {
    one.requires.iter().filter(|(module, _)| module != PLATFORM)
}

/// What stands for the distribution itself among the modules that are required.
const PLATFORM: &str = "platform";

/// The streams that count, one module after the other.
struct Search<'k> {
    streams: &'k [Stream],
    by_module: HashMap<&'k str, BTreeMap<&'k str, Groups>>,
    chosen: &'k HashMap<String, Choice>,
    platform: Option<&'k str>,
    /// The streams that are enabled, or the default.
    wanted: HashMap<&'k str, &'k str>,
    /// What was found: the stream with its versions; none, where no stream can count. A module that is being looked at
    /// stands here without versions, so that two that require each other end.
    decided: HashMap<&'k str, Option<(&'k str, Vec<usize>)>>,
    /// The modules in the order in which they were decided: what a failure takes back.
    decisions: Vec<&'k str>,
    /// How many modules are being looked at, each because of the one before.
    depth: usize,
    /// How many looks are left.
    looks: usize,
}

/// More than real modules need: they require each other two or three deep.
const MAX_DEPTH: usize = 64;
const MAX_LOOKS: usize = 100_000;

impl<'k> Search<'k> {
    /// Whether this stream counts, with all that it requires.
    fn decide(&mut self, module: &'k str, stream: &'k str) -> bool {
        if let Some(known) = self.decided.get(module) {
            return known.as_ref().is_some_and(|(other, _)| *other == stream);
        }
        let groups: Vec<Vec<usize>> = self
            .by_module
            .get(module)
            .and_then(|streams| streams.get(stream))
            .into_iter()
            .flat_map(|groups| groups.values().cloned())
            .collect();
        for group in groups {
            let before = self.decisions.len();
            self.set(module, Some((stream, Vec::new())));
            self.depth += 1;
            let counts = self.can_count(&group);
            self.depth -= 1;
            if counts {
                self.set(module, Some((stream, group)));
                return true;
            }
            // What the group has brought along goes with it.
            for taken_back in self.decisions.drain(before..) {
                self.decided.remove(taken_back);
            }
        }
        self.set(module, None);
        false
    }

    fn set(&mut self, module: &'k str, what: Option<(&'k str, Vec<usize>)>) {
        self.decided.insert(module, what);
        self.decisions.push(module);
    }

    /// Whether versions that require the same can count.
    fn can_count(&mut self, group: &[usize]) -> bool {
        self.looks = self.looks.saturating_sub(1);
        if self.looks == 0 || self.depth > MAX_DEPTH {
            self.looks = 0;
            return false;
        }
        let streams = self.streams;
        let of_platform = |place: &usize| {
            let needs = streams[*place].requires.iter().filter(|(module, _)| module == PLATFORM);
            needs.into_iter().all(|(_, wanted)| self.platform.is_some_and(|platform| fits(wanted, platform)))
        };
        let Some(first) = group.first().filter(|_| group.iter().any(of_platform)) else { return false };
        needs_of(&streams[*first]).all(|(module, wanted)| self.meet(module, wanted))
    }

    /// Whether one of these streams of a module counts, or can.
    fn meet(&mut self, module: &'k str, streams: &[String]) -> bool {
        if let Some(stream) = self.wanted.get(module).copied() {
            return fits(streams, stream) && self.decide(module, stream);
        }
        if self.chosen.get(module) == Some(&Choice::Disabled) {
            return false;
        }
        if let Some(known) = self.decided.get(module) {
            return known.as_ref().is_some_and(|(stream, _)| fits(streams, stream));
        }
        let all: Vec<&str> = self.by_module.get(module).into_iter().flat_map(BTreeMap::keys).copied().collect();
        all.into_iter().filter(|stream| fits(streams, stream)).any(|stream| {
            self.decided.remove(module);
            self.decide(module, stream)
        })
    }
}

/// Whether a stream is among those that are named.
fn fits(wanted: &[String], stream: &str) -> bool {
    let (others, named): (Vec<&String>, Vec<&String>) = wanted.iter().partition(|one| one.starts_with('-'));
    !others.iter().any(|one| one[1..] == *stream) && (named.is_empty() || named.iter().any(|one| *one == stream))
}

/// What was chosen of each module.
fn chosen(root: &Root, notes: &mut Vec<Loss>) -> HashMap<String, Choice> {
    let mut found = HashMap::new();
    let mut take = |module: &str, state: Option<&str>, stream: Option<&str>| match (
        state.map(str::to_ascii_lowercase).as_deref(),
        stream,
    ) {
        (Some("enabled" | "1" | "true"), Some(stream)) => {
            found.insert(module.to_owned(), Choice::Enabled(stream.to_owned()));
        }
        (Some("disabled"), _) => {
            found.insert(module.to_owned(), Choice::Disabled);
        }
        _ => {}
    };
    for (name, _) in root.names_in(CHOICES).iter().filter(|(name, _)| name.ends_with(b".module")) {
        match root.read(&path::join(CHOICES, name), Limit::SMALL) {
            Ok(content) => {
                let content = KeyFile::parse(&content);
                for module in content.groups() {
                    let state = content.get(module, "state").map(str::trim);
                    take(module, state, content.get(module, "stream").map(str::trim));
                }
            }
            Err(error) => notes.push(Loss::unread(&error, LOST)),
        }
    }
    match root.read(DNF5, Limit::LIST) {
        Ok(content) => match String::from_utf8_lossy(&content).parse::<toml::Table>() {
            Ok(document) => {
                for (module, one) in document.get("modules").and_then(toml::Value::as_table).into_iter().flatten() {
                    let text = |key: &str| one.get(key).and_then(toml::Value::as_str);
                    take(module, text("state"), text("enabled_stream"));
                }
            }
            Err(error) => notes.push(Loss::damaged(DNF5, error.message(), LOST)),
        },
        Err(error) if error.is_missing() => {}
        Err(error) => notes.push(Loss::unread(&error, LOST)),
    }
    found
}

/// The platform: what dnf is told, else what the distribution says of itself.
fn platform(root: &Root) -> Option<String> {
    let told = main_setting(root, MAIN, "module_platform_id");
    let own = || Some(os_release_field(&os_release(root)?.1, b"PLATFORM_ID")?.to_string());
    told.or_else(own)?.strip_prefix("platform:").map(str::to_owned)
}
