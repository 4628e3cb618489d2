//! What is near a program, or within it without a label, makes its version likely.

use std::cell::OnceCell;

use super::{Hint, split_version};
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::host::Host;
use crate::model::Evidence;
use whodunit_formats::{binary, versioned};

/// The number of directories above a program that may be its source tree: `build/release/bin/NAME`.
const ABOVE: usize = 4;

/// The version that the source tree states in which a program lies.
pub fn source_tree(host: &Host, program: &ByteString) -> Option<Hint> {
    let mut dir = path::parent(program);
    for _ in 0..ABOVE {
        // The top of a home or of `/opt` is nobody's source tree.
        if !holds_trees(host, path::parent(dir)) {
            return None;
        }
        for name in versioned::BUILD_FILES {
            let file = path::join(dir, name.as_bytes());
            if let Ok(content) = host.root.read(&file, Limit::SMALL)
                && let Some(stated) = versioned::in_build_file(name, &content)
            {
                let whose = stated.name.as_deref().unwrap_or("its source tree");
                let says = format!("probably {} {}", ByteString::from(whose), stated.version);
                return Some(Hint::probable(&*stated.version, stated.name, Evidence::line(file, stated.line, says)));
            }
        }
        dir = path::parent(dir);
    }
    None
}

/// Whether a directory is, or lies below, one in which source trees are kept.
fn holds_trees(host: &Host, dir: &[u8]) -> bool {
    let places = [&b"/opt"[..], b"/srv", b"/usr/src", b"/usr/local/src"];
    places.iter().any(|place| path::within(dir, place)) || host.users.iter().any(|user| path::within(dir, &user.home))
}

/// What archives end with.
const ARCHIVES: [&str; 9] = [".tar.gz", ".tgz", ".tar.xz", ".txz", ".tar.bz2", ".tbz2", ".tar.zst", ".tar", ".zip"];

/// An archive: the software and the version that its name gives, and where it is.
type Archive = (String, String, ByteString);

/// The archives of a machine, where archives are kept. They are looked for once, on first use.
#[derive(Debug)]
pub struct Archives<'h> {
    pub(super) host: &'h Host,
    found: OnceCell<Vec<Archive>>,
}

impl<'h> Archives<'h> {
    /// Nothing is read yet.
    #[must_use]
    pub fn new(host: &'h Host) -> Self {
        Archives { host, found: OnceCell::new() }
    }

    fn look(&self) -> Vec<Archive> {
        let mut places: Vec<ByteString> = ["/usr/local/src", "/usr/src", "/opt"].map(ByteString::from).to_vec();
        for user in &self.host.users {
            places.extend([&b"Downloads"[..], b"src"].map(|dir| path::join(&user.home, dir)));
        }
        let mut found = Vec::new();
        for place in places {
            let listed = self.host.root.names_in(&place);
            for (file, _) in listed {
                let text = String::from_utf8_lossy(&file).into_owned();
                let stem = ARCHIVES.iter().find_map(|ending| text.strip_suffix(ending));
                if let Some((software, version)) = stem.and_then(split_version) {
                    found.push((software.to_lowercase(), version.to_owned(), path::join(&place, &file)));
                }
            }
        }
        found
    }

    /// The version that the archives which bear the program's name agree on.
    pub(super) fn of(&self, program: &ByteString) -> Option<Hint> {
        let name = String::from_utf8_lossy(path::name(program)).to_lowercase();
        let all = self.found.get_or_init(|| self.look());
        let mut alike = all.iter().filter(|(software, ..)| *software == name);
        let (_, version, file) = alike.next()?;
        let says = format!("probably {name} {version}");
        let hint = || Hint::probable(version.as_str(), None, Evidence::file_name(file.clone(), says));
        alike.all(|(_, other, _)| other == version).then(hint)
    }
}

/// The version behind the program's own name in its read-only data.
pub fn data(root: &Root, program: &ByteString) -> Option<Hint> {
    let (data, offset) = binary::section(root.open(program).ok()?, ".rodata")?;
    let (version, at) = versioned::beside_name(&data, path::name(program))?;
    let says = format!("probably {} {version}", ByteString::from(path::name(program)));
    let evidence = Evidence::at(program.clone(), format!("offset {}", offset + at as u64), says);
    Some(Hint::probable(version, None, evidence))
}
