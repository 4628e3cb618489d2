//! AppImages: single-file bundles (*AppImage Specification*, "Image format").
//!
//! An ELF file with `AI` and a 1 or 2 in its padding at byte 8. Type 2 has a squashfs image behind the ELF
//! part; type 1 is an ISO 9660 image whose first blocks hold it. The name proves nothing either way.
//!
//! Traps: the end of the ELF part is computed from its headers, for the image's mark may occur elsewhere;
//! the update information stands in a section of fixed size, padded with NUL.

use std::io::{Read, Seek, SeekFrom};

use super::binary;
use super::squashfs;

/// The bytes of a file that tell whether it is a bundle.
pub const HEAD: usize = 64;

/// What is known of a bundle.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Bundle {
    /// 1 or 2.
    pub form: u8,
    /// The processor that it is for, in the usual name.
    pub arch: Option<&'static str>,
    /// The launcher inside, and its name.
    pub launcher: Option<(String, Vec<u8>)>,
    /// Where newer ones come from, as written.
    pub update: Option<String>,
    /// Whether it carries a signature. It is not checked.
    pub signed: bool,
    /// What is wrong with what is inside.
    pub damage: Option<String>,
}

/// The form of a bundle, from the first bytes of a file; `None` when it is none.
#[must_use]
pub fn form(head: &[u8]) -> Option<u8> {
    let form = *head.get(10)?;
    (head.starts_with(b"\x7fELF") && head[8..10] == *b"AI" && matches!(form, 1 | 2)).then_some(form)
}

/// Reads a bundle whose first bytes have told its form.
pub fn inspect<R: Read + Seek + Send>(mut open: impl FnMut() -> Option<R>, head: &[u8], size: u64) -> Option<Bundle> {
    let form = form(head)?;
    let mut bundle = Bundle { form, arch: arch(head), launcher: None, update: None, signed: false, damage: None };
    if form == 1 {
        let mut file = open()?;
        bundle.update = text_at(&mut file, 33_651, 512);
        match iso::launcher(&mut file) {
            Ok(launcher) => bundle.launcher = launcher,
            Err(damage) => bundle.damage = Some(damage),
        }
        return Some(bundle);
    }
    let section = |file: R, name: &str| binary::section(file, name).map(|(bytes, _)| bytes);
    bundle.update = section(open()?, ".upd_info").and_then(|bytes| text(&bytes));
    let signature = section(open()?, ".sha256_sig").unwrap_or_default();
    bundle.signed = signature.iter().any(|&byte| byte != 0);
    let is_launcher = |path: &str| path.ends_with(".desktop") && path.matches('/').count() == 1;
    let Some(offset) = payload(head) else {
        bundle.damage = Some("its ELF part has no section table, so the image behind it cannot be found".to_owned());
        return Some(bundle);
    };
    match squashfs::unpack(open()?, size, offset, &is_launcher, 1 << 20) {
        Ok(found) => {
            let first = found.into_iter().next();
            bundle.launcher = first.map(|file| (file.path.trim_start_matches('/').to_owned(), file.content));
        }
        Err(damage) => bundle.damage = Some(damage),
    }
    Some(bundle)
}

/// The end of the ELF part: that of its table of sections.
fn payload(head: &[u8]) -> Option<u64> {
    let little = head.get(5) == Some(&1);
    let number = |at: usize, width: usize| -> Option<u64> {
        let bytes = head.get(at..at + width)?;
        let add = |sum: u64, byte: &u8| sum << 8 | u64::from(*byte);
        Some(if little { bytes.iter().rev().fold(0, add) } else { bytes.iter().fold(0, add) })
    };
    let (start, entry, count) = match head.get(4)? {
        2 => (number(0x28, 8)?, number(0x3a, 2)?, number(0x3c, 2)?),
        _ => (number(0x20, 4)?, number(0x2e, 2)?, number(0x30, 2)?),
    };
    (start > 0).then(|| start.checked_add(entry * count)).flatten()
}

fn arch(head: &[u8]) -> Option<&'static str> {
    match u16::from_le_bytes([*head.get(18)?, *head.get(19)?]) {
        62 => Some("x86_64"),
        3 => Some("i686"),
        183 => Some("aarch64"),
        40 => Some("armhf"),
        _ => None,
    }
}

fn text(bytes: &[u8]) -> Option<String> {
    let end = bytes.iter().position(|&b| b == 0).unwrap_or(bytes.len());
    let text = String::from_utf8_lossy(&bytes[..end]).trim().to_owned();
    (!text.is_empty()).then_some(text)
}

fn text_at(file: &mut (impl Read + Seek), at: u64, length: usize) -> Option<String> {
    let mut bytes = vec![0; length];
    file.seek(SeekFrom::Start(at)).ok()?;
    file.read_exact(&mut bytes).ok()?;
    text(&bytes)
}

/// The little of ISO 9660 (ECMA-119) with Rock Ridge names that it takes to find one file at the top.
mod iso {
    use std::io::{Read, Seek, SeekFrom};

    const BLOCK: u64 = 2048;
    /// The most of the top directory that is looked at, and of the launcher that is read.
    const MOST: u64 = 1 << 20;

    pub fn launcher(file: &mut (impl Read + Seek)) -> Result<Option<(String, Vec<u8>)>, String> {
        let volume = bytes(file, 16 * BLOCK, BLOCK)?;
        if volume.get(1..6) != Some(b"CD001") {
            return Err("no ISO 9660 image".to_owned());
        }
        let (start, length) = extent(&volume[156..]).ok_or("no top directory in the ISO 9660 image")?;
        let dir = bytes(file, start * BLOCK, length.min(MOST))?;
        let mut at = 0;
        while at < dir.len() {
            let size = usize::from(dir[at]);
            if size == 0 {
                // Records do not cross blocks; the rest of this one is empty.
                at = (at + 1).next_multiple_of(usize::try_from(BLOCK).unwrap_or(2048));
                continue;
            }
            let Some(record) = dir.get(at..at + size) else { break };
            let name = name(record);
            if name.to_ascii_lowercase().ends_with(".desktop")
                && let Some((start, length)) = extent(record)
            {
                return Ok(Some((name, bytes(file, start * BLOCK, length.min(MOST))?)));
            }
            at += size;
        }
        Ok(None)
    }

    fn bytes(file: &mut (impl Read + Seek), at: u64, length: u64) -> Result<Vec<u8>, String> {
        let mut bytes = Vec::new();
        file.seek(SeekFrom::Start(at)).map_err(|error| error.to_string())?;
        file.by_ref().take(length).read_to_end(&mut bytes).map_err(|error| error.to_string())?;
        let whole = bytes.len() as u64 == length;
        whole.then_some(bytes).ok_or_else(|| "the ISO 9660 image is truncated".to_owned())
    }

    fn extent(record: &[u8]) -> Option<(u64, u64)> {
        let word = |at: usize| Some(u64::from(u32::from_le_bytes(record.get(at..at + 4)?.try_into().ok()?)));
        Some((word(2)?, word(10)?))
    }

    /// The Rock Ridge name where there is one, else that of the record.
    fn name(record: &[u8]) -> String {
        let length = usize::from(record.get(32).copied().unwrap_or(0));
        let plain = record.get(33..33 + length).unwrap_or_default();
        let mut at = 33 + length + usize::from(length.is_multiple_of(2));
        while let Some(field) = record.get(at..).filter(|field| field.len() > 4 && field[2] >= 4) {
            let size = usize::from(field[2]).min(field.len());
            if field.starts_with(b"NM") && size > 5 {
                return String::from_utf8_lossy(&field[5..size]).into_owned();
            }
            at += size;
        }
        let plain = plain.split(|&b| b == b';').next().unwrap_or_default();
        String::from_utf8_lossy(plain).into_owned()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Cursor;

    proptest::proptest! {
        #[test]
        fn any_bytes_behind_the_mark_are_read_without_panic(rest: Vec<u8>, form in 1_u8..=2, class in 1_u8..=2) {
            let mut file = b"\x7fELF\x02\x01\x01\0AI\x02\0\0\0\0\0".to_vec();
            file[4] = class;
            file[10] = form;
            file.extend(&rest);
            let head = file[..file.len().min(HEAD)].to_vec();
            let size = file.len() as u64;
            let _ = inspect(|| Some(Cursor::new(file.clone())), &head, size);
        }
    }

    #[test]
    fn content_decides_and_not_the_name() {
        assert_eq!(form(b"\x7fELF\x02\x01\x01\0AI\x02\0"), Some(2));
        for none in [&b"\x7fELF\x02\x01\x01\0\0\0\0\0"[..], b"#!/bin/sh AI\x02", b"\x7fELF\x02\x01\x01\0AI\x03\0", b""]
        {
            assert_eq!(form(none), None);
        }
    }
}
