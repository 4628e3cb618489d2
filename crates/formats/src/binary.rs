//! What a program says of itself without being run: build information in ELF files.
//!
//! - the packaging note of systemd's *Package Metadata for Executable Files* (section
//!   `.note.package`, note type `0xcafe1a7e`, owner `FDO`, JSON);
//! - Go's build information (section `.go.buildinfo`; package `debug/buildinfo`): module path and version;
//! - the dependency list that Rust's auditable builds embed (section `.dep-v0`, zlib-compressed JSON),
//!   in which one package is marked as the root.
//!
//! Nothing is loaded or executed. Only the header, the table of sections and the sections named above
//! are read, each within a bound.
//!
//! Traps: a stripped program keeps these sections; a Go program built from a working copy says
//! `(devel)`, which is no version; before Go 1.18 the information is behind pointers into the data.

use std::io::{Read, Seek};
use std::ops::Range;

use object::read::elf::{FileHeader, SectionHeader as _};
use object::{Endianness, ReadCache, ReadRef, elf};
use serde::Deserialize;

/// What was learnt of a program.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BuildInfo {
    /// The name by which the build calls it: a package, module path or crate.
    pub name: Option<String>,
    /// The version that the build recorded.
    pub version: Option<String>,
    /// Where in the file this stands: the section's name.
    pub section: &'static str,
}

/// The most that is read at once: a table of sections, or one section.
const MOST: u64 = 16 << 20;

/// The most that a compressed section may grow to.
const MAX_UNPACKED: u64 = 32 << 20;

/// Reads what a program says of itself. `None` when it is no ELF file or says nothing.
pub fn build_info<R: Read + Seek>(file: R) -> Option<BuildInfo> {
    let cache = ReadCache::new(file);
    let data = Bounded(&cache);
    match data.read_bytes_at(0, 5).ok()? {
        b"\x7fELF\x02" => from_elf(elf::FileHeader64::<Endianness>::parse(data).ok()?, data),
        b"\x7fELF\x01" => from_elf(elf::FileHeader32::<Endianness>::parse(data).ok()?, data),
        _ => None,
    }
}

/// What stands in one section, and its offset in the file; `None` when it is no ELF file or has no such section.
pub fn section<R: Read + Seek>(file: R, name: &str) -> Option<(Vec<u8>, u64)> {
    fn of<'a, H, D>(header: &'a H, data: D, name: &str) -> Option<(Vec<u8>, u64)>
    where
        H: FileHeader<Endian = Endianness>,
        D: ReadRef<'a>,
    {
        let endian = header.endian().ok()?;
        let sections = header.sections(endian, data).ok()?;
        let section = sections.section_by_name(endian, name.as_bytes())?.1;
        Some((section.data(endian, data).ok()?.to_vec(), section.sh_offset(endian).into()))
    }
    let cache = ReadCache::new(file);
    let data = Bounded(&cache);
    match data.read_bytes_at(0, 5).ok()? {
        b"\x7fELF\x02" => of(elf::FileHeader64::<Endianness>::parse(data).ok()?, data, name),
        b"\x7fELF\x01" => of(elf::FileHeader32::<Endianness>::parse(data).ok()?, data, name),
        _ => None,
    }
}

/// A file whose tables may lie about their size: no single read takes more than [`MOST`].
#[derive(Debug)]
pub(super) struct Bounded<'a, R: Read + Seek>(pub(super) &'a ReadCache<R>);

impl<R: Read + Seek> Clone for Bounded<'_, R> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<R: Read + Seek> Copy for Bounded<'_, R> {}

impl<'a, R: Read + Seek> ReadRef<'a> for Bounded<'a, R> {
    fn len(self) -> Result<u64, ()> {
        self.0.len()
    }

    fn read_bytes_at(self, offset: u64, size: u64) -> Result<&'a [u8], ()> {
        if size > MOST { Err(()) } else { self.0.read_bytes_at(offset, size) }
    }

    fn read_bytes_at_until(self, range: Range<u64>, delimiter: u8) -> Result<&'a [u8], ()> {
        let end = range.end.min(range.start.saturating_add(MOST));
        self.0.read_bytes_at_until(range.start..end, delimiter)
    }
}

fn from_elf<'a, H, D>(header: &'a H, data: D) -> Option<BuildInfo>
where
    H: FileHeader<Endian = Endianness>,
    D: ReadRef<'a>,
{
    let endian = header.endian().ok()?;
    let sections = header.sections(endian, data).ok()?;
    let section = |name: &str| sections.section_by_name(endian, name.as_bytes())?.1.data(endian, data).ok();
    section(".note.package")
        .and_then(|bytes| package_note(bytes, endian))
        .or_else(|| section(".go.buildinfo").and_then(go_build_info))
        .or_else(|| section(".dep-v0").and_then(crate_list))
}

#[derive(Deserialize)]
struct PackageNote {
    name: Option<String>,
    version: Option<String>,
}

fn package_note(section: &[u8], endian: Endianness) -> Option<BuildInfo> {
    let word = |at: usize| -> Option<usize> {
        let bytes = section.get(at..at + 4)?.try_into().ok()?;
        Some(if endian == Endianness::Little { u32::from_le_bytes(bytes) } else { u32::from_be_bytes(bytes) } as usize)
    };
    let (owner_size, text_size, kind) = (word(0)?, word(4)?, word(8)?);
    let owner = section.get(12..12_usize.checked_add(owner_size)?)?;
    if kind != 0xcafe_1a7e || owner != b"FDO\0" {
        return None;
    }
    let start = 12 + owner_size.next_multiple_of(4);
    let text = section.get(start..start.checked_add(text_size)?)?;
    let text = text.split(|&b| b == 0).next()?;
    let note: PackageNote = serde_json::from_slice(text).ok()?;
    Some(BuildInfo { name: note.name, version: note.version, section: ".note.package" })
}

/// What a Go program says of itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GoProgram {
    /// The toolchain that built it.
    pub toolchain: String,
    /// The import path of its main package.
    pub package: Option<String>,
    /// The module that it lies in.
    pub module: Option<String>,
    /// The module's version; `(devel)` for a working copy.
    pub version: Option<String>,
    /// The commit of the working copy.
    pub revision: Option<String>,
    /// A version that the build gave the linker.
    set_by_linker: Option<String>,
}

/// Reads what a Go program says of itself. `None` when it is no ELF file, or was not built by Go 1.18 or later.
pub fn go_program<R: Read + Seek>(file: R) -> Option<GoProgram> {
    go_information(&section(file, ".go.buildinfo")?.0)
}

/// Since Go 1.18 the two strings follow the 32-byte header, each after its length as a varint; the
/// second, the module information, stands between two 16-byte marks: lines of tab-separated fields.
fn go_information(section: &[u8]) -> Option<GoProgram> {
    const INLINE_STRINGS: u8 = 2;
    let start = memchr::memmem::find(section, b"\xff Go buildinf:")?;
    let body = &section[start..];
    if body.get(15)? & INLINE_STRINGS == 0 {
        return None;
    }
    let (toolchain, rest) = varint_string(body.get(32..)?)?;
    let (module, _) = varint_string(rest)?;
    let module = String::from_utf8_lossy(module.get(16..module.len().checked_sub(16)?)?);
    let fields = |kind: &str| {
        let line = module.lines().find_map(|line| line.strip_prefix(kind)?.strip_prefix('\t'))?;
        Some(line.split('\t').map(str::to_owned).collect::<Vec<_>>())
    };
    let (main, path) = (fields("mod"), fields("path"));
    let filled = |text: &String| !text.is_empty();
    Some(GoProgram {
        toolchain: String::from_utf8_lossy(toolchain).into_owned(),
        package: path.and_then(|path| path.into_iter().next()).filter(filled),
        module: main.as_ref().and_then(|main| main.first().cloned()).filter(filled),
        version: main.and_then(|main| main.get(1).cloned()).filter(filled),
        revision: module.lines().find_map(|line| line.strip_prefix("build\tvcs.revision=")).map(str::to_owned),
        set_by_linker: module.lines().find_map(version_set_by_linker),
    })
}

fn go_build_info(section: &[u8]) -> Option<BuildInfo> {
    memchr::memmem::find(section, b"\xff Go buildinf:")?;
    let Some(go) = go_information(section) else {
        return Some(BuildInfo { name: None, version: None, section: ".go.buildinfo" });
    };
    let version = go.version.filter(|version| version != "(devel)").or(go.set_by_linker);
    Some(BuildInfo { name: go.module.or(go.package), version, section: ".go.buildinfo" })
}

/// Builds from a working copy often set a variable called `Version` by the linker:
/// `build -ldflags="-X example.org/x/version.Version=2.1.0"`, with any quoting.
fn version_set_by_linker(line: &str) -> Option<String> {
    let flags = line.strip_prefix("build\t-ldflags=")?;
    let words = flags.split(|c: char| c.is_whitespace() || matches!(c, '"' | '\'' | '\\'));
    words
        .filter_map(|word| word.trim_start_matches("-X=").split_once('='))
        .filter(|(variable, _)| {
            variable.rsplit(['.', '/']).next().is_some_and(|name| name.eq_ignore_ascii_case("version"))
        })
        .find_map(|(_, value)| super::manual::version_in(value))
}

fn varint_string(bytes: &[u8]) -> Option<(&[u8], &[u8])> {
    let mut length: usize = 0;
    for (index, &byte) in bytes.iter().take(5).enumerate() {
        length |= usize::from(byte & 0x7f) << (7 * index);
        if byte & 0x80 == 0 {
            let rest = &bytes[index + 1..];
            return (length <= rest.len()).then(|| rest.split_at(length));
        }
    }
    None
}

#[derive(Deserialize)]
struct CrateList {
    packages: Vec<Crate>,
}

#[derive(Deserialize)]
struct Crate {
    name: String,
    version: String,
    #[serde(default)]
    root: bool,
}

fn crate_list(section: &[u8]) -> Option<BuildInfo> {
    let unpacked = flate2::read::ZlibDecoder::new(section).take(MAX_UNPACKED);
    let list: CrateList = serde_json::from_reader(std::io::BufReader::new(unpacked)).ok()?;
    let root = list.packages.into_iter().find(|package| package.root)?;
    Some(BuildInfo { name: Some(root.name), version: Some(root.version), section: ".dep-v0" })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Cursor;

    #[test]
    fn lengths_that_lie_are_no_answer() {
        for section in [&b"\xff Go buildinf:\x08\x02"[..], b"", b"\xff Go buildinf:"] {
            assert!(go_build_info(section).is_none_or(|info| info.version.is_none()));
        }
        assert_eq!(varint_string(b"\xff\xff\xff\xff\x7fabc"), None);
        assert_eq!(varint_string(b"\x02abc"), Some((&b"ab"[..], &b"c"[..])));
        assert_eq!(package_note(&[0xff; 64], Endianness::Little), None);
        assert_eq!(crate_list(b"not zlib"), None);
        for (line, version) in [
            (
                r#"build	-ldflags=" -X \"quay.example/surge/version.Version=28.2.2\" -extldflags -static""#,
                Some("28.2.2"),
            ),
            ("build\t-ldflags=-X=main.version=v1.4.0", Some("1.4.0")),
            ("build\t-ldflags=\"-s -w -X main.buildVersionless=1.0\"", None),
            ("build\tCGO_ENABLED=0", None),
        ] {
            assert_eq!(version_set_by_linker(line).as_deref(), version, "{line}");
        }
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_behind_the_mark_are_read_without_panic(rest: Vec<u8>, class in 1_u8..=2) {
            let mut file = b"\x7fELF".to_vec();
            file.push(class);
            file.extend(&rest);
            let _ = build_info(Cursor::new(file));
            let mut section = b"\xff Go buildinf:\x08\x02".to_vec();
            section.extend(&rest);
            let _ = go_build_info(&section);
            let _ = package_note(&rest, Endianness::Big);
        }
    }
}
