//! Which file the dynamic loader takes for each library that a program needs (`ld.so(8)`, `ldconfig(8)`): `DT_RPATH`,
//! `LD_LIBRARY_PATH`, `DT_RUNPATH`, the cache, and the system's own directories.
//!
//! Traps: `DT_RPATH` counts for what a library itself needs as well, and only where there is no `DT_RUNPATH`; a file of
//! another machine is skipped; `LD_LIBRARY_PATH` with nothing in it is nothing, an empty part of it the current
//! directory.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};

use hashbrown::HashMap;

use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::model::{Evidence, Loss};
use whodunit_formats::dynamic::{self, Dynamic};
use whodunit_formats::loader_cache;

/// A library that a program needs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Needed {
    /// Its name, as it is needed.
    pub name: ByteString,
    /// The file that the loader takes; none where it finds none.
    pub path: Option<ByteString>,
    /// What needs it.
    pub by: ByteString,
    /// Why this file.
    pub because: Evidence,
}

/// The loader of a machine.
pub struct Loader<'r> {
    root: &'r Root,
    /// By name: files in the order in which they are tried.
    cache: BTreeMap<ByteString, Vec<ByteString>>,
    dirs: Vec<ByteString>,
    /// Of the processor, from 1; on another machine's disk only what runs everywhere counts.
    level: u8,
    read: Mutex<HashMap<ByteString, Option<Arc<Dynamic>>>>,
    /// The directories for better processors in each directory that was searched, the best first.
    better: Mutex<HashMap<ByteString, Arc<[ByteString]>>>,
    /// What could not be read.
    pub notes: Vec<Loss>,
}

const CACHE: &[u8] = b"/etc/ld.so.cache";
/// Far more than any program needs.
const MOST: usize = 2000;

impl<'r> Loader<'r> {
    /// Reads the cache.
    #[must_use]
    pub fn of(root: &'r Root) -> Self {
        let level = if root.is_live() { processor() } else { 1 };
        let mut notes = Vec::new();
        let mut cache: BTreeMap<ByteString, Vec<ByteString>> = BTreeMap::new();
        match root.read(CACHE, Limit::LIST) {
            Ok(content) => match loader_cache::entries(&content) {
                Ok(entries) => {
                    // Those for better processors come first where this processor is one.
                    let fits = |entry: &&loader_cache::Entry<'_>| !entry.is_special || level_of(entry.path) <= level;
                    for entry in entries.iter().filter(fits) {
                        let files = cache.entry(entry.name.into()).or_default();
                        let file = ByteString::from(entry.path);
                        if !files.contains(&file) {
                            files.push(file);
                        }
                    }
                    // Of one name, the best level first; what has none keeps its order.
                    cache.values_mut().for_each(|files| files.sort_by_key(|file| std::cmp::Reverse(level_in(file))));
                }
                Err(problem) => notes.push(Loss::damaged("/etc/ld.so.cache", problem, "")),
            },
            Err(error) if error.is_missing() => {}
            Err(error) => notes.push(Loss::unread(&error, "")),
        }
        let mut dirs = Vec::new();
        for base in [&b"/lib"[..], b"/usr/lib"] {
            let names = root.names_in(base);
            let multiarch =
                names.iter().filter(|(name, _)| name.ends_with(b"-linux-gnu") || name.ends_with(b"-linux-gnueabihf"));
            dirs.extend(multiarch.map(|(name, _)| path::join(base, name)));
        }
        dirs.sort_by_key(|dir| dir.starts_with(b"/usr"));
        dirs.extend(["/lib64", "/usr/lib64", "/lib", "/usr/lib"].map(ByteString::from));
        Loader { root, level, cache, dirs, read: Mutex::default(), better: Mutex::default(), notes }
    }

    /// The file that a program of the system would get for a name, without run paths and variables.
    #[must_use]
    pub fn named(&self, name: &ByteString) -> Option<ByteString> {
        let cached = self.cache.get(name).into_iter().flatten().cloned();
        let mut candidates = cached.chain(self.dirs.iter().map(|dir| path::join(dir, name)));
        candidates.find(|file| self.dynamic(file).is_some())
    }

    /// Every name of the cache with the files that have it, and those of more directories in front.
    #[must_use]
    pub fn names(&self, front: &[ByteString]) -> BTreeMap<ByteString, Vec<ByteString>> {
        let mut names = self.cache.clone();
        for dir in front.iter().rev() {
            let list = self.root.names_in(dir);
            for (name, kind) in list {
                let is_library = kind != Kind::Dir && name.windows(3).any(|part| part == b".so");
                if is_library && let Some(files) = names.get_mut(&name) {
                    files.insert(0, path::join(dir, &name));
                }
            }
        }
        names
    }

    /// What a file needs; none where it is no program or library of this kind.
    #[must_use]
    pub fn dynamic(&self, file: &ByteString) -> Option<Arc<Dynamic>> {
        if let Some(known) = self.read.lock().unwrap_or_else(PoisonError::into_inner).get(file) {
            return known.clone();
        }
        let read = self.root.open(file).ok().and_then(dynamic::read).map(Arc::new);
        self.read.lock().unwrap_or_else(PoisonError::into_inner).insert(file.clone(), read.clone());
        read
    }

    /// Everything that a program needs, directly and through what it needs, in the order in which the loader takes it.
    #[must_use]
    pub fn needs(&self, program: &ByteString, library_path: Option<&[u8]>) -> Vec<Needed> {
        let Some(first) = self.dynamic(program) else { return Vec::new() };
        let machine = first.machine;
        let is_set_user = self.root.target(program).is_ok_and(|meta| meta.mode & 0o6000 != 0);
        let library_path = library_path.filter(|list| !list.is_empty() && !is_set_user);
        let mut found: Vec<Needed> = Vec::new();
        // A file, what it says, and the run paths of those that led to it.
        let mut open: Vec<(ByteString, Arc<Dynamic>, Vec<ByteString>)> = vec![(program.clone(), first, Vec::new())];
        let mut names: Vec<ByteString> = Vec::new();
        let mut at = 0;
        while at < open.len() && found.len() < MOST {
            let (file, said, mut above) = open[at].clone();
            at += 1;
            let expand = |list: &Option<Vec<u8>>| -> Vec<ByteString> {
                let parts = list.iter().flat_map(|list| list.split(|&b| b == b':')).filter(|part| !part.is_empty());
                parts.map(|part| self.expanded(part, &file)).collect()
            };
            if said.run_path.is_none() {
                above.extend(expand(&said.run_path_old));
            }
            let run_path = expand(&said.run_path);
            for name in &said.needed {
                let name = ByteString::from(name.as_slice());
                if names.contains(&name) {
                    continue;
                }
                names.push(name.clone());
                let old = if said.run_path.is_none() { above.as_slice() } else { &[] };
                let taken = self.find(&name, &file, machine, old, library_path, &run_path);
                let (path, because) = match taken {
                    Ok((path, because)) => (Some(path), because),
                    Err(because) => (None, because),
                };
                if let Some((path, said)) = path.as_ref().and_then(|path| Some((path, self.dynamic(path)?))) {
                    names.extend(said.name.as_deref().map(ByteString::from));
                    open.push((path.clone(), said, above.clone()));
                }
                found.push(Needed { name, path, by: file.clone(), because });
            }
        }
        found
    }

    fn find(
        &self,
        name: &ByteString,
        by: &ByteString,
        machine: (u8, u16),
        old: &[ByteString],
        library_path: Option<&[u8]>,
        run_path: &[ByteString],
    ) -> Result<(ByteString, Evidence), Evidence> {
        let missing =
            Evidence::at(by.clone(), "DT_NEEDED", format!("needs {name}, which is in no directory that is searched"));
        if name.contains(&b'/') {
            let because = Evidence::at(by.clone(), "DT_NEEDED", "names the file itself");
            return self.fits(name, machine)?.then(|| (name.clone(), because)).ok_or(missing);
        }
        let of_environment = library_path.iter().flat_map(|list| list.split(|&b| matches!(b, b':' | b';')));
        let at = |dir: &ByteString, file: &ByteString, at: &str, says: &str| {
            (path::join(dir, name), Evidence::at(file.clone(), at, format!("{says} {dir}")))
        };
        let variable = ByteString::from("LD_LIBRARY_PATH");
        let candidates = old.iter().map(|dir| at(dir, by, "DT_RPATH", "names"));
        let candidates = candidates
            .chain(of_environment.map(|part| at(&path::absolute(part, b"/"), &variable, "variable", "names")))
            .chain(run_path.iter().map(|dir| at(dir, by, "DT_RUNPATH", "names")));
        let cached = self.cache.get(name).into_iter().flatten();
        let candidates = candidates.chain(
            cached.map(|file| (file.clone(), Evidence::at(CACHE, name.to_string(), "the first entry of the name"))),
        );
        let loader = ByteString::from("ld.so");
        let candidates = candidates.chain(self.dirs.iter().map(|dir| at(dir, &loader, "compiled in", "searches")));
        for (file, because) in candidates {
            // In each directory what is made for better processors comes first.
            let (dir, name) = (path::parent(&file), path::name(&file));
            for better in self.better_than(dir).iter().map(|better| path::join(better, name)) {
                if self.root.target(&better).is_ok() && self.fits(&better, machine)? {
                    return Ok((better, because));
                }
            }
            if self.fits(&file, machine)? {
                return Ok((file, because));
            }
        }
        Err(missing)
    }

    /// The directories for better processors in a directory, the best first.
    fn better_than(&self, dir: &[u8]) -> Arc<[ByteString]> {
        if let Some(known) = self.better.lock().unwrap_or_else(PoisonError::into_inner).get(dir) {
            return known.clone();
        }
        let levels = (2..=self.level).rev().map(|level| format!("glibc-hwcaps/x86-64-v{level}"));
        let dirs = levels.map(|level| path::join(dir, level.as_bytes()));
        let found: Arc<[ByteString]> = dirs.filter(|dir| self.root.target(dir).is_ok()).collect();
        self.better.lock().unwrap_or_else(PoisonError::into_inner).insert(dir.into(), found.clone());
        found
    }

    /// Whether a file is there and of the machine; a file that is no library at all stops the loader.
    fn fits(&self, file: &ByteString, machine: (u8, u16)) -> Result<bool, Evidence> {
        match self.dynamic(file) {
            Some(said) => Ok(said.machine == machine),
            None if self.root.target(file).is_ok_and(|meta| meta.kind == Kind::File) => {
                Err(Evidence::at(file.clone(), "first bytes", "is not a library, and the loader stops there"))
            }
            None => Ok(false),
        }
    }

    /// `$ORIGIN`, `$LIB` and the like.
    fn expanded(&self, part: &[u8], file: &ByteString) -> ByteString {
        use bstr::ByteSlice as _;
        let canonical = self.root.canonicalize(file);
        let origin = path::parent(&canonical);
        let mut part = part.to_vec();
        for name in ["$ORIGIN", "${ORIGIN}"] {
            part = part.replace(name, origin);
        }
        for name in ["$LIB", "${LIB}"] {
            part = part.replace(name, b"lib/x86_64-linux-gnu");
        }
        path::absolute(&part, b"/")
    }
}

/// The level in the name of a directory, `glibc-hwcaps/x86-64-v3`; 1 where there is none.
fn level_in(file: &[u8]) -> u8 {
    let Some(at) = memchr::memmem::find(file, b"/glibc-hwcaps/x86-64-v") else { return 1 };
    file.get(at + b"/glibc-hwcaps/x86-64-v".len()).map_or(1, |digit| digit.saturating_sub(b'0'))
}

/// The level of an entry that is for some processors: one of another kind is for none that is known here.
fn level_of(file: &[u8]) -> u8 {
    match level_in(file) {
        1 => u8::MAX,
        level => level,
    }
}

/// The level of this processor (x86-64 psABI, "Micro-Architecture Levels").
#[cfg(target_arch = "x86_64")]
fn processor() -> u8 {
    use std::is_x86_feature_detected as has;
    let second = has!("sse4.2") && has!("ssse3") && has!("popcnt") && has!("sse4.1");
    let third =
        has!("avx2") && has!("bmi1") && has!("bmi2") && has!("fma") && has!("f16c") && has!("lzcnt") && has!("movbe");
    let fourth = has!("avx512f") && has!("avx512bw") && has!("avx512cd") && has!("avx512dq") && has!("avx512vl");
    match (second, third, fourth) {
        (true, true, true) => 4,
        (true, true, false) => 3,
        (true, false, _) => 2,
        _ => 1,
    }
}

#[cfg(not(target_arch = "x86_64"))]
fn processor() -> u8 {
    1
}
