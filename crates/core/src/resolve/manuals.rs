//! Where `man` looks for a page, in order, as man-db does it (`manpath(5)`, `man(1)`, `manpath(1)`): `MANPATH`, or what
//! each directory of the search path leads to, and the mandatory directories.

use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::model::Evidence;

/// What the settings say.
#[derive(Debug, Clone, Default)]
pub struct Settings {
    mandatory: Vec<ByteString>,
    map: Vec<(ByteString, ByteString)>,
    sections: Vec<Vec<u8>>,
}

impl Settings {
    /// Reads `/etc/manpath.config`, or `/etc/man_db.conf` where it is called that.
    #[must_use]
    pub fn read(root: &Root) -> Self {
        let files = [&b"/etc/manpath.config"[..], b"/etc/man_db.conf"];
        let content = files.iter().find_map(|file| root.read(file, Limit::SMALL).ok()).unwrap_or_default();
        let mut settings = Settings::default();
        for line in content.split(|&b| b == b'\n') {
            let words: Vec<&[u8]> = line.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty()).collect();
            match words[..] {
                [b"MANDATORY_MANPATH", dir, ..] => settings.mandatory.push(dir.into()),
                [b"MANPATH_MAP", dir, pages, ..] => settings.map.push((dir.into(), pages.into())),
                [b"SECTION", ref sections @ ..] => {
                    settings.sections = sections.iter().map(|one| one.to_vec()).collect();
                }
                _ => {}
            }
        }
        if settings.sections.is_empty() {
            let usual = ["1", "n", "l", "8", "3", "0", "2", "5", "4", "9", "6", "7"];
            settings.sections = usual.iter().map(|one| one.as_bytes().to_vec()).collect();
        }
        settings
    }

    /// The directories of pages for a search path.
    #[must_use]
    pub fn dirs(&self, root: &Root, search: &[ByteString], manual_path: Option<&[u8]>) -> Vec<(ByteString, Evidence)> {
        let mut found: Vec<(ByteString, Evidence)> = Vec::new();
        let usual = || {
            let mut usual: Vec<(ByteString, Evidence)> = Vec::new();
            for dir in search {
                for pages in self.of_dir(root, dir) {
                    usual.push((pages, Evidence::at(dir.clone(), "directory of programs", "leads to these pages")));
                }
            }
            let mandatory = self.mandatory.iter().map(|pages| {
                (pages.clone(), Evidence::at("/etc/manpath.config", "MANDATORY_MANPATH", "is always searched"))
            });
            usual.extend(mandatory);
            usual
        };
        let mut add = |more: Vec<(ByteString, Evidence)>| {
            for one in more {
                let is_there = root.target(&one.0).is_ok_and(|meta| meta.kind == Kind::Dir);
                if is_there && !found.iter().any(|known| known.0 == one.0) {
                    found.push(one);
                }
            }
        };
        match manual_path.filter(|list| !list.is_empty()) {
            None => add(usual()),
            Some(list) => {
                for part in list.split(|&b| b == b':') {
                    match part {
                        b"" => add(usual()),
                        part => add(vec![(part.into(), Evidence::at("MANPATH", "variable", "names it"))]),
                    }
                }
            }
        }
        found
    }

    fn of_dir(&self, root: &Root, dir: &[u8]) -> Vec<ByteString> {
        let mapped: Vec<ByteString> =
            self.map.iter().filter(|(programs, _)| **programs == *dir).map(|(_, pages)| pages.clone()).collect();
        if !mapped.is_empty() {
            return mapped;
        }
        let up = path::parent(dir);
        let beside = [
            path::join(up, b"man"),
            path::join(dir, b"man"),
            path::join(up, b"share/man"),
            path::join(dir, b"share/man"),
        ];
        beside.into_iter().filter(|pages| root.target(pages).is_ok_and(|meta| meta.kind == Kind::Dir)).collect()
    }

    /// The page that is shown for a name: by section first, then by directory.
    #[must_use]
    pub fn page(&self, root: &Root, dirs: &[(ByteString, Evidence)], name: &[u8]) -> Option<ByteString> {
        for section in &self.sections {
            for (dir, _) in dirs {
                let pages = path::join(dir, &[b"man", &section[..1.min(section.len())]].concat());
                for ending in ["", ".gz", ".xz", ".zst", ".bz2"] {
                    let file = [name, b".", &section[..], ending.as_bytes()].concat();
                    let page = path::join(&pages, &file);
                    if root.target(&page).is_ok_and(|meta| meta.kind == Kind::File) {
                        return Some(page);
                    }
                }
            }
        }
        None
    }
}
