//! Package headers of rpm, as its databases keep them (*RPM Package Format*, "Header Structure").
//!
//! Two counts, an index of 16 bytes an entry (tag, type, place in the store, count), and the store; all in
//! network order. Strings end in a zero; a list of strings is one after another.
//!
//! Traps: the first entry is that of a region, whose own data is a trailer with a negative place; tags that
//! were added at installation stand behind the region, so the index is not sorted as a whole; counts and places
//! can be lies, so every read is checked against the store.

use crate::bytes::ByteString;

/// Tags of what is read.
#[expect(missing_docs, reason = "rpm's own names, listed in `rpmtag.h`")]
pub mod tag {
    pub const NAME: u32 = 1000;
    pub const VERSION: u32 = 1001;
    pub const RELEASE: u32 = 1002;
    pub const EPOCH: u32 = 1003;
    pub const SUMMARY: u32 = 1004;
    pub const INSTALL_TIME: u32 = 1008;
    pub const SIZE: u32 = 1009;
    pub const VENDOR: u32 = 1011;
    pub const URL: u32 = 1020;
    pub const ARCH: u32 = 1022;
    pub const OLD_FILE_NAMES: u32 = 1027;
    pub const FILE_SIZES: u32 = 1028;
    pub const FILE_STATES: u32 = 1029;
    pub const FILE_MODES: u32 = 1030;
    pub const FILE_TIMES: u32 = 1034;
    pub const FILE_DIGESTS: u32 = 1035;
    pub const FILE_LINK_TARGETS: u32 = 1036;
    pub const FILE_FLAGS: u32 = 1037;
    pub const FILE_OWNERS: u32 = 1039;
    pub const FILE_GROUPS: u32 = 1040;
    pub const FILE_VERIFY_FLAGS: u32 = 1045;
    pub const PROVIDE_NAMES: u32 = 1047;
    pub const REQUIRE_FLAGS: u32 = 1048;
    pub const REQUIRE_NAMES: u32 = 1049;
    pub const REQUIRE_VERSIONS: u32 = 1050;
    pub const PROVIDE_FLAGS: u32 = 1112;
    pub const PROVIDE_VERSIONS: u32 = 1113;
    pub const RECOMMEND_NAMES: u32 = 5046;
    pub const RECOMMEND_VERSIONS: u32 = 5047;
    pub const RECOMMEND_FLAGS: u32 = 5048;
    pub const SUGGEST_NAMES: u32 = 5049;
    pub const SUGGEST_VERSIONS: u32 = 5050;
    pub const SUGGEST_FLAGS: u32 = 5051;
    pub const SUPPLEMENT_NAMES: u32 = 5052;
    pub const SUPPLEMENT_VERSIONS: u32 = 5053;
    pub const SUPPLEMENT_FLAGS: u32 = 5054;
    pub const ENHANCE_NAMES: u32 = 5055;
    pub const ENHANCE_VERSIONS: u32 = 5056;
    pub const ENHANCE_FLAGS: u32 = 5057;
    pub const DIR_INDEXES: u32 = 1116;
    pub const SOURCE: u32 = 1044;
    pub const BASE_NAMES: u32 = 1117;
    pub const DIR_NAMES: u32 = 1118;
    pub const LONG_FILE_SIZES: u32 = 5008;
    pub const LONG_SIZE: u32 = 5009;
    pub const FILE_DIGEST_ALGORITHM: u32 = 5011;
    pub const MODULARITY_LABEL: u32 = 5096;
}

/// The most entries of a header, and the most bytes of its store (`rpm`'s own limits).
const MAX_ENTRIES: usize = 0xffff;
const MAX_BYTES: usize = 256 << 20;

/// A header.
#[derive(Debug, Clone, Copy)]
pub struct Header<'a> {
    index: &'a [u8],
    store: &'a [u8],
}

impl<'a> Header<'a> {
    /// The header that a blob is; `None` when its counts do not fit it.
    #[must_use]
    pub fn parse(blob: &'a [u8]) -> Option<Self> {
        let (entries, bytes) = (word(blob, 0)? as usize, word(blob, 4)? as usize);
        if entries == 0 || entries > MAX_ENTRIES || bytes > MAX_BYTES {
            return None;
        }
        let index = blob.get(8..8 + entries * 16)?;
        let store = blob.get(8 + entries * 16..8 + entries * 16 + bytes)?;
        Some(Header { index, store })
    }

    /// Where a tag's data begins, its type and its count.
    fn entry(&self, tag: u32) -> Option<(u32, &'a [u8], usize)> {
        let entry = self.index.chunks_exact(16).find(|entry| word(entry, 0) == Some(tag))?;
        let place = word(entry, 8)? as usize;
        Some((word(entry, 4)?, self.store.get(place..)?, word(entry, 12)? as usize))
    }

    /// A text: of several languages the first.
    #[must_use]
    pub fn text(&self, tag: u32) -> Option<&'a [u8]> {
        self.texts(tag).next()
    }

    /// A list of texts, cut where the store is.
    pub fn texts(&self, tag: u32) -> impl Iterator<Item = &'a [u8]> + use<'a> {
        let (kind, mut rest, count) = self.entry(tag).unwrap_or((0, &[], 0));
        let count = if matches!(kind, 6 | 8 | 9) { count } else { 0 };
        (0..count).map_while(move |_| {
            let end = memchr::memchr(0, rest)?;
            let text = &rest[..end];
            rest = &rest[end + 1..];
            Some(text)
        })
    }

    /// A list of numbers of 8, 16, 32 or 64 bits, cut where the store is.
    pub fn numbers(&self, tag: u32) -> impl Iterator<Item = u64> + use<'a> {
        let (kind, data, count) = self.entry(tag).unwrap_or((0, &[], 0));
        let width = match kind {
            1 | 2 => 1,
            3 => 2,
            4 => 4,
            5 => 8,
            _ => 0,
        };
        let data = if width == 0 { &[][..] } else { data };
        let numbers = data.chunks_exact(width.max(1)).take(count);
        numbers.map(|bytes| bytes.iter().fold(0, |number, byte| number << 8 | u64::from(*byte)))
    }

    /// One number.
    #[must_use]
    pub fn number(&self, tag: u32) -> Option<u64> {
        self.numbers(tag).next()
    }

    /// `[EPOCH:]VERSION-RELEASE`.
    #[must_use]
    pub fn version(&self) -> Option<ByteString> {
        let version = self.text(tag::VERSION)?;
        let epoch = self.number(tag::EPOCH).map(|epoch| format!("{epoch}:")).unwrap_or_default();
        let release = self.text(tag::RELEASE).map(|release| [b"-", release].concat()).unwrap_or_default();
        Some([epoch.as_bytes(), version, &release].concat().into())
    }

    /// Every file with its number in the package: the directory, and the name in it.
    pub fn files(&self) -> impl Iterator<Item = (usize, &'a [u8], &'a [u8])> + use<'a> {
        let dirs: Vec<&[u8]> = self.texts(tag::DIR_NAMES).collect();
        let named = self.texts(tag::BASE_NAMES).zip(self.numbers(tag::DIR_INDEXES)).enumerate();
        let split =
            named.filter_map(move |(number, (name, dir))| Some((number, *dirs.get(usize::try_from(dir).ok()?)?, name)));
        // Packages of the oldest kind have whole paths instead.
        let whole = self.texts(tag::OLD_FILE_NAMES).enumerate().map(|(number, path)| {
            let cut = memchr::memrchr(b'/', path).map_or(0, |at| at + 1);
            (number, &path[..cut], &path[cut..])
        });
        split.chain(whole)
    }

    /// How many files the index says there are, and how many can be read.
    #[must_use]
    pub fn counts_of_files(&self) -> (usize, usize) {
        let says = self.entry(tag::BASE_NAMES).map_or(0, |(_, _, count)| count);
        (says, self.files().count().min(says))
    }
}

fn word(bytes: &[u8], at: usize) -> Option<u32> {
    let four = bytes.get(at..at.checked_add(4)?)?;
    Some(u32::from_be_bytes(four.try_into().ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn blob() -> Vec<u8> {
        whodunit_demo::HeaderBuilder::default()
            .text(tag::NAME, "buoy-tools")
            .text(tag::VERSION, "1.2")
            .text(tag::RELEASE, "3.fn1")
            .numbers(tag::EPOCH, [2])
            .texts(tag::BASE_NAMES, ["buoy", "buoy.conf"])
            .texts(tag::DIR_NAMES, ["/usr/bin/", "/etc/"])
            .numbers(tag::DIR_INDEXES, [0, 1])
            .build()
    }

    #[test]
    fn names_versions_and_files_are_read() {
        let blob = blob();
        let header = Header::parse(&blob).unwrap();
        assert_eq!(header.text(tag::NAME), Some(&b"buoy-tools"[..]));
        assert_eq!(header.version().unwrap().to_string(), "2:1.2-3.fn1");
        let files: Vec<_> = header.files().collect();
        assert_eq!(files, [(0, &b"/usr/bin/"[..], &b"buoy"[..]), (1, b"/etc/", b"buoy.conf")]);
        assert_eq!(header.counts_of_files(), (2, 2));
        assert_eq!((header.text(tag::VENDOR), header.number(tag::NAME)), (None, None));
    }

    #[test]
    fn whatever_is_cut_or_lies_is_no_header_or_says_less() {
        let blob = blob();
        for end in 0..blob.len() {
            assert!(Header::parse(&blob[..end]).is_none(), "{end}");
        }
        for place in 0..blob.len() {
            for value in [0, 1, 0x7f, 0xff] {
                let mut other = blob.clone();
                other[place] = value;
                if let Some(header) = Header::parse(&other) {
                    let _ = (header.version(), header.files().count(), header.counts_of_files());
                }
            }
        }
    }
}
