//! Which files no manager claims.

use hashbrown::HashSet;

use super::{FileKind, Stray};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Meta, Root, WalkLimits};
use crate::resolve::{End, Resolution, SearchPath, hints, trees_of_programs};
use crate::survey::Survey;

/// Far more than any machine has in such trees; a bound against trees that were made to be endless.
const DEEP: WalkLimits = WalkLimits { depth: 64, entries: 2_000_000 };
/// A directory's own entries.
const FLAT: WalkLimits = WalkLimits { depth: 0, entries: 200_000 };

/// Every unclaimed file in the directories, or in the usual places where none are given.
pub fn strays(survey: &Survey<'_>, searches: &[&SearchPath], dirs: &[ByteString]) -> Vec<Stray> {
    let Some(search) = searches.first() else { return Vec::new() };
    let root = survey.root();
    let mut seen: HashSet<ByteString> = HashSet::new();
    let mut found: Vec<(ByteString, Kind)> = Vec::new();
    let mut look = |start: &ByteString, limits: WalkLimits| {
        root.walk(start, limits, &mut |entry| {
            if matches!(entry.kind, Kind::File | Kind::Link) && seen.insert(entry.path.clone()) {
                found.push((entry.path.clone(), entry.kind));
            }
            limits.depth > 0
        });
    };
    if dirs.is_empty() {
        trees_of_programs(survey.host).iter().for_each(|tree| look(tree, DEEP));
        let of_search = searches.iter().flat_map(|search| &search.entries).map(|entry| &entry.canonical);
        survey.program_dirs().iter().chain(of_search).for_each(|dir| look(dir, FLAT));
    } else {
        dirs.iter().for_each(|dir| look(&root.canonicalize_dir(dir), DEEP));
    }
    let links: Vec<Option<Resolution>> =
        found.iter().map(|(path, kind)| (*kind == Kind::Link).then(|| Resolution::links(root, path))).collect();
    let ends = links.iter().flatten().map(|resolution| &**resolution.last());
    let index = survey.claims(found.iter().map(|(path, _)| &**path).chain(ends));
    let mut strays = Vec::new();
    for ((path, _), resolution) in found.into_iter().zip(links) {
        let ownership = survey.ownership(&index, &path);
        if !ownership.packages.is_empty() {
            continue;
        }
        let stray = match resolution {
            None => file(survey, search, path),
            Some(_) if ownership.group.is_some() => None,
            Some(resolution) => link(survey, &index, path, &resolution),
        };
        strays.extend(stray);
    }
    let programs = strays.iter().filter(|stray| stray.kind.is_program());
    let beside: Vec<ByteString> = programs.flat_map(|stray| companions(root, &stray.path)).collect();
    let beside: Vec<ByteString> = beside.into_iter().filter(|path| seen.insert(path.clone())).collect();
    if beside.is_empty() {
        return strays;
    }
    let index = survey.claims(beside.iter().map(|path| &**path));
    for path in beside {
        if survey.ownership(&index, &path).packages.is_empty() {
            strays.extend(file(survey, search, path));
        }
    }
    strays
}

/// The most files of one directory of data that are looked at.
const DATA: WalkLimits = WalkLimits { depth: 8, entries: 10_000 };

/// What a build with the prefix `/usr` puts beside a program of that name: its manual, its data, its pkg-config file.
/// Other prefixes are looked through as a whole.
fn companions(root: &Root, program: &ByteString) -> Vec<ByteString> {
    if !matches!(path::parent(program), b"/usr/bin" | b"/usr/sbin" | b"/usr/games") {
        return Vec::new();
    }
    let name = path::name(program);
    let of = |before: &str, after: &str| ByteString::from([before.as_bytes(), name, after.as_bytes()].concat());
    let mut files = vec![
        of("/usr/lib/pkgconfig/", ".pc"),
        of("/usr/share/pkgconfig/", ".pc"),
        of("/usr/share/applications/", ".desktop"),
        of("/usr/share/bash-completion/completions/", ""),
    ];
    for section in ["1", "6", "8"] {
        files.extend(
            ["", ".gz"].map(|packed| of(&format!("/usr/share/man/man{section}/"), &format!(".{section}{packed}"))),
        );
    }
    let mut found: Vec<ByteString> = Vec::new();
    found.extend(files.into_iter().filter(|file| root.entry(file).is_ok_and(|meta| meta.kind == Kind::File)));
    for dir in ["/usr/share/", "/usr/lib/", "/usr/share/doc/"] {
        let dir = of(dir, "");
        if root.entry(&dir).is_ok_and(|meta| meta.kind == Kind::Dir) {
            root.walk(&dir, DATA, &mut |entry| {
                if entry.kind == Kind::File {
                    found.push(entry.path.clone());
                }
                true
            });
        }
    }
    found
}

/// A link counts where it leads to a program that has no owner either.
fn link(
    survey: &Survey<'_>,
    index: &crate::index::ClaimIndex,
    path: ByteString,
    resolution: &Resolution,
) -> Option<Stray> {
    let End::There(meta) = resolution.end else { return None };
    let owned = !survey.ownership(index, resolution.last()).packages.is_empty();
    (!owned && survey.root().can_execute(resolution.last(), meta)).then(|| Stray {
        path,
        kind: FileKind::Link,
        meta,
        exec_target: Some(resolution.last().clone()),
    })
}

fn file(survey: &Survey<'_>, search: &SearchPath, path: ByteString) -> Option<Stray> {
    // One that has vanished since it was listed is no stray.
    let meta = survey.root().entry(&path).ok()?;
    let kind = kind_of(survey, search, &path, meta);
    Some(Stray { path, kind, meta, exec_target: None })
}

fn kind_of(survey: &Survey<'_>, search: &SearchPath, file: &ByteString, meta: Meta) -> FileKind {
    let name = path::name(file);
    if hints::is_manual(file) {
        return FileKind::Manual;
    }
    if name.ends_with(b".pc") {
        return FileKind::PkgConfig;
    }
    if name.ends_with(b".desktop") {
        return FileKind::Launcher;
    }
    if name.ends_with(b".a") || name.ends_with(b".so") || memchr::memmem::find(name, b".so.").is_some() {
        return FileKind::Library;
    }
    if !survey.root().can_execute(file, meta) {
        return FileKind::Data;
    }
    match survey.root().read_start(file, 4).as_deref() {
        Ok(b"\x7fELF") => FileKind::Program,
        Ok(start) if start.starts_with(b"#!") => FileKind::Script,
        // Without either mark, only the place tells a program from a file with careless permissions.
        _ if is_program_dir(search, path::parent(file)) => FileKind::Script,
        _ => FileKind::Data,
    }
}

fn is_program_dir(search: &SearchPath, dir: &[u8]) -> bool {
    matches!(path::name(dir), b"bin" | b"sbin" | b"games")
        || search.entries.iter().any(|entry| *entry.canonical == *dir)
}
