//! Programs that nobody runs: ELF files with nothing but the sections that a build leaves in them.

use std::io::Write as _;

/// A 64-bit little-endian ELF file with these sections.
pub fn elf(sections: &[(&str, u32, Vec<u8>)]) -> Vec<u8> {
    const HEADER: u64 = 64;
    let mut names = vec![0_u8];
    let mut data = Vec::new();
    // Each section header: name, type, flags, address, offset, size, link, info, alignment, entry size.
    let mut headers = vec![0_u8; 64];
    let table = (".shstrtab", 3_u32);
    for (name, kind, content) in sections {
        push_header(&mut headers, names.len(), *kind, HEADER + data.len() as u64, content.len() as u64);
        names.extend_from_slice(name.as_bytes());
        names.push(0);
        data.extend_from_slice(content);
    }
    let name_at = names.len();
    names.extend_from_slice(table.0.as_bytes());
    names.push(0);
    push_header(&mut headers, name_at, table.1, HEADER + data.len() as u64, names.len() as u64);
    data.extend_from_slice(&names);
    data.resize(data.len().next_multiple_of(8), 0);
    let count = u16::try_from(sections.len() + 2).unwrap_or(u16::MAX);
    let mut file = b"\x7fELF\x02\x01\x01\0\0\0\0\0\0\0\0\0".to_vec();
    // Type 2 (executable), machine 62 (x86-64), version 1.
    for half in [2_u16, 62] {
        file.extend(half.to_le_bytes());
    }
    file.extend(1_u32.to_le_bytes());
    for word in [0_u64, 0, HEADER + data.len() as u64] {
        file.extend(word.to_le_bytes());
    }
    file.extend(0_u32.to_le_bytes());
    for half in [64_u16, 56, 0, 64, count, count - 1] {
        file.extend(half.to_le_bytes());
    }
    file.extend(data);
    file.extend(headers);
    file
}

fn push_header(headers: &mut Vec<u8>, name: usize, kind: u32, offset: u64, size: u64) {
    headers.extend(u32::try_from(name).unwrap_or(0).to_le_bytes());
    headers.extend(kind.to_le_bytes());
    for word in [0, 0, offset, size] {
        headers.extend(word.to_le_bytes());
    }
    headers.extend([0_u8; 8]);
    for word in [1_u64, 0] {
        headers.extend(word.to_le_bytes());
    }
}

const PROGBITS: u32 = 1;
const NOTE: u32 = 7;

/// A program as a distribution builds it, with the packaging note.
pub fn packaged(name: &str, version: &str) -> Vec<u8> {
    let mut text = format!(r#"{{"type":"deb","os":"breakwater","name":"{name}","version":"{version}"}}"#).into_bytes();
    text.push(0);
    let size = u32::try_from(text.len()).unwrap_or(0);
    text.resize(text.len().next_multiple_of(4), 0);
    let mut note: Vec<u8> = [4, size, 0xcafe_1a7e].iter().flat_map(|word: &u32| word.to_le_bytes()).collect();
    note.extend(b"FDO\0");
    note.extend(text);
    elf(&[(".note.package", NOTE, note)])
}

/// A program that says nothing of itself.
pub fn silent(content: &str) -> Vec<u8> {
    elf(&[(".comment", PROGBITS, content.as_bytes().to_vec())])
}

/// A Rust program with the list of crates that an auditable build embeds.
pub fn of_crates(name: &str, version: &str) -> Vec<u8> {
    let list = format!(
        r#"{{"packages":[{{"name":"buoyancy","version":"0.3.1","source":"crates.io"}},{{"name":"{name}","version":"{version}","source":"local","dependencies":[0],"root":true}}]}}"#
    );
    let mut packed = flate2::write::ZlibEncoder::new(Vec::new(), flate2::Compression::default());
    // Writing into memory does not fail.
    let _ = packed.write_all(list.as_bytes());
    elf(&[(".dep-v0", PROGBITS, packed.finish().unwrap_or_default())])
}

/// A Go program with its build information.
pub fn of_module(module: &str, version: &str) -> Vec<u8> {
    const MARK: &[u8; 16] = b"0123456789abcdef";
    let mut information = MARK.to_vec();
    information.extend(format!("path\t{module}\nmod\t{module}\t{version}\th1:none=\nbuild\tCGO_ENABLED=0\n").bytes());
    information.extend(MARK);
    let mut section = b"\xff Go buildinf:\x08\x02".to_vec();
    section.resize(32, 0);
    for text in [b"go1.22.1".as_slice(), &information] {
        let mut length = text.len();
        while length >= 0x80 {
            section.push(u8::try_from(length & 0x7f).unwrap_or(0) | 0x80);
            length >>= 7;
        }
        section.push(u8::try_from(length).unwrap_or(0));
        section.extend(text);
    }
    elf(&[(".go.buildinfo", PROGBITS, section)])
}
