//! `pacman.conf`: where the database is, which repositories count, what is never upgraded.
//!
//! Sections; keys can repeat and take lists; `Include` stands for the lines of other files, with patterns in their
//! names.

use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};

use crate::model::{Loss, Origin};
use whodunit_shell::syntax::pattern::fits;

const FILE: &[u8] = b"/etc/pacman.conf";

/// The deepest chain of includes that is followed.
const MAX_DEPTH: usize = 10;

/// A repository.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Repository {
    /// The section's name.
    pub name: ByteString,
    /// Its first server.
    pub url: Option<ByteString>,
    /// Whether its servers stand in the distribution's own list of mirrors.
    pub from_mirrors: bool,
    /// The file of its section, and the line, counted from 1.
    pub place: (ByteString, u32),
    /// `SigLevel`, where it has one of its own.
    pub checks: Option<ByteString>,
}

impl Repository {
    /// What was fetched of it, below the directory of the database: `.db` the packages, `.files` with their files.
    pub fn file(&self, database: &[u8], ending: &str) -> ByteString {
        path::join(&path::join(database, b"sync"), &[&*self.name, ending.as_bytes()].concat())
    }
}

/// What is set.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settings {
    /// The directory of databases.
    pub database: ByteString,
    /// In the order in which they are asked.
    pub repositories: Vec<Repository>,
    ignored: Vec<ByteString>,
    ignored_groups: Vec<ByteString>,
    /// Patterns of files that are not unpacked; with `!`, of exceptions.
    left_out: Vec<ByteString>,
    /// `SigLevel` for all.
    pub checks: Option<ByteString>,
}

impl Settings {
    pub fn read(root: &Root, notes: &mut Vec<Loss>) -> Self {
        let mut settings = Settings {
            database: "/var/lib/pacman".into(),
            repositories: Vec::new(),
            ignored: Vec::new(),
            ignored_groups: Vec::new(),
            left_out: Vec::new(),
            checks: None,
        };
        let mut section = ByteString::default();
        settings.file(root, &FILE.into(), &mut section, MAX_DEPTH, notes);
        settings
    }

    fn file(&mut self, root: &Root, file: &ByteString, section: &mut ByteString, deep: usize, notes: &mut Vec<Loss>) {
        let content = match root.read(file, Limit::SMALL) {
            Ok(content) => content,
            Err(error) => {
                if !error.is_missing() {
                    notes.push(Loss::unread(&error, "settings of pacman are unknown"));
                }
                return;
            }
        };
        for (number, line) in (1..).zip(content.split(|&b| b == b'\n').map(<[u8]>::trim_ascii)) {
            let line = line.split(|&b| b == b'#').next().unwrap_or_default().trim_ascii();
            if let Some(name) = line.strip_prefix(b"[").and_then(|rest| rest.strip_suffix(b"]")) {
                *section = name.into();
                let is_new = name != b"options" && self.repositories.iter().all(|one| *one.name != *name);
                if is_new {
                    let place = (file.clone(), number);
                    self.repositories.push(Repository { name: name.into(), place, ..Repository::default() });
                }
                continue;
            }
            let mut parts = line.splitn(2, |&b| b == b'=');
            let key = parts.next().unwrap_or_default().trim_ascii();
            let value = parts.next().unwrap_or_default().trim_ascii();
            if key == b"Include" && deep > 0 {
                if path::name(value) == b"mirrorlist"
                    && let Some(one) = self.repositories.iter_mut().find(|one| one.name == *section)
                {
                    one.from_mirrors = true;
                }
                for included in included(root, value) {
                    self.file(root, &included, section, deep - 1, notes);
                }
            } else if &**section == b"options" {
                self.option(key, value);
            } else if let Some(one) = self.repositories.iter_mut().find(|one| one.name == *section) {
                match key {
                    b"Server" if one.url.is_none() => one.url = Some(address(value, &one.name)),
                    b"SigLevel" => one.checks = Some(value.into()),
                    _ => {}
                }
            }
        }
    }

    fn option(&mut self, key: &[u8], value: &[u8]) {
        let words = || value.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty()).map(ByteString::from);
        match key {
            b"DBPath" if value.starts_with(b"/") => {
                let trimmed = value.strip_suffix(b"/").filter(|rest| !rest.is_empty()).unwrap_or(value);
                self.database = trimmed.into();
            }
            b"IgnorePkg" => self.ignored.extend(words()),
            b"IgnoreGroup" => self.ignored_groups.extend(words()),
            b"NoExtract" => self.left_out.extend(words()),
            b"SigLevel" => self.checks = Some(value.into()),
            _ => {}
        }
    }

    /// Whether upgrades pass a package over.
    pub fn ignores(&self, name: &[u8], groups: &[ByteString]) -> bool {
        self.ignored.iter().any(|pattern| fits(pattern, name))
            || groups.iter().any(|group| self.ignored_groups.iter().any(|pattern| fits(pattern, group)))
    }

    /// Whether a file, without its first slash, is not unpacked: the last pattern that fits decides.
    pub fn leaves_out(&self, file: &[u8]) -> bool {
        let bare = |pattern: &ByteString| ByteString::from(pattern.strip_prefix(b"!").unwrap_or(pattern));
        let last = self.left_out.iter().rfind(|pattern| fits(&bare(pattern), file));
        last.is_some_and(|pattern| !pattern.starts_with(b"!"))
    }

    /// Repositories whose content nobody vouches for.
    pub fn source_notes(&self) -> Vec<String> {
        let is_open = |checks: &ByteString| {
            checks
                .split(u8::is_ascii_whitespace)
                .any(|word| matches!(word, b"Never" | b"TrustAll" | b"PackageTrustAll"))
        };
        let open =
            self.repositories.iter().filter(|one| one.checks.as_ref().or(self.checks.as_ref()).is_some_and(is_open));
        open.map(|one| {
            format!("{}: packages of {} are accepted with any signature or none", ByteString::from(FILE), one.name)
        })
        .collect()
    }

    /// Whether packages of a repository are only taken with a signature (`SigLevel`, whose words override one another
    /// in order); `None` where a signature is checked if there is one.
    pub fn is_checked(&self, name: &[u8]) -> Option<bool> {
        let one = self.repositories.iter().find(|one| *one.name == *name)?;
        let mut state = Some(true);
        let words = [&self.checks, &one.checks].into_iter().flatten();
        for word in words.flat_map(|words| words.split(u8::is_ascii_whitespace)) {
            match word {
                b"Never" | b"PackageNever" => state = Some(false),
                b"Optional" | b"PackageOptional" => state = None,
                b"Required" | b"PackageRequired" => state = Some(true),
                _ => {}
            }
        }
        state
    }

    /// A repository as the origin of a package.
    pub fn origin(&self, name: &ByteString) -> Origin {
        let one = self.repositories.iter().find(|one| one.name == *name);
        let url = one.and_then(|one| one.url.clone());
        let trust = match one {
            Some(one) if one.from_mirrors => "distribution",
            Some(_) if url.as_ref().is_some_and(|url| url.starts_with(b"file:")) => "local",
            _ => "third-party",
        };
        Origin { name: name.clone(), kind: "repository".to_owned(), url, trust: Some(trust.to_owned()) }
    }
}

/// The files that an `Include` names: a pattern in the last part of the path counts.
fn included(root: &Root, value: &[u8]) -> Vec<ByteString> {
    let last = path::name(value);
    if !last.iter().any(|b| b"*?".contains(b)) {
        return vec![value.into()];
    }
    let dir = path::parent(value);
    let names = root.names_in(dir);
    names.iter().filter(|(name, _)| fits(last, name)).map(|(name, _)| path::join(dir, name)).collect()
}

fn address(value: &[u8], repository: &[u8]) -> ByteString {
    bstr::ByteSlice::replace(value, "$repo", repository).into()
}
