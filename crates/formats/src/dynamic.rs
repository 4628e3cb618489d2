//! What an ELF file needs to be started: the dynamic section (System V ABI, "Dynamic Linking").

use std::io::{Read, Seek};

use object::read::elf::{Dyn as _, FileHeader, ProgramHeader as _};
use object::{Endianness, ReadCache, ReadRef, elf};

use super::binary::Bounded;

/// The dynamic section of a program or a library.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Dynamic {
    /// Libraries by name, in order (`DT_NEEDED`).
    pub needed: Vec<Vec<u8>>,
    /// The name that others need it by (`DT_SONAME`).
    pub name: Option<Vec<u8>>,
    /// `DT_RPATH`, directories with colons between them.
    pub run_path_old: Option<Vec<u8>>,
    /// `DT_RUNPATH`.
    pub run_path: Option<Vec<u8>>,
    /// Word size and machine: only what has the same goes together.
    pub machine: (u8, u16),
    /// The loader that a program names (`PT_INTERP`).
    pub loader: Option<Vec<u8>>,
}

/// The most that a table of texts may hold.
const MOST: u64 = 16 << 20;

/// Reads the section; `None` when it is no ELF file, or one that needs no loader.
pub fn read<R: Read + Seek>(file: R) -> Option<Dynamic> {
    let cache = ReadCache::new(file);
    let data = Bounded(&cache);
    match data.read_bytes_at(0, 5).ok()? {
        b"\x7fELF\x02" => of(elf::FileHeader64::<Endianness>::parse(data).ok()?, data, 2),
        b"\x7fELF\x01" => of(elf::FileHeader32::<Endianness>::parse(data).ok()?, data, 1),
        _ => None,
    }
}

fn of<'a, H, D>(header: &'a H, data: D, class: u8) -> Option<Dynamic>
where
    H: FileHeader<Endian = Endianness>,
    D: ReadRef<'a>,
{
    let endian = header.endian().ok()?;
    let segments = header.program_headers(endian, data).ok()?;
    let segment = segments.iter().find(|segment| segment.p_type(endian) == elf::PT_DYNAMIC)?;
    let size: u64 = segment.p_filesz(endian).into();
    if size > MOST {
        return None;
    }
    let list = segment.dynamic(endian, data).ok()??;
    let value = |tag: elf::DynamicTag| list.iter().find(|one| one.tag(endian) == tag).map(|one| one.val(endian));
    let (table, length) = (value(elf::DT_STRTAB)?, value(elf::DT_STRSZ)?.min(MOST));
    // The table's address in memory, as a place in the file.
    let place = segments.iter().find_map(|segment| {
        let (start, size): (u64, u64) = (segment.p_vaddr(endian).into(), segment.p_filesz(endian).into());
        let is_it = segment.p_type(endian) == elf::PT_LOAD && table >= start && table - start < size;
        let place: u64 = segment.p_offset(endian).into();
        is_it.then(|| place.checked_add(table - start))?
    })?;
    let texts = data.read_bytes_at(place, length).ok()?;
    let text = |at: u64| {
        let rest = texts.get(usize::try_from(at).ok()?..)?;
        Some(rest[..memchr::memchr(0, rest)?].to_vec())
    };
    let of_tag = |tag: elf::DynamicTag| value(tag).and_then(text);
    let needed = list.iter().filter(|one| one.tag(endian) == elf::DT_NEEDED);
    let loader = segments.iter().find(|segment| segment.p_type(endian) == elf::PT_INTERP).and_then(|segment| {
        let bytes = segment.data(endian, data).ok()?;
        Some(bytes.split(|&b| b == 0).next()?.to_vec()).filter(|path| path.len() < 4096)
    });
    Some(Dynamic {
        needed: needed.filter_map(|one| text(one.val(endian))).take(4096).collect(),
        name: of_tag(elf::DT_SONAME),
        run_path_old: of_tag(elf::DT_RPATH),
        run_path: of_tag(elf::DT_RUNPATH),
        machine: (class, header.e_machine(endian).0),
        loader,
    })
}
