//! Where `man` looks for a page, in order, as man-db does it (`manpath(5)`, `man(1)`, `manpath(1)`): `MANPATH`, or what each
//! folder of the search path leads to, and the mandatory folders.

use crate::model::Evidence;
use crate::root::{Kind, Limit, Root};
use crate::text::{Text, path};

/// What the settings say.
#[derive(Debug, Clone, Default)]
pub struct Settings {
    mandatory: Vec<Text>,
    map: Vec<(Text, Text)>,
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
                [b"MANDATORY_MANPATH", folder, ..] => settings.mandatory.push(folder.into()),
                [b"MANPATH_MAP", folder, pages, ..] => settings.map.push((folder.into(), pages.into())),
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

    /// The folders of pages for a search path.
    #[must_use]
    pub fn folders(&self, root: &Root, search: &[Text], manual_path: Option<&[u8]>) -> Vec<(Text, Evidence)> {
        let mut found: Vec<(Text, Evidence)> = Vec::new();
        let usual = || {
            let mut usual: Vec<(Text, Evidence)> = Vec::new();
            for folder in search {
                for pages in self.of_folder(root, folder) {
                    usual.push((pages, Evidence::at(folder.clone(), "folder of programs", "leads to these pages")));
                }
            }
            let mandatory = self.mandatory.iter().map(|pages| {
                (pages.clone(), Evidence::at("/etc/manpath.config", "MANDATORY_MANPATH", "is always looked into"))
            });
            usual.extend(mandatory);
            usual
        };
        let mut add = |more: Vec<(Text, Evidence)>| {
            for one in more {
                let is_there = root.target(&one.0).is_ok_and(|meta| meta.kind == Kind::Folder);
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

    fn of_folder(&self, root: &Root, folder: &[u8]) -> Vec<Text> {
        let mapped: Vec<Text> =
            self.map.iter().filter(|(programs, _)| **programs == *folder).map(|(_, pages)| pages.clone()).collect();
        if !mapped.is_empty() {
            return mapped;
        }
        let up = path::folder(folder);
        let beside = [
            path::join(up, b"man"),
            path::join(folder, b"man"),
            path::join(up, b"share/man"),
            path::join(folder, b"share/man"),
        ];
        beside.into_iter().filter(|pages| root.target(pages).is_ok_and(|meta| meta.kind == Kind::Folder)).collect()
    }

    /// The page that is shown for a name: by section first, then by folder.
    #[must_use]
    pub fn page(&self, root: &Root, folders: &[(Text, Evidence)], name: &[u8]) -> Option<Text> {
        for section in &self.sections {
            for (folder, _) in folders {
                let pages = path::join(folder, &[b"man", &section[..1.min(section.len())]].concat());
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
