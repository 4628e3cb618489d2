//! `ld.so.cache`, as glibc's `ldconfig` writes it: which file the loader takes for a library's name.
//!
//! The new format (`glibc-ld.so.cache1.1`), alone or behind the old one (`ld.so-1.7.0`). A head of 48 bytes, then
//! entries of 24: flags, name, path (both places of a text that ends in a zero, counted from the head), and what the
//! processor must have. Byte order is the machine's own.
//!
//! Traps: several entries of one name are in the order in which they are tried; those for better processors come first
//! and are told by a bit.

/// One entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Entry<'c> {
    /// The library's name.
    pub name: &'c [u8],
    /// The file.
    pub path: &'c [u8],
    /// Kind and machine.
    pub flags: u32,
    /// Whether it is for some processors only.
    pub is_special: bool,
}

/// Why bytes are no such cache.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum CacheError {
    /// The first bytes are others.
    #[error("not a cache of the dynamic loader, or an unknown version of it")]
    NotCache,
    /// The entries go beyond the end.
    #[error("truncated in the list of libraries")]
    Cut,
}

const MAGIC: &[u8] = b"glibc-ld.so.cache1.1";
const OLD: &[u8] = b"ld.so-1.7.0";
const HEAD: usize = 48;
const ENTRY: usize = 24;

/// Every entry; those whose texts lie outside the file are skipped.
///
/// # Errors
/// When the bytes are no such cache, or cut in the list.
pub fn entries(bytes: &[u8]) -> Result<Vec<Entry<'_>>, CacheError> {
    let start = match bytes {
        bytes if bytes.starts_with(MAGIC) => 0,
        bytes if bytes.starts_with(OLD) => {
            // The old list, of entries of 12 bytes, then the new one at the next multiple of 8.
            let count = word(bytes, 12).ok_or(CacheError::NotCache)? as usize;
            count.checked_mul(12).and_then(|size| size.checked_add(16 + 7)).ok_or(CacheError::NotCache)? & !7
        }
        _ => return Err(CacheError::NotCache),
    };
    let new = bytes.get(start..).filter(|new| new.starts_with(MAGIC)).ok_or(CacheError::NotCache)?;
    let count = word(new, 20).ok_or(CacheError::NotCache)? as usize;
    let end = count.checked_mul(ENTRY).and_then(|size| size.checked_add(HEAD)).ok_or(CacheError::Cut)?;
    let list = new.get(HEAD..end).ok_or(CacheError::Cut)?;
    let text = |at: u32| {
        let rest = new.get(at as usize..)?;
        Some(&rest[..memchr::memchr(0, rest)?])
    };
    let read = |entry: &'_ [u8]| {
        let special = u64::from(word(entry, 16)?) | u64::from(word(entry, 20)?) << 32;
        Some((word(entry, 0)?, word(entry, 4)?, word(entry, 8)?, special))
    };
    let entries = list.chunks_exact(ENTRY).filter_map(|entry| {
        let (flags, name, path, special) = read(entry)?;
        Some(Entry { name: text(name)?, path: text(path)?, flags, is_special: special != 0 })
    });
    Ok(entries.collect())
}

fn word(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_ne_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn entries_are_read_and_lies_refused() {
        let mut bytes = MAGIC.to_vec();
        bytes.extend(2u32.to_ne_bytes());
        bytes.resize(HEAD, 0);
        let texts = u32::try_from(HEAD + 2 * ENTRY).unwrap();
        for (name, path) in [(texts, texts + 14), (texts, 9_999)] {
            for word in [0x303, name, path, 0, 0, 0] {
                bytes.extend(word.to_ne_bytes());
            }
        }
        bytes.extend(b"libknots.so.2\0/usr/local/lib/libknots.so.2\0");
        let read = entries(&bytes).unwrap();
        assert_eq!(read.len(), 1, "a text outside the file");
        assert_eq!((read[0].name, read[0].path), (&b"libknots.so.2"[..], &b"/usr/local/lib/libknots.so.2"[..]));
        assert_eq!(entries(&bytes[..60]), Err(CacheError::Cut));
        assert_eq!(entries(b"ld.so-1.7.0\0\xff\xff\xff\xff"), Err(CacheError::NotCache));
        assert_eq!(entries(b""), Err(CacheError::NotCache));
    }
}
