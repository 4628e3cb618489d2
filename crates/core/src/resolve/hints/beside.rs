//! What an install step puts beside a program tells its version.

use super::{Hint, manual_page, pkg_config, split_version};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::model::Evidence;
use whodunit_formats::versioned;

/// What stands in the prefix of a program: its pkg-config file, its CMake package, its manual page, or a directory of
/// its data, its documentation or its Python metadata that has a version in its name.
///
/// Not in `/usr` itself, where all these may be those of the distribution's copy.
pub fn of(root: &Root, program: &ByteString) -> Option<Hint> {
    let (dir, name) = (path::parent(program), path::name(program));
    let prefix = [&b"/bin"[..], b"/sbin", b"/games", b"/libexec"].iter().find_map(|part| dir.strip_suffix(*part))?;
    if prefix.is_empty() || prefix == b"/usr" {
        return None;
    }
    let place = Prefix::of(root, prefix, name);
    place.pkg_config().or_else(|| place.cmake()).or_else(|| place.manual()).or_else(|| place.named_directory())
}

/// What an application that is unpacked into a directory of its own says of itself there; a program lies in that
/// directory, or in one below it.
///
/// Not in `/usr` itself, nor at the top of anything that holds the directories of many.
pub fn application(root: &Root, program: &ByteString) -> Option<Hint> {
    let near = path::parent(program);
    let dirs = [near, path::parent(near)].into_iter().filter(|dir| {
        let parts = dir.iter().filter(|&&b| b == b'/').count();
        parts >= 2 && !matches!(*dir, b"/usr/local" | b"/usr/bin" | b"/usr/sbin" | b"/usr/local/bin")
    });
    dirs.flat_map(|dir| versioned::APPLICATION_FILES.map(|name| (dir, name))).find_map(|(dir, name)| {
        let file = path::join(dir, name.as_bytes());
        let stated = versioned::in_application_file(name, &root.read(&file, Limit::SMALL).ok()?)?;
        let says = format!("the application says that it is {}", stated.version);
        Some(Hint::certain(&*stated.version, stated.name, Evidence::line(file, stated.line, says)))
    })
}

struct Prefix<'a> {
    root: &'a Root,
    prefix: &'a [u8],
    name: &'a [u8],
    /// `lib`, `lib64`, `share`, and the directories of one architecture below `lib`.
    libraries: Vec<ByteString>,
}

impl<'a> Prefix<'a> {
    fn of(root: &'a Root, prefix: &'a [u8], name: &'a [u8]) -> Self {
        let mut place = Prefix { root, prefix, name, libraries: Vec::new() };
        place.libraries = ["/lib", "/lib64", "/share"].map(|dir| place.below(dir)).to_vec();
        let is_of_arch = |name: &[u8]| memchr::memmem::find(name, b"-linux-").is_some();
        place.libraries.extend(place.entries(&place.below("/lib"), is_of_arch));
        place
    }

    fn below(&self, parts: &str) -> ByteString {
        ByteString::from([self.prefix, parts.as_bytes()].concat())
    }

    /// Entries of a directory by name, sorted.
    fn entries(&self, dir: &ByteString, wanted: impl Fn(&[u8]) -> bool) -> Vec<ByteString> {
        let listed = self.root.names_in(dir);
        let mut found: Vec<ByteString> =
            listed.into_iter().filter(|(name, _)| wanted(name)).map(|(name, _)| path::join(dir, &name)).collect();
        found.sort();
        found
    }

    fn pkg_config(&self) -> Option<Hint> {
        let file = [b"/pkgconfig/", self.name, b".pc"].concat();
        self.libraries.iter().find_map(|dir| pkg_config(self.root, &ByteString::from([dir, &*file].concat())))
    }

    /// `lib/cmake/NAME/NAMEConfigVersion.cmake`, or `…-config-version.cmake`.
    fn cmake(&self) -> Option<Hint> {
        let is_own = |dir: &[u8]| dir.eq_ignore_ascii_case(self.name);
        let is_version =
            |file: &[u8]| file.ends_with(b"ConfigVersion.cmake") || file.ends_with(b"-config-version.cmake");
        let packages = self.libraries.iter().flat_map(|dir| self.entries(&path::join(dir, b"cmake"), is_own));
        packages.flat_map(|dir| self.entries(&dir, is_version)).find_map(|file| {
            let stated = versioned::in_cmake_package(&self.root.read(&file, Limit::SMALL).ok()?)?;
            let says = format!("set(PACKAGE_VERSION \"{}\")", stated.version);
            Some(Hint::certain(&*stated.version, None, Evidence::line(file, stated.line, says)))
        })
    }

    fn manual(&self) -> Option<Hint> {
        let page = |section: &str, packed: &str| {
            let dir = self.below(&format!("/share/man/man{section}/"));
            ByteString::from([&*dir, self.name, format!(".{section}{packed}").as_bytes()].concat())
        };
        let pages = ["1", "8", "6"].iter().flat_map(|section| ["", ".gz"].map(|packed| page(section, packed)));
        pages.into_iter().find_map(|page| manual_page(self.root, &page))
    }

    /// `share/doc/NAME-2.1`, `share/NAME-2.1`, `lib/NAME-2.1`, `lib/python3/site-packages/NAME-2.1.dist-info`.
    fn named_directory(&self) -> Option<Hint> {
        let mut places = vec![self.below("/share/doc"), self.below("/share"), self.below("/lib")];
        for python in self.entries(&self.below("/lib"), |name| name.starts_with(b"python")) {
            places.extend([&b"site-packages"[..], b"dist-packages"].map(|dir| path::join(&python, dir)));
        }
        let begins = |entry: &[u8]| entry.len() > self.name.len() && entry.starts_with(self.name);
        let mut found: Vec<(String, ByteString)> = Vec::new();
        for entry in places.iter().flat_map(|place| self.entries(place, begins)) {
            let text = String::from_utf8_lossy(path::name(&entry)).into_owned();
            let stem = text.strip_suffix(".dist-info").unwrap_or(&text);
            if let Some((name, version)) = split_version(stem)
                && name.as_bytes() == self.name
                && self.root.target(&entry).is_ok_and(|meta| meta.kind == Kind::Dir)
            {
                found.push((version.to_owned(), entry));
            }
        }
        // Several are several installations, and which of them is this program's is unknown.
        let (version, dir) = found.first()?;
        let agrees = found.iter().all(|(other, _)| other == version);
        agrees.then(|| {
            let says = format!("{} {version}", ByteString::from(self.name));
            Hint::certain(&**version, None, Evidence::file_name(dir.clone(), says))
        })
    }
}
