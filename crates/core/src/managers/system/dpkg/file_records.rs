//! What dpkg recorded of each file: that it is there, and for most of them a digest.
//!
//! | what | where |
//! |---|---|
//! | every entry | `info/PACKAGE.list` |
//! | digests of what is no setting | `info/PACKAGE.md5sums`, paths without their first slash |
//! | digests of settings, as they were packaged | `Conffiles` of the package's stanza in `status` |
//! | what was not unpacked on purpose | `path-exclude` and `path-include` of `/etc/dpkg/dpkg.cfg` and `dpkg.cfg.d/` |
//!
//! Traps: a diverted file lies under its new name; settings that have become obsolete, and those whose digest is the
//! word `newconffile`, are not compared; of patterns the last that fits decides, and `*` crosses slashes.

use hashbrown::HashMap;
use rayon::prelude::*;

use super::ADMIN;
use super::installation::DpkgInstallation;
use super::lists::{List, is_damaged};
use crate::backend::{BATCH, wanted};
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::model::{Algorithm, Depth, Digest, FileRecord, Loss, Status};
use whodunit_formats::stanza::stanzas;
use whodunit_shell::syntax::pattern::fits;

/// Patterns of files that dpkg is told not to unpack, and of exceptions from them.
#[derive(Debug, Default)]
struct Excluded(Vec<(bool, ByteString)>);

impl Excluded {
    fn read(root: &Root, notes: &mut Vec<Loss>) -> Self {
        let mut files: Vec<ByteString> = vec!["/etc/dpkg/dpkg.cfg".into()];
        let dir = ByteString::from("/etc/dpkg/dpkg.cfg.d");
        let names = root.names_in(&dir);
        // As run-parts names them: letters, digits, `-` and `_`.
        let is_sound = |name: &ByteString| name.iter().all(|b| b.is_ascii_alphanumeric() || b"-_".contains(b));
        files.extend(
            names.iter().map(|(name, _)| name).filter(|name| is_sound(name)).map(|name| path::join(&dir, name)),
        );
        let mut patterns = Vec::new();
        for file in files {
            let content = match root.read(&file, Limit::SMALL) {
                Ok(content) => content,
                Err(error) => {
                    if !error.is_missing() {
                        notes.push(Loss::unread(&error, "which files were left out on purpose is unknown"));
                    }
                    continue;
                }
            };
            for line in content.split(|&b| b == b'\n').map(<[u8]>::trim_ascii) {
                for (word, is_out) in [(&b"path-exclude"[..], true), (b"path-include", false)] {
                    let rest = line.strip_prefix(word).filter(|rest| matches!(rest.first(), Some(b'=' | b' ' | b'\t')));
                    patterns.extend(rest.map(|rest| (is_out, rest[1..].trim_ascii().into())));
                }
            }
        }
        Excluded(patterns)
    }

    fn has(&self, file: &[u8]) -> bool {
        self.0.iter().rfind(|(_, pattern)| fits(pattern, file)).is_some_and(|(is_out, _)| *is_out)
    }
}

/// The digests of settings as they were packaged, by the line on which their package's stanza begins.
fn settings(root: &Root) -> HashMap<u32, Vec<(ByteString, Option<String>)>> {
    let status = root.read(&path::join(ADMIN, b"status"), Limit::RECORD).unwrap_or_default();
    let mut found = HashMap::new();
    for stanza in stanzas(&status) {
        let Some(value) = stanza.whole("Conffiles") else { continue };
        // `PATH DIGEST`, and `obsolete` behind some; a path begins with a slash and may have blanks in it.
        let mut files: Vec<(ByteString, Option<String>)> = Vec::new();
        let mut path: Vec<u8> = Vec::new();
        for word in value.split(|&b| b == b' ').filter(|word| !word.is_empty()) {
            let is_digest = word.len() == 32 && word.iter().all(u8::is_ascii_hexdigit);
            match word {
                b"obsolete" | b"remove-on-upgrade" if path.is_empty() => {
                    if let Some((_, digest)) = files.last_mut() {
                        *digest = None;
                    }
                }
                _ if is_digest || word == b"newconffile" => {
                    let digest = is_digest.then(|| String::from_utf8_lossy(word).into_owned());
                    files.push((std::mem::take(&mut path).into(), digest));
                }
                _ => {
                    if !path.is_empty() {
                        path.push(b' ');
                    }
                    path.extend_from_slice(word);
                }
            }
        }
        found.insert(stanza.line, files);
    }
    found
}

impl DpkgInstallation<'_> {
    /// The settings files of a package, as `status` has them.
    pub(super) fn settings_of(&self, package: u32) -> Vec<ByteString> {
        let files = settings(&self.host.root).remove(&self.record(package).line).unwrap_or_default();
        files.into_iter().map(|(file, _)| file).collect()
    }

    /// Every file of the packages, or of these.
    pub(super) fn each_recorded(&self, packages: Option<&[u32]>, depth: Depth, take: &mut dyn FnMut(Vec<FileRecord>)) {
        let root = &self.host.root;
        let mut lost = Vec::new();
        let (excluded, settings) = (Excluded::read(root, &mut lost), settings(root));
        self.note(lost);
        let of_one = |&number: &u32| self.recorded_of(number, &excluded, &settings, depth);
        for numbers in wanted(self.records().len(), packages).chunks(BATCH) {
            let read: Vec<(Vec<FileRecord>, Vec<Loss>)> = numbers.par_iter().with_min_len(8).map(of_one).collect();
            let (files, notes): (Vec<_>, Vec<_>) = read.into_iter().unzip();
            notes.into_iter().for_each(|notes| self.note(notes));
            take(files.into_iter().flatten().collect());
        }
    }

    fn recorded_of(
        &self,
        number: u32,
        excluded: &Excluded,
        settings: &HashMap<u32, Vec<(ByteString, Option<String>)>>,
        depth: Depth,
    ) -> (Vec<FileRecord>, Vec<Loss>) {
        let root = &self.host.root;
        let record = &self.records()[number as usize];
        let mut notes = Vec::new();
        // Of a package that was removed, or never wholly unpacked, nothing can be said to be missing.
        let (Status::Installed, Some(List::Info(list))) = (record.status(), self.list(number)) else {
            return (Vec::new(), notes);
        };
        let info = path::join(ADMIN, b"info");
        let listed = match root.read(&path::join(&info, list), Limit::LIST) {
            Ok(listed) => listed,
            Err(error) => {
                return (Vec::new(), vec![Loss::unread(&error, format!("the files of {} are unknown", record.name))]);
            }
        };
        let stem = list.strip_suffix(b".list").unwrap_or(list);
        let file = path::join(&info, &[stem, b".md5sums"].concat());
        let read = if depth == Depth::Presence { Ok(Vec::new()) } else { root.read(&file, Limit::LIST) };
        let sums = match read {
            Ok(sums) => sums,
            Err(error) => {
                if !error.is_missing() {
                    notes
                        .push(Loss::unread(&error, format!("whether files of {} are altered is unknown", record.name)));
                }
                Vec::new()
            }
        };
        let mut digests: HashMap<&[u8], &[u8]> = HashMap::new();
        for line in sums.split(|&b| b == b'\n') {
            if line.get(32..34) == Some(b"  ") && line[..32].iter().all(u8::is_ascii_hexdigit) {
                let name = &line[34..];
                digests.insert(name.strip_prefix(b"./").or(name.strip_prefix(b"/")).unwrap_or(name), &line[..32]);
            } else if !line.is_empty() {
                notes.push(Loss::damaged(
                    file.clone(),
                    "a line is damaged",
                    format!("whether a file of {} is altered is unknown", record.name),
                ));
            }
        }
        notes.dedup();
        let of_package: &[(ByteString, Option<String>)] = settings.get(&record.line).map_or(&[], Vec::as_slice);
        let damaged = (1..).zip(listed.split(|&b| b == b'\n')).find(|(_, line)| is_damaged(line));
        notes.extend(damaged.map(|(line, _)| self.damaged_line(number, line)));
        let sound = listed.split(|&b| b == b'\n').filter(|line| line.len() > 1 && *line != b"/." && !is_damaged(line));
        let files = sound.map(|line| {
            let (at, _) = self.diversions().apply(root, &record.name, line);
            let setting = of_package.iter().find(|(file, _)| **file == *line);
            let digest = match setting {
                Some((_, digest)) => digest.clone(),
                None => digests.get(&line[1..]).map(|digest| String::from_utf8_lossy(digest).into_owned()),
            };
            let digest = digest.map(|digest| Digest::from_hexadecimal(Algorithm::Md5, &digest));
            FileRecord {
                package: number,
                path: at.into(),
                digest,
                is_settings: setting.is_some(),
                may_be_absent: excluded.has(line),
                ..FileRecord::default()
            }
        });
        (files.collect(), notes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_pattern_that_fits_decides() {
        let patterns =
            [(true, "/usr/share/doc/*"), (false, "/usr/share/doc/*/copyright"), (true, "/usr/share/doc/x/*")];
        let excluded = Excluded(patterns.map(|(is_out, pattern)| (is_out, pattern.into())).to_vec());
        for (file, expected) in [
            ("/usr/share/doc/lamp/changelog.gz", true),
            ("/usr/share/doc/lamp/copyright", false),
            ("/usr/share/doc/x/copyright", true),
            ("/usr/share/man/lamp", false),
        ] {
            assert_eq!(excluded.has(file.as_bytes()), expected, "{file}");
        }
    }
}
