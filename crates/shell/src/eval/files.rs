//! Names of files that fit a pattern, and what a user may do with a file.

use super::piece::is_known;
use super::run::Run;
use crate::syntax::pattern;
use crate::{FileType, Files, Metadata};
use whodunit_formats::bytes::path;

/// A pattern of zsh without the letters in parentheses at its end, and those letters.
pub(super) fn qualified(fitting: &[u8]) -> (&[u8], Option<&[u8]>) {
    let Some(inner) = fitting.strip_suffix(b")") else { return (fitting, None) };
    let Some(open) = memchr::memrchr(b'(', inner) else { return (fitting, None) };
    let letters = &inner[open + 1..];
    // Whatever is no pattern of its own.
    let are_letters = !letters.is_empty() && !letters.iter().any(|b| b"|()~".contains(b));
    if are_letters { (&fitting[..open], Some(letters)) } else { (fitting, None) }
}

/// Whether a pattern of zsh ends in qualifiers that change the names of what fits, or ask more than is known here.
pub(super) fn has_modifiers(fitting: &[u8]) -> bool {
    let Some(inner) = fitting.strip_suffix(b")") else { return false };
    let letters = memchr::memrchr(b'(', inner).map_or(&b""[..], |open| &inner[open + 1..]);
    memchr::memchr(b':', letters).is_some() && memchr::memchr(b'|', letters).is_none()
}

impl Run<'_> {
    /// The names that fit, in the order of the place's language.
    pub(super) fn matching(&mut self, fitting: &[u8], qualifiers: Option<&[u8]>) -> Vec<Vec<u8>> {
        let is_absolute = fitting.starts_with(b"/");
        let mut found: Vec<Vec<u8>> = vec![if is_absolute { b"/".to_vec() } else { Vec::new() }];
        let parts: Vec<&[u8]> = fitting.split(|&b| b == b'/').filter(|part| !part.is_empty()).collect();
        for (number, part) in parts.iter().enumerate() {
            let is_last = number + 1 == parts.len();
            let mut next = Vec::new();
            for before in &found {
                if !self.step(1) {
                    return Vec::new();
                }
                let excludes = self.has_extended_glob() && part.starts_with(b"^");
                if !pattern::is_pattern(part) && !excludes {
                    let name = [before.as_slice(), &pattern::plain(part)].concat();
                    if self.seen().metadata(&self.absolute(&name)).is_some() {
                        next.push(name);
                    }
                    continue;
                }
                let dir = self.absolute(before);
                let names = self.seen().list(&dir);
                let takes_hidden = part.starts_with(b".") || part.starts_with(b"\\.");
                let fitting =
                    names.iter().filter(|(name, _)| takes_hidden || !name.starts_with(b".")).filter(|(name, _)| {
                        match excludes {
                            true => !pattern::fits(&part[1..], name),
                            false => pattern::fits(part, name),
                        }
                    });
                let mut names: Vec<&[u8]> = fitting.map(|(name, _)| &**name).collect();
                self.sort(&mut names);
                next.extend(names.into_iter().map(|name| [before.as_slice(), name].concat()));
            }
            if !is_last || fitting.ends_with(b"/") {
                next.retain(|name| self.kind(name) == Some(FileType::Dir));
                next.iter_mut().for_each(|name| name.push(b'/'));
            }
            found = next;
        }
        if let Some(letters) = qualifiers {
            let wants = |letter: u8| letters.contains(&letter);
            // A link is one, but where `-` follows it.
            let kind = |name: &[u8]| match wants(b'-') {
                true => self.kind(name),
                false => self.seen().entry_type(&self.absolute(name)),
            };
            found.retain(|name| match kind(name) {
                Some(kind) => (!wants(b'/') || kind == FileType::Dir) && (!wants(b'.') || kind == FileType::File),
                None => !wants(b'/') && !wants(b'.') && !wants(b'-'),
            });
            if letters.windows(2).any(|two| two == b"On") {
                found.reverse();
            }
        }
        found
    }

    /// Sorts names as the shell does here: by bytes in dash and in the C locale, else as a dictionary does.
    fn sort(&self, names: &mut [&[u8]]) {
        let locale = [&b"LC_ALL"[..], b"LC_COLLATE", b"LANG"]
            .iter()
            .find_map(|name| self.state.get(name).filter(|value| !value.is_empty()));
        let by_bytes = self.dialect() == crate::syntax::Dialect::Posix
            || locale.is_none_or(|locale| locale.starts_with(b"C") || locale == b"POSIX" || !self.has_locale(locale));
        if by_bytes {
            names.sort_unstable();
        } else {
            let letters = |name: &[u8]| -> Vec<u8> {
                let kept = name.iter().filter(|b| b.is_ascii_alphanumeric() || **b >= 0x80);
                kept.map(u8::to_ascii_lowercase).collect()
            };
            // At the same letters, small ones first.
            names.sort_by_cached_key(|name| (letters(name), name.iter().map(|b| b ^ 0x20).collect::<Vec<u8>>()));
        }
    }

    /// Whether the machine has a locale: in the archive of all, or in a directory of its own.
    fn has_locale(&self, name: &[u8]) -> bool {
        let of = |dir: &[u8]| self.seen().metadata(&[b"/usr/lib/locale/", dir].concat()).is_some();
        let spelled = String::from_utf8_lossy(name).replace(".UTF-8", ".utf8");
        of(b"locale-archive") || of(name) || of(spelled.as_bytes())
    }

    /// A path from the current directory.
    pub(super) fn absolute(&self, name: &[u8]) -> Vec<u8> {
        if !name.starts_with(b"/") && !is_known(&self.state.dir) {
            self.why_astray.set(Some("looks for a file in a directory that is unknown"));
        }
        if name.is_empty() { self.state.dir.clone() } else { path::absolute(name, &self.state.dir).to_vec() }
    }

    /// What a file is, links followed.
    pub(super) fn meta(&self, name: &[u8]) -> Option<Metadata> {
        if name.is_empty() {
            return None;
        }
        self.seen().metadata(&self.absolute(name))
    }

    pub(super) fn kind(&self, name: &[u8]) -> Option<FileType> {
        self.meta(name).map(|meta| meta.file_type)
    }

    /// Whether a name is that of a directory to which the user may go.
    pub(super) fn may_enter(&self, name: &[u8]) -> bool {
        self.meta(name).is_some_and(|meta| meta.file_type == FileType::Dir && self.may(meta, 1))
    }

    /// Whether the user may read (4), write (2) or run (1) what is there. Of the owners of an offline tree the
    /// numbers are taken as they are.
    pub(super) fn may(&self, meta: Metadata, bit: u32) -> bool {
        if self.at.user.uid == 0 {
            return bit != 1 || meta.file_type == FileType::Dir || meta.mode & 0o111 != 0;
        }
        let class = match meta {
            meta if meta.owner == self.at.user.uid => 6,
            meta if self.at.groups.contains(&meta.group) => 3,
            _ => 0,
        };
        meta.mode >> class & bit != 0
    }

    /// The first file that a name reaches in the search path, as the user who starts it.
    pub(super) fn which(&self, name: &[u8]) -> Option<Vec<u8>> {
        self.which_in(self.state.get(b"PATH").unwrap_or_default(), name)
    }

    /// The same in a list of directories.
    pub(super) fn which_in(&self, list: &[u8], name: &[u8]) -> Option<Vec<u8>> {
        let can_run =
            |file: &[u8]| self.meta(file).is_some_and(|meta| meta.file_type == FileType::File && self.may(meta, 1));
        if name.contains(&b'/') {
            return can_run(name).then(|| name.to_vec());
        }
        let candidates = list.split(|&b| b == b':').filter(|part| is_known(part));
        let candidates = candidates.map(|part| if part.is_empty() { &b"."[..] } else { part });
        candidates.map(|dir| path::join(dir, name).to_vec()).find(|file| can_run(file))
    }
}
