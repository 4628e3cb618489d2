//! A place where Python distributions are installed: a directory of modules of an interpreter, or a whole
//! environment with the directories that it has.

use std::sync::OnceLock;

use super::distribution::{self, Distribution};
use super::record::{self, Index};
use super::uv_receipt::UvReceipt;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::model::{Loss, PathClaim, RecordPosition, Scope};
use crate::version::pep440::normal_name;
use whodunit_formats::key_file::KeyFile;
use whodunit_formats::pyvenv::Pyvenv;

/// Where distributions are, before any of them is read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    /// The user they belong to; none for the system's.
    pub scope: Scope,
    /// The environment's directory, or the directory of modules itself.
    pub location: ByteString,
    /// The canonical directories of modules.
    pub dirs: Vec<ByteString>,
    /// What nothing of it lies outside: scripts are in its `bin`.
    pub prefix: ByteString,
    /// The interpreter's version, `3.11`, where a directory's name says so.
    pub python: Option<ByteString>,
    /// Whether a distribution's own manager fills the same directory.
    pub shared: bool,
}

/// The directories of modules below a prefix: `lib/python3.11/site-packages`, and `lib64` where it is one of its own.
pub fn module_dirs(root: &Root, prefix: &[u8]) -> (Vec<ByteString>, Option<ByteString>) {
    let (mut dirs, mut python) = (Vec::new(), None);
    for library in [&b"lib"[..], b"lib64"] {
        let library = root.canonicalize_dir(&path::join(prefix, library));
        let Ok(names) = root.dir(&library).and_then(|dir| dir.list()) else { continue };
        let pythons = names.iter().filter(|(name, kind)| *kind != Kind::File && name.starts_with(b"python"));
        for (name, _) in pythons {
            let dir = root.canonicalize_dir(&path::join(&path::join(&library, name), b"site-packages"));
            if is_dir(root, &dir) && !dirs.contains(&dir) {
                dirs.push(dir);
                python = name.strip_prefix(b"python").filter(|version| version.contains(&b'.')).map(ByteString::from);
            }
        }
    }
    (dirs, python)
}

pub(super) fn is_dir(root: &Root, at: &[u8]) -> bool {
    root.target(at).is_ok_and(|meta| meta.kind == Kind::Dir)
}

impl Place {
    /// The environment in `dir`, where there is one: a virtual one, conda's, or a whole interpreter.
    pub fn environment(root: &Root, dir: &ByteString) -> Option<Self> {
        let is_marked = root.entry(&path::join(dir, b"pyvenv.cfg")).is_ok_and(|meta| meta.kind == Kind::File)
            || is_dir(root, &path::join(dir, b"conda-meta"));
        let (dirs, python) = module_dirs(root, dir);
        if !is_marked {
            let programs = [&b"bin/python3"[..], b"bin/python"];
            if dirs.is_empty() || !programs.iter().any(|program| root.target(&path::join(dir, program)).is_ok()) {
                return None;
            }
        }
        Some(Place {
            scope: Scope::Environment(dir.clone()),
            location: dir.clone(),
            dirs,
            prefix: dir.clone(),
            python,
            shared: false,
        })
    }
}

/// Who keeps an environment, where that is not the user.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EnvironmentTool {
    /// `pipx` or `uv`.
    pub tool: &'static str,
    /// The name under which the tool knows the environment.
    pub name: ByteString,
    /// The distribution for which it was made, as names are compared.
    pub app: Vec<u8>,
    /// The distributions that a user had put beside it, as names are compared.
    pub added: Vec<Vec<u8>>,
    /// The file in which the tool notes that.
    pub file: ByteString,
}

/// A place and its distributions.
#[derive(Debug)]
pub struct Site {
    /// Where it is.
    pub place: Place,
    /// Its distributions. The one for which a tool made the environment is that tool's and is left out.
    pub distributions: Vec<Distribution>,
    /// What could not be read.
    pub notes: Vec<Loss>,
    /// The file that says what the environment is.
    pub settings: Option<Pyvenv>,
    /// Who keeps it.
    pub backend: Option<EnvironmentTool>,
    /// Whether the installers that filled it note what was asked for.
    pub notes_requests: bool,
    index: OnceLock<Index>,
    /// Of each distribution, the trees in which what no record lists is its own.
    trees: OnceLock<Vec<Vec<ByteString>>>,
}

impl Site {
    /// Reads the metadata of every distribution; no list of files.
    pub fn read(root: &Root, place: Place) -> Self {
        let (mut distributions, mut notes) = (Vec::new(), Vec::new());
        for dir in &place.dirs {
            let (found, lost) = distribution::in_dir(root, dir);
            distributions.extend(found);
            notes.extend(lost);
        }
        let is_conda = is_dir(root, &path::join(&place.location, b"conda-meta"));
        if is_conda {
            distributions.retain(|one| one.installer.as_deref() != Some(b"conda"));
        }
        let settings = root.read(&path::join(&place.location, b"pyvenv.cfg"), Limit::SMALL).ok();
        let settings = settings.map(|content| Pyvenv::parse(&content));
        let backend = settings.as_ref().and_then(|_| kept_by(root, &place.location));
        let notes_requests = distributions.iter().any(|one| one.requested);
        if let Some(backend) = &backend {
            distributions.retain(|one| one.normal_name() != backend.app);
            // The tool knows what was asked for; the installer that it started need not have noted it.
            for one in &mut distributions {
                one.requested |= backend.added.contains(&one.normal_name());
            }
        }
        Site {
            place,
            distributions,
            notes,
            settings,
            backend,
            notes_requests,
            index: OnceLock::new(),
            trees: OnceLock::new(),
        }
    }

    /// Whether uv made the environment: such a one need not have pip in it.
    pub fn is_of_uv(&self) -> bool {
        self.settings.as_ref().is_some_and(|settings| settings.uv)
    }

    /// Which lines of the records name which path; read on first use.
    pub fn index(&self, root: &Root) -> &Index {
        self.index.get_or_init(|| Index::of(root, &self.distributions, &self.place.prefix))
    }

    /// Everything that could not be read so far.
    pub fn all_notes(&self) -> Vec<Loss> {
        let of_index = self.index.get().map(|index| index.notes.clone()).unwrap_or_default();
        self.notes.iter().cloned().chain(of_index).collect()
    }

    /// Claims on a canonical path, packages numbered from `base`.
    pub fn claims_on(&self, root: &Root, canonical: &[u8], base: u32) -> Vec<PathClaim> {
        let claim = |(number, line): (u32, u32)| PathClaim {
            claimant: crate::model::Claimant::Package(base + number),
            path: canonical.into(),
            position: RecordPosition { line, rule: 0 },
            on_tree: false,
        };
        let listed = self.index(root).on(canonical);
        if !listed.is_empty() {
            return listed.into_iter().map(claim).collect();
        }
        // Compiled modules need not be listed; they belong to their source.
        if let Some(source) = source_of(canonical) {
            let of_source = self.index(root).on(&source);
            if !of_source.is_empty() {
                return of_source.into_iter().map(|one| PathClaim { on_tree: true, ..claim(one) }).collect();
            }
        }
        let of = |one: &Distribution| std::iter::once(one.metadata.clone()).chain(modules(root, one)).collect();
        let trees = self.trees.get_or_init(|| self.distributions.iter().map(of).collect());
        let over = (base..).zip(trees).filter_map(|(number, trees)| {
            let around = trees.iter().find(|tree| path::within(canonical, tree))?;
            Some(PathClaim::tree(number, around.clone()))
        });
        over.take(1).collect()
    }
}

/// What a distribution without `RECORD` says of its modules.
fn modules(root: &Root, one: &Distribution) -> Vec<ByteString> {
    if one.has_record || one.direct.is_some() {
        return Vec::new();
    }
    let list = root.read(&path::join(&one.metadata, b"top_level.txt"), Limit::SMALL).unwrap_or_default();
    let dir = path::parent(&one.metadata);
    let names = list.split(|&b| b == b'\n').map(<[u8]>::trim_ascii).filter(|name| !name.is_empty());
    names
        .filter(|name| !name.starts_with(b"/") && !name.split(|&b| b == b'/').any(|part| part == b".."))
        .flat_map(|name| [path::join(dir, name), path::join(dir, &[name, b".py"].concat())])
        .collect()
}

/// `…/__pycache__/core.cpython-311.pyc` → `…/core.py`.
fn source_of(canonical: &[u8]) -> Option<ByteString> {
    let dir = path::parent(canonical).strip_suffix(b"/__pycache__")?;
    let module = path::name(canonical).strip_suffix(b".pyc")?.split(|&b| b == b'.').next()?;
    Some(path::join(dir, &[module, b".py"].concat()))
}

/// The tool that made an environment for one application, from the file that it left in it.
pub fn kept_by(root: &Root, location: &ByteString) -> Option<EnvironmentTool> {
    let file = path::join(location, b"pipx_metadata.json");
    if let Ok(content) = root.read(&file, Limit::LIST) {
        let read: Option<super::pipx_metadata::PipxMetadata> = serde_json::from_slice(&content).ok();
        let (app, injected) = read.map_or((None, Vec::new()), |read| {
            let injected = read.injected_packages.into_iter().map(|(key, one)| one.package.unwrap_or(key));
            (read.main_package.package, injected.map(|name| normal_name(name.as_bytes())).collect())
        });
        // A damaged file still says whose the environment is; the directory has the app's name.
        let app = app.unwrap_or_else(|| String::from_utf8_lossy(path::name(location)).into_owned());
        return Some(EnvironmentTool {
            tool: "pipx",
            name: path::name(location).into(),
            app: normal_name(app.as_bytes()),
            added: injected,
            file,
        });
    }
    let file = path::join(location, b"uv-receipt.toml");
    root.entry(&file).ok()?;
    let app = normal_name(path::name(location));
    let receipt = root.read(&file, Limit::SMALL).ok().and_then(|content| UvReceipt::parse(&content).ok());
    let required = receipt.into_iter().flat_map(|receipt| receipt.tool.requirements);
    let added = required.map(|one| normal_name(one.name.as_bytes())).filter(|name| *name != app).collect();
    Some(EnvironmentTool { tool: "uv", name: path::name(location).into(), app, added, file })
}

/// The commands that a distribution says it brings (`entry_points.txt`, the groups of scripts).
pub fn entry_points(root: &Root, one: &Distribution) -> Vec<String> {
    let Ok(content) = root.read(&path::join(&one.metadata, b"entry_points.txt"), Limit::SMALL) else {
        return Vec::new();
    };
    let file = KeyFile::parse(&content);
    let groups = ["console_scripts", "gui_scripts"];
    groups.iter().flat_map(|group| file.keys(group).map(str::to_owned).collect::<Vec<_>>()).collect()
}

/// Programs of a distribution that lie in its place's `bin`, and the sum of its recorded sizes.
pub fn programs(root: &Root, site: &Site, one: &Distribution) -> (Vec<ByteString>, Option<u64>) {
    let bin = path::join(&site.place.prefix, b"bin");
    if !one.has_record {
        let named = entry_points(root, one).into_iter().map(|name| path::join(&bin, name.as_bytes()));
        return (named.filter(|path| root.entry(path).is_ok()).collect(), None);
    }
    let content = root.read(&record::file(one), Limit::LIST).unwrap_or_default();
    let (mut programs, mut size) = (Vec::new(), None);
    for (_, line) in record::lines(&content) {
        if line.mentions(b"bin/") {
            let place = line.path(path::parent(&one.metadata));
            programs.extend((*path::parent(&place) == *bin).then_some(place));
        }
        if let Some(bytes) = line.size {
            size = Some(size.unwrap_or(0) + bytes);
        }
    }
    (programs, size)
}

/// The marker by which an interpreter's standard library says that another manager manages its environment
/// (*Python Packaging User Guide*, "Externally managed environments", from PEP 668).
pub fn marker(root: &Root, library: &[u8]) -> Option<ByteString> {
    let marker = path::join(library, b"EXTERNALLY-MANAGED");
    root.target(&marker).is_ok().then_some(marker)
}
