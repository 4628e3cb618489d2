//! Where a fish keeps what it brings along (fish documentation, "Configuration files").
//!
//! A fish in `PREFIX/bin` takes `PREFIX/share/fish` and `PREFIX/etc/fish` where both are there; else the directories that
//! it was built with. Homebrew builds it into a keg, with the settings of its own prefix. For what other packages bring,
//! `__fish_build_paths.fish` among its data has the directories that it was built with.

use crate::eval::run::MAX_FILE;
use crate::{FileType, Files};
use whodunit_formats::bytes::{ByteString, path};

/// The directories of a fish.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Directories {
    /// What it brings itself.
    pub data: ByteString,
    /// The settings for all users.
    pub settings: ByteString,
    /// What other packages set.
    pub vendor_conf: ByteString,
    /// Functions of other packages.
    pub vendor_functions: ByteString,
}

impl Default for Directories {
    fn default() -> Self {
        Self::with_vendor("/usr/share/fish".into(), "/etc/fish".into(), b"/usr/share/fish")
    }
}

impl Directories {
    fn with_vendor(data: ByteString, settings: ByteString, vendor: &[u8]) -> Self {
        let [vendor_conf, vendor_functions] =
            [&b"vendor_conf.d"[..], b"vendor_functions.d"].map(|name| path::join(vendor, name));
        Directories { data, settings, vendor_conf, vendor_functions }
    }

    /// Those of the fish at this path.
    #[must_use]
    pub fn of(program: &[u8], files: &dyn Files) -> Self {
        let program = files.canonicalize(program);
        let mut found = program.strip_suffix(b"/bin/fish").and_then(|prefix| Self::of_prefix(prefix, files));
        let dirs = found.get_or_insert_default();
        let file = path::join(&dirs.data, b"__fish_build_paths.fish");
        let built = files.read(&file, MAX_FILE).unwrap_or_default();
        for line in built.split(|byte| *byte == b'\n') {
            let words: Vec<&[u8]> = line.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty()).collect();
            match words[..] {
                [b"set", b"__extra_confdir", dir] if dir.starts_with(b"/") => dirs.vendor_conf = dir.into(),
                [b"set", b"__extra_functionsdir", dir] if dir.starts_with(b"/") => dirs.vendor_functions = dir.into(),
                _ => {}
            }
        }
        found.unwrap_or_default()
    }

    fn of_prefix(prefix: &[u8], files: &dyn Files) -> Option<Self> {
        let [data, settings] = [&b"share/fish"[..], b"etc/fish"].map(|dir| path::join(prefix, dir));
        let is_dir = |dir: &ByteString| files.metadata(dir).is_some_and(|meta| meta.file_type == FileType::Dir);
        if is_dir(&data) && is_dir(&settings) {
            return Some(Self::with_vendor(data.clone(), settings, &data));
        }
        let cellar = memchr::memmem::find(prefix, b"/Cellar/")?;
        let [settings, vendor] = [&b"etc/fish"[..], b"share/fish"].map(|dir| path::join(&prefix[..cellar], dir));
        Some(Self::with_vendor(data, settings, &vendor))
    }
}
