//! Versions that software states of itself in files of its source tree, in its scripts, and in its data.
//!
//! - `Cargo.toml` (`[package]`), `pyproject.toml` (`[project]`), `package.json`;
//! - `CMakeLists.txt` (`project(NAME VERSION X)`), `meson.build` (`project('NAME', version: 'X')`),
//!   `configure.ac` (`AC_INIT([NAME], [X])`), a version file of a CMake package (`set(PACKAGE_VERSION "X")`);
//! - what an unpacked application says of itself: `application.ini` (`[App]`), `product-info.json`, `package.json` among
//!   its resources, `release` of a Java runtime;
//! - a script's own `VERSION=X`, `__version__ = "X"`, `our $VERSION = 'X'`;
//! - in a program's data, the software's own name with a version behind it: `barolog 2.1.0`.
//!
//! None of these languages is run: a version that is computed is no version here.

use serde::Deserialize;

use crate::key_file::KeyFile;
use crate::settings;

/// A version, and where it stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stated {
    /// The version, without a `v` before it.
    pub version: String,
    /// The name that goes with it, where the file gives one.
    pub name: Option<String>,
    /// The line, counted from 1.
    pub line: u32,
}

/// The files of a source tree that state a version, the most telling first.
pub const BUILD_FILES: [&str; 6] =
    ["Cargo.toml", "package.json", "pyproject.toml", "CMakeLists.txt", "meson.build", "configure.ac"];

/// What a file of [`BUILD_FILES`] with this content states.
#[must_use]
pub fn in_build_file(name: &str, content: &[u8]) -> Option<Stated> {
    let content = std::str::from_utf8(content).ok()?;
    match name {
        "Cargo.toml" | "pyproject.toml" => toml_table(content),
        "package.json" => json_object(content),
        "CMakeLists.txt" => call(content, "project", " VERSION "),
        "meson.build" => call(content, "project", "version"),
        "configure.ac" => call(content, "AC_INIT", ","),
        _ => None,
    }
}

/// The files in which an unpacked application states its version, below its own directory.
pub const APPLICATION_FILES: [&str; 4] =
    ["application.ini", "product-info.json", "resources/app/package.json", "release"];

/// What a file of [`APPLICATION_FILES`] with this content states.
#[must_use]
pub fn in_application_file(name: &str, content: &[u8]) -> Option<Stated> {
    match name {
        "application.ini" => {
            let file = KeyFile::parse(content);
            let name = file.get("App", "Name").map(str::to_owned);
            Some(Stated { version: plain(file.get("App", "Version")?)?, name, line: file.line("App").unwrap_or(1) })
        }
        "release" => {
            let set = settings::assignments(content).find(|set| set.name == b"JAVA_VERSION")?;
            let version = plain(std::str::from_utf8(set.value).ok()?)?;
            Some(Stated { version, name: Some("java".to_owned()), line: set.line })
        }
        _ => json_object(std::str::from_utf8(content).ok()?),
    }
}

#[derive(Deserialize)]
struct Manifest {
    #[serde(alias = "project")]
    package: Option<Table>,
}

#[derive(Deserialize)]
struct Table {
    name: Option<String>,
    version: Option<toml::Spanned<toml::Value>>,
}

fn toml_table(content: &str) -> Option<Stated> {
    let table = toml::from_str::<Manifest>(content).ok()?.package?;
    let version = table.version?;
    let line = line_of(content, version.span().start);
    // `version.workspace = true` is a table, and stands in another file.
    let version = plain(version.get_ref().as_str()?)?;
    Some(Stated { version, name: table.name, line })
}

fn json_object(content: &str) -> Option<Stated> {
    #[derive(Deserialize)]
    struct Object {
        name: Option<String>,
        version: String,
    }
    let object: Object = serde_json::from_str(content).ok()?;
    let at = content.find("\"version\"").unwrap_or(0);
    Some(Stated { version: plain(&object.version)?, name: object.name, line: line_of(content, at) })
}

/// The first call of `function`, whose first argument is the name, and the version behind `mark`.
fn call(content: &str, function: &str, mark: &str) -> Option<Stated> {
    let is_call = |at: &usize| {
        let line = &content[content[..*at].rfind('\n').map_or(0, |end| end + 1)..*at];
        line.trim().is_empty() && content[at + function.len()..].trim_start().starts_with('(')
    };
    let start = content.match_indices(function).map(|(at, _)| at).find(is_call)?;
    let open = start + content[start..].find('(')? + 1;
    let arguments = &content[open..][..content[open..].find(')')?];
    let flat = arguments.replace(['\n', '\t'], " ");
    let at = flat.find(mark)?;
    let is_edge = |c: char| c.is_whitespace() || matches!(c, '[' | ']' | '\'' | '"' | ',' | ':');
    let word = flat[at + mark.len()..].trim_start_matches(is_edge).split(is_edge).next()?;
    let name = arguments.trim_start_matches(is_edge).split(is_edge).next().map(str::to_owned);
    let line = line_of(content, open + at + mark.len());
    Some(Stated { version: plain(word)?, name: name.filter(|name| !name.is_empty()), line })
}

/// `set(PACKAGE_VERSION "2.1.0")` in a CMake package's version file.
#[must_use]
pub fn in_cmake_package(content: &[u8]) -> Option<Stated> {
    (1..).zip(content.split(|&b| b == b'\n')).take(400).find_map(|(line, text)| {
        let text = std::str::from_utf8(text).ok()?.trim_start();
        let value = text.strip_prefix("set(PACKAGE_VERSION")?;
        Some(Stated { version: plain(value.split('"').nth(1)?)?, name: None, line })
    })
}

/// The version that a script gives a variable of that name; `None` when it gives several.
#[must_use]
pub fn in_script(content: &[u8]) -> Option<Stated> {
    let mut found: Option<Stated> = None;
    for (line, text) in (1..).zip(content.split(|&b| b == b'\n')) {
        let Some(version) = std::str::from_utf8(text).ok().and_then(assigned) else { continue };
        match &found {
            Some(before) if before.version != version => return None,
            Some(_) => {}
            None => found = Some(Stated { version, name: None, line }),
        }
    }
    found
}

/// `VERSION=2.1`, `readonly VERSION="2.1"`, `__version__ = '2.1'`, `our $VERSION = '2.1';`, `const VERSION = "2.1";`
fn assigned(line: &str) -> Option<String> {
    let (left, right) = line.split_once('=')?;
    let mut words = left.split_whitespace();
    let variable = words.next_back()?.trim_start_matches('$').trim_matches('_');
    let is_declared = words.all(|word| {
        matches!(word, "readonly" | "declare" | "-r" | "typeset" | "export" | "our" | "const" | "let" | "var" | "set")
    });
    if !is_declared || !variable.eq_ignore_ascii_case("version") {
        return None;
    }
    let right = right.trim();
    let value = match right.chars().next()? {
        quote @ ('"' | '\'') => right[1..].split(quote).next()?,
        _ => right.split([' ', ';', '#']).next()?,
    };
    plain(value)
}

/// A version, and the offset at which it stands, behind the software's name in a program's data; `None` where the
/// data names several versions.
#[must_use]
pub fn beside_name(data: &[u8], name: &[u8]) -> Option<(String, usize)> {
    if name.len() < 3 {
        return None;
    }
    let mut found: Option<(String, usize)> = None;
    let rest = &name[1..];
    for at in memchr::memmem::find_iter(data, rest) {
        let Some(start) = at.checked_sub(1) else { continue };
        let is_name = data[start].eq_ignore_ascii_case(&name[0]);
        let before = start.checked_sub(1).map_or(b' ', |before| data[before]);
        let behind = &data[at + rest.len()..];
        let behind = &behind[..behind.len().min(64)];
        if !is_name || before.is_ascii_alphanumeric() || b"-_.".contains(&before) {
            continue;
        }
        let version = if before == b'/' { source_directory(behind) } else { leading_version(behind) };
        let Some(version) = version else { continue };
        match &found {
            Some((before, _)) if *before != version => return None,
            Some(_) => {}
            None => found = Some((version, start)),
        }
    }
    found
}

/// The version that follows a name: ` 2.1`, `/2.1`, ` v2.1`, ` version 2.1`, `, version 2.1`.
fn leading_version(text: &[u8]) -> Option<String> {
    let text = [&b", version "[..], b" version ", b" v", b"/v", b" ", b"/"]
        .iter()
        .find_map(|mark| text.strip_prefix(*mark).filter(|rest| rest.first().is_some_and(u8::is_ascii_digit)))?;
    let end = text.iter().position(|b| !(b.is_ascii_alphanumeric() || b".+~-".contains(b))).unwrap_or(text.len());
    plain(std::str::from_utf8(&text[..end]).ok()?.trim_end_matches(['.', '-']))
}

/// The version of a directory of sources, whose files messages of a Rust program name: `/barolog-2.1.0/src/main.rs`.
fn source_directory(text: &[u8]) -> Option<String> {
    let version = text.strip_prefix(b"-")?;
    plain(std::str::from_utf8(&version[..memchr::memmem::find(version, b"/src/")?]).ok()?)
}

/// A text that is nothing but a version: digits first, a dot, and no placeholder.
fn plain(text: &str) -> Option<String> {
    let text = text.trim().trim_start_matches(['v', 'V']);
    let is_version = text.starts_with(|c: char| c.is_ascii_digit())
        && text.contains('.')
        && text.len() < 64
        && text.chars().all(|c| c.is_ascii_alphanumeric() || ".+~-_".contains(c));
    is_version.then(|| text.to_owned())
}

fn line_of(content: &str, at: usize) -> u32 {
    let lines = content.as_bytes()[..at.min(content.len())].iter().filter(|&&b| b == b'\n').count();
    u32::try_from(lines).unwrap_or(u32::MAX - 1) + 1
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_build_file_states_one_version() {
        for (file, content, expected) in [
            ("Cargo.toml", "[package]\nname = \"pegel\"\nversion = \"1.4.0\"\n", Some(("pegel", "1.4.0", 3))),
            ("Cargo.toml", "[package]\nname = \"pegel\"\nversion.workspace = true\n", None),
            ("Cargo.toml", "[workspace]\nmembers = []\n", None),
            ("pyproject.toml", "[project]\nname = \"pegel\"\nversion = \"2.0rc1\"\n", Some(("pegel", "2.0rc1", 3))),
            ("package.json", "{\n \"name\": \"pegel\",\n \"version\": \"0.9.1\"}", Some(("pegel", "0.9.1", 3))),
            ("package.json", "{\"name\": \"pegel\"", None),
            (
                "CMakeLists.txt",
                "cmake_minimum_required(VERSION 3.1)\nproject(pegel VERSION 2.1.0 LANGUAGES C)",
                Some(("pegel", "2.1.0", 2)),
            ),
            ("CMakeLists.txt", "project(pegel\n  VERSION ${V})", None),
            ("meson.build", "project('pegel', 'c',\n  version : '3.2',\n  license : 'MIT')", Some(("pegel", "3.2", 2))),
            ("configure.ac", "AC_PREREQ([2.69])\nAC_INIT([pegel], [4.0.2], [mail])", Some(("pegel", "4.0.2", 2))),
            ("configure.ac", "AC_INIT([pegel], m4_esyscmd([./v]))", None),
        ] {
            let stated = in_build_file(file, content.as_bytes());
            let stated = stated.as_ref().map(|it| (it.name.as_deref().unwrap_or(""), &*it.version, it.line));
            assert_eq!(stated, expected, "{file}: {content}");
        }
        for (file, content, expected) in [
            ("application.ini", "[App]\nVendor=Quay\nName=Barolog\nVersion=128.0.1\n", Some(("Barolog", "128.0.1", 1))),
            ("application.ini", "[Gecko]\nVersion=1\n", None),
            (
                "product-info.json",
                "{\n\"name\": \"Barolog\",\n\"version\": \"2026.1\"}",
                Some(("Barolog", "2026.1", 3)),
            ),
            ("release", "IMPLEMENTOR=\"Quay\"\nJAVA_VERSION=\"17.0.9\"\n", Some(("java", "17.0.9", 2))),
            ("release", "12.4\n", None),
        ] {
            let stated = in_application_file(file, content.as_bytes());
            let stated = stated.as_ref().map(|it| (it.name.as_deref().unwrap_or(""), &*it.version, it.line));
            assert_eq!(stated, expected, "{file}: {content}");
        }
        let stated = in_cmake_package(b"# made\nset(PACKAGE_VERSION \"1.2\")\n").unwrap();
        assert_eq!((&*stated.version, stated.line), ("1.2", 2));
    }

    #[test]
    fn a_script_states_a_version_in_a_variable() {
        for (script, expected) in [
            ("#!/bin/sh\nVERSION=1.2\n", Some(("1.2", 2))),
            ("#!/bin/sh\nreadonly VERSION=\"v1.2.3\" # now\n", Some(("1.2.3", 2))),
            ("#!/usr/bin/perl\nour $VERSION = '0.44';\n", Some(("0.44", 2))),
            ("__version__ = \"3.0.1\"\n", Some(("3.0.1", 1))),
            ("VERSION=$(git describe)\nVERSION=\n", None),
            ("VERSION=1.0\nVERSION=2.0\n", None),
            ("PYTHON_VERSION=3.11\nif [ $version = 1.2 ]; then\n", None),
        ] {
            let stated = in_script(script.as_bytes());
            assert_eq!(stated.as_ref().map(|it| (&*it.version, it.line)), expected, "{script}");
        }
    }

    #[test]
    fn data_names_the_software_and_its_version() {
        for (data, expected) in [
            (&b"usage\0barolog 2.1.0\0"[..], Some(("2.1.0", 6))),
            (b"Barolog version 2.1.0, made in harbour", Some(("2.1.0", 0))),
            (b"\0barolog/2.1\0barolog 2.1\0", Some(("2.1", 1))),
            (b"/registry/barolog-2.1.0/src/main.rs", Some(("2.1.0", 10))),
            (b"barolog 2.1\0barolog 2.2\0", None),
            (b"libbarolog 2.1\0/barolog 2.1\0barolog %s\0barolog 2\0", None),
            (b"arolog 2.1", None),
        ] {
            let found = beside_name(data, b"barolog");
            assert_eq!(found.as_ref().map(|(version, at)| (&**version, *at)), expected, "{}", data.escape_ascii());
        }
    }

    proptest::proptest! {
        #[test]
        fn any_text_gives_a_plain_version_or_none(text in "[a-zA-Z0-9 .,'\"=()\\[\\]{}:\n-]{0,200}") {
            for name in BUILD_FILES {
                for before in ["", "project(", "AC_INIT([", "[package]\nversion = "] {
                    if let Some(stated) = in_build_file(name, format!("{before}{text}").as_bytes()) {
                        proptest::prop_assert!(plain(&stated.version).is_some());
                    }
                }
            }
        }
    }
}
