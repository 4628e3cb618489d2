//! conda's environments (conda documentation, "Concepts", "conda-meta").
//!
//! An environment is a directory with `conda-meta/`, in which each package has `NAME-VERSION-BUILD.json` with its
//! version, build, channel and files; `history` names what was asked for, `pinned` what is held back. The base
//! environment is the installation itself, the others lie in its `envs/`, in `~/.conda/envs`, or anywhere
//! that `~/.conda/environments.txt` names.
//!
//! Traps: what pip installed into an environment is pip's; the time in the file is that of the build, not
//! of the installation.

use super::conda_channels;

use hashbrown::HashSet;
use serde::Deserialize;

use crate::backend::simple::{
    InstalledPackage, Record, SimpleBackend, SimpleInstallation, dirs_in, each_record, is_dir, whole,
};
use crate::backend::{Installation, Manager, Unattended, UpgradeCall};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{
    Algorithm, CommandLine, Digest, Evidence, FileRecord, Language, Location, Loss, ManagerId, ManagerKind, Origin,
    Profile, Reason, RemedyKind, Scope, Source,
};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("conda");

/// The directories that its installers use, per user and system-wide.
const PERSONAL: [&str; 9] = [
    "miniconda3",
    "anaconda3",
    "miniforge3",
    "mambaforge",
    "miniforge",
    "micromamba",
    ".local/share/mamba",
    ".conda",
    "conda",
];
const SYSTEM: [&str; 6] = [
    "/opt/conda",
    "/opt/miniconda3",
    "/opt/anaconda3",
    "/opt/miniforge3",
    "/usr/local/miniconda3",
    "/usr/local/anaconda3",
];

/// The manager.
#[derive(Debug)]
pub struct Conda;

struct Environment;

impl Manager for Conda {
    fn id(&self) -> ManagerId {
        ID
    }

    fn unattended(&self) -> &'static [Unattended] {
        &[
            ("conda remove", "conda remove --yes"),
            ("conda install", "conda install --yes"),
            ("conda update", "conda update --yes"),
        ]
    }

    fn profile(&self) -> Profile {
        Profile { fills: Some(Language::Python), ..Profile::of(ManagerKind::Language) }
    }

    fn indexes(&self, host: &Host, notes: &mut Vec<Loss>) -> Vec<Source> {
        conda_channels::configured(host, ID, notes)
    }

    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[("conda", &["update", "upgrade"]), ("mamba", &["update", "upgrade"])]
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let mut found: Vec<ByteString> = Vec::new();
        let mut add = |place: &[u8]| {
            let root = host.root.canonicalize_dir(place);
            let envs = path::join(&root, b"envs");
            let inside = dirs_in(host, &envs, false).into_iter().map(|(name, _)| path::join(&envs, &name));
            for dir in std::iter::once(root).chain(inside) {
                if is_dir(host, &path::join(&dir, b"conda-meta")) && !found.contains(&dir) {
                    found.push(dir);
                }
            }
        };
        SYSTEM.iter().for_each(|place| add(place.as_bytes()));
        for user in &host.users {
            PERSONAL.iter().for_each(|place| add(&path::join(&user.home, place.as_bytes())));
            for variable in ["CONDA_PREFIX", "MAMBA_ROOT_PREFIX"] {
                host.variable(user, variable).into_iter().for_each(|place| add(place));
            }
            let listed = path::join(&user.home, b".conda/environments.txt");
            let listed = host.root.read(&listed, Limit::SMALL).unwrap_or_default();
            listed
                .split(|&b| b == b'\n')
                .map(<[u8]>::trim_ascii)
                .filter(|line| line.starts_with(b"/"))
                .for_each(&mut add);
        }
        let held = found
            .into_iter()
            .map(|dir| SimpleInstallation::boxed(host, ID, Scope::Environment(dir.clone()), dir, Environment));
        held.collect()
    }
}

#[derive(Deserialize)]
struct Meta {
    name: String,
    version: String,
    #[serde(default)]
    build: String,
    channel: Option<String>,
    subdir: Option<String>,
    size: Option<u64>,
    #[serde(default)]
    files: Vec<String>,
    #[serde(default)]
    depends: Vec<String>,
    requested_spec: Option<String>,
    #[serde(default)]
    requested_specs: Vec<String>,
    #[serde(default)]
    paths_data: Paths,
}

/// The record of each file.
#[derive(Default, Deserialize)]
struct Paths {
    #[serde(default)]
    paths: Vec<OnePath>,
}

#[derive(Deserialize)]
struct OnePath {
    _path: String,
    path_type: Option<String>,
    /// The digest of the file as packaged.
    sha256: Option<String>,
    /// The digest of the file as installed, with this environment's directory written into it.
    sha256_in_prefix: Option<String>,
    #[serde(default)]
    prefix_placeholder: Option<String>,
}

/// Extracts the names from specifications such as `tidegauge >=2`.
fn names_in(list: &[u8]) -> impl Iterator<Item = &[u8]> {
    let is_part = |b: &u8| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'_' | b'.');
    let lines =
        list.split(|&b| b == b'\n').map(<[u8]>::trim_ascii).filter(|line| !line.is_empty() && !line.starts_with(b"#"));
    lines.map(move |line| {
        let line = line.rsplit(|&b| b == b':').next().unwrap_or(line);
        &line[..line.iter().position(|b| !is_part(b)).unwrap_or(line.len())]
    })
}

/// The names that `history` says were asked for: `# update specs: ["tidegauge >=2", "swell"]`, by line; older
/// ones without brackets.
fn asked_for(history: &[u8]) -> HashSet<ByteString> {
    let mut names = HashSet::new();
    for line in history.split(|&b| b == b'\n') {
        let Some(list) = line.strip_prefix(b"# update specs:").or(line.strip_prefix(b"# install specs:")) else {
            if let Some(list) = line.strip_prefix(b"# remove specs:") {
                let removed: Vec<ByteString> = specifications(list).collect();
                names.retain(|name| !removed.contains(name));
            }
            continue;
        };
        names.extend(specifications(list));
    }
    names
}

fn specifications(list: &[u8]) -> impl Iterator<Item = ByteString> {
    let words: Vec<String> =
        serde_json::from_slice(&bstr::ByteSlice::replace(list, b"'", b"\"")).unwrap_or_else(|_| {
            let text = String::from_utf8_lossy(list).into_owned();
            text.split(',').map(|word| word.trim().to_owned()).collect()
        });
    words.into_iter().filter_map(|word| names_in(word.as_bytes()).next().map(ByteString::from))
}

fn origin(channel: &str) -> Origin {
    // `https://HOST/CHANNEL/SUBDIR`, `https://HOST/CHANNEL`, or the name alone.
    let name = channel.trim_end_matches('/');
    let is_platform = |part: &str| {
        part == "noarch" || part.starts_with("linux-") || part.starts_with("osx-") || part.starts_with("win-")
    };
    let last = name.rsplit('/').find(|part| !is_platform(part)).unwrap_or(name);
    let url = name.contains("://").then(|| name.into());
    Origin::third_party("channel", last, url)
}

impl SimpleBackend for Environment {
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let dir = path::join(&at.dir, b"conda-meta");
        let read = |name: &[u8]| host.root.read(&path::join(&dir, name), Limit::LIST).unwrap_or_default();
        // The program of the installation that the environment belongs to, else the one on the search path.
        let bases = [at.dir.clone(), path::parent(path::parent(&at.dir)).into()];
        let conda = bases.iter().map(|base| path::join(base, b"bin/conda"));
        let conda = conda.into_iter().find(|file| host.root.target(file).is_ok()).unwrap_or_else(|| "conda".into());
        let (asked, pinned) = (asked_for(&read(b"history")), read(b"pinned"));
        let pinned: HashSet<&[u8]> = names_in(&pinned).collect();
        let names = host.root.names_in(&dir);
        for (name, _) in names.iter().filter(|(name, _)| name.ends_with(b".json")) {
            let file = path::join(&dir, name);
            let meta = host.root.read(&file, Limit::LIST).map_err(|error| error.to_string()).and_then(|content| {
                serde_json::from_slice::<Meta>(&content).map_err(|error| format!("{file}: {error}"))
            });
            let meta = match meta {
                Ok(meta) => meta,
                Err(problem) => {
                    record.notes.push(Loss::because(problem, "this package and its files are unknown"));
                    continue;
                }
            };
            let mut item = InstalledPackage::new("package", meta.name.as_str());
            item.entry = file.clone();
            item.version = Some(meta.version.into());
            item.revision = Some(meta.build.as_str().into()).filter(|build: &ByteString| !build.is_empty());
            item.arch = meta.subdir.map(ByteString::from);
            item.origin = meta.channel.as_deref().map(origin);
            item.channel = item.origin.as_ref().map(|origin| origin.name.clone());
            item.size = meta.size;
            item.purl = Some("conda");
            item.installed_at = host.root.modified(&file);
            let wanted = meta.requested_spec.is_some_and(|spec| !spec.is_empty()) || !meta.requested_specs.is_empty();
            item.reason = match () {
                () if wanted || asked.contains(item.name.as_bytes()) => Reason::Explicit,
                () if asked.is_empty() => Reason::Unknown,
                () => Reason::Dependency,
            };
            item.held = pinned.contains(item.name.as_bytes());
            item.evidence.push(Evidence::at(file.clone(), "version", format!("{} build {}", item.name, meta.build)));
            for listed in meta.files.iter().filter(|listed| !listed.split('/').any(|part| part == "..")) {
                let place = host.root.canonicalize(&path::join(&at.dir, listed.as_bytes()));
                if !path::within(&place, &at.dir) {
                    continue;
                }
                if listed.starts_with("bin/") {
                    item.commands.push(place.clone());
                }
                item.places
                    .push((place, Evidence::at(file.clone(), "files", ByteString::from(listed.as_str()).to_string())));
            }
            // What begins with `__` is of the machine, and no package.
            let needs = meta.depends.iter().filter_map(|needs| needs.split_ascii_whitespace().next());
            needs.filter(|name| !name.starts_with("__")).for_each(|name| item.need(name.as_bytes()));
            let of_it = |verb: &str| {
                let line = CommandLine::program(conda.clone()).words(verb).words("--prefix").arg(at.dir.clone());
                line.operand(meta.name.as_str())
            };
            record
                .items
                .push(item.remedy(RemedyKind::Remove, of_it("remove")).remedy(RemedyKind::Upgrade, of_it("update")));
        }
        record
    }

    fn file_records(&self, host: &Host, items: &[(u32, &InstalledPackage)], notes: &mut Vec<Loss>) -> Vec<FileRecord> {
        let read = |number: u32, item: &InstalledPackage| -> Result<Vec<FileRecord>, String> {
            let json = host.root.read(&item.entry, Limit::LIST).map_err(|error| error.to_string())?;
            let meta: Meta = serde_json::from_slice(&json).map_err(|error| format!("{}: {error}", item.entry))?;
            let prefix = path::parent(path::parent(&item.entry));
            let recorded = meta.paths_data.paths.into_iter().map(|one| {
                let is_file = one.path_type.as_deref() == Some("hardlink");
                let packaged = one.sha256.filter(|_| one.prefix_placeholder.is_none());
                let digest = one.sha256_in_prefix.or(packaged).filter(|digest| is_file && digest.len() == 64);
                FileRecord {
                    package: number,
                    path: path::without_dots(one._path.as_bytes(), prefix),
                    digest: digest.map(|digest| Digest::from_hexadecimal(Algorithm::Sha256, &digest)),
                    ..FileRecord::default()
                }
            });
            Ok(recorded.filter(|one| path::within(&one.path, prefix)).collect())
        };
        each_record(items, |number, item| whole(read(number, item)), notes)
    }

    fn scheme(&self) -> Scheme {
        Scheme::Conda
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_asked_for_follows_the_history() {
        let history = b"==> 2026-01-02 <==\n# cmd: conda create\n# update specs: ['tidegauge[version=\">=2\"]', 'swell']\n\
            # update specs: [\"python=3.12\", \"quay::knots >=1\"]\n# remove specs: [\"swell\"]\n# update specs: mooring 1.0*,x\n";
        let mut names: Vec<String> = asked_for(history).into_iter().map(|name| name.to_string()).collect();
        names.sort();
        // A list with both kinds of quotes is cut at its commas.
        for name in ["knots", "mooring", "python", "x"] {
            assert!(names.contains(&name.to_owned()), "{names:?}");
        }
        assert!(!names.contains(&"swell".to_owned()), "{names:?}");
        for (channel, name) in [
            ("https://conda.quay.example/harbour/linux-64", "harbour"),
            ("https://conda.quay.example/harbour/noarch/", "harbour"),
            ("harbour", "harbour"),
        ] {
            assert_eq!(origin(channel).name.to_string(), name);
        }
    }
}
