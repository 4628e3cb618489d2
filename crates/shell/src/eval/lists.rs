//! Variables that are lists of directories.

use whodunit_formats::bytes::ByteString;

/// Where something was said.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Place {
    /// The file.
    pub file: ByteString,
    /// The line, from 1; 0 where there is none.
    pub line: u32,
}

/// Variables that are lists of directories, separated by colons.
pub const LISTS: [&[u8]; 8] = [
    b"PATH",
    b"XDG_DATA_DIRS",
    b"XDG_CONFIG_DIRS",
    b"MANPATH",
    b"LD_LIBRARY_PATH",
    b"PYTHONPATH",
    b"FPATH",
    b"INFOPATH",
];

/// The parts of a list of directories.
pub fn parts(list: &[u8]) -> Vec<&[u8]> {
    if list.is_empty() { Vec::new() } else { list.split(|&b| b == b':').collect() }
}

/// Who put each part of a list there, after an assignment at `now`: what was there before keeps its place where the
/// new list was made from the old one.
pub fn places_after(old: &[u8], before: &[Place], new: &[u8], is_made_of_old: bool, now: &Place) -> Vec<Place> {
    let new = parts(new);
    let mut places = vec![now.clone(); new.len()];
    let old = parts(old);
    if !is_made_of_old || old.is_empty() || before.len() != old.len() {
        return places;
    }
    if let Some(at) = (0..=new.len().saturating_sub(old.len())).find(|&at| new[at..].starts_with(&old)) {
        places[at..at + old.len()].clone_from_slice(before);
        return places;
    }
    let mut used = vec![false; old.len()];
    for (place, part) in places.iter_mut().zip(&new) {
        if let Some(at) = (0..old.len()).find(|&at| !used[at] && old[at] == *part) {
            used[at] = true;
            *place = before[at].clone();
        }
    }
    places
}

/// The variable that an array of zsh stands for.
pub(super) fn tied(name: &[u8]) -> Option<&'static [u8]> {
    match name {
        b"path" => Some(b"PATH"),
        b"fpath" => Some(b"FPATH"),
        b"manpath" => Some(b"MANPATH"),
        b"cdpath" => Some(b"CDPATH"),
        _ => None,
    }
}
