//! Repositories: `*.repo` files of dnf, yum and zypper, in the syntax of `dnf.conf(5)`.

use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::model::Loss;
use whodunit_formats::key_file::KeyFile;
use whodunit_shell::syntax::pattern::fits;

/// Where they are configured.
const DIRS: [&[u8]; 3] = [b"/etc/yum.repos.d", b"/etc/zypp/repos.d", b"/etc/distro.repos.d"];

/// One repository.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Repository {
    /// The name by which records call it.
    pub name: ByteString,
    /// Its address: `baseurl`, else the list of mirrors.
    pub url: Option<ByteString>,
    /// Whether it is used.
    pub enabled: bool,
    /// Its priority: the lower the number, the stronger; a package that a stronger one has is not taken from it.
    pub priority: i32,
    /// Packages that are not taken from it: names with `*` and `?` (`dnf.conf(5)`, `excludepkgs`).
    pub excluded: Vec<ByteString>,
    /// The only ones that are taken from it; all, where there are none (`includepkgs`).
    pub included: Vec<ByteString>,
    /// Whether its packages count whatever modules they belong to (`dnf.conf(5)`, `module_hotfixes`).
    pub ignores_modules: bool,
    /// Whether signatures are checked.
    pub checked: bool,
    /// The keys that are given, as files or addresses.
    pub keys: Vec<ByteString>,
    /// The line of its section, counted from 1.
    pub line: u32,
    /// The file that configures it.
    pub file: ByteString,
}

/// The settings of dnf for all repositories.
pub(super) const MAIN: &[u8] = b"/etc/dnf/dnf.conf";

impl Repository {
    /// Whether a package of this name and architecture is taken from it.
    pub fn gives(&self, name: &[u8], arch: &[u8]) -> bool {
        let dotted = [name, b".", arch].concat();
        let is_named = |list: &[ByteString]| list.iter().any(|one| fits(one, name) || fits(one, &dotted));
        !is_named(&self.excluded) && (self.included.is_empty() || is_named(&self.included))
    }
}

/// A setting of a tool's own file, in the group `main`.
pub(super) fn main_setting(root: &Root, file: &[u8], key: &str) -> Option<String> {
    let content = KeyFile::parse(&root.read(file, Limit::SMALL).ok()?);
    content.get("main", key).map(|value| value.trim().to_owned())
}

/// Every repository, in the order of the files' names, and what could not be read.
pub fn read(root: &Root, notes: &mut Vec<Loss>) -> Vec<Repository> {
    let mut found: Vec<Repository> = Vec::new();
    for dir in DIRS {
        let names = root.names_in(dir);
        for (name, _) in names.iter().filter(|(name, kind)| name.ends_with(b".repo") && *kind != Kind::Dir) {
            let file = path::join(dir, name);
            match root.read(&file, Limit::SMALL) {
                Ok(content) => found.extend(in_file(&file, &KeyFile::parse(&content))),
                Err(error) => notes.push(Loss::unread(&error, "repositories are unknown")),
            }
        }
    }
    match root.read(MAIN, Limit::SMALL) {
        Ok(content) => {
            let everywhere = KeyFile::parse(&content);
            let lists = ["excludepkgs", "exclude"].map(|key| everywhere.get("main", key).unwrap_or_default());
            let excluded = || lists.iter().flat_map(|list| words(list));
            found.iter_mut().for_each(|one| one.excluded.extend(excluded()));
        }
        Err(error) if error.is_missing() => {}
        Err(error) => notes.push(Loss::unread(&error, "what dnf takes from no repository is unknown")),
    }
    found
}

/// A list, as it is written: with commas or blanks.
fn words(list: &str) -> impl Iterator<Item = ByteString> {
    list.split([',', ' ', '\n']).filter(|part| !part.is_empty()).map(ByteString::from)
}

fn in_file(file: &ByteString, content: &KeyFile) -> Vec<Repository> {
    let is_on = |value: Option<&str>, usual: bool| match value.map(str::to_ascii_lowercase).as_deref() {
        Some("0" | "no" | "false" | "off") => false,
        Some("1" | "yes" | "true" | "on") => true,
        _ => usual,
    };
    let groups = content.groups().filter(|group| *group != "main");
    let repositories = groups.map(|group| {
        let first = |key: &str| {
            let value = content.get(group, key)?;
            value.split([',', ' ']).find(|part| !part.is_empty()).map(ByteString::from)
        };
        let list = |key: &str| words(content.get(group, key).unwrap_or_default()).collect::<Vec<_>>();
        Repository {
            excluded: [list("excludepkgs"), list("exclude")].concat(),
            included: list("includepkgs"),
            name: group.into(),
            url: first("baseurl").or_else(|| first("metalink")).or_else(|| first("mirrorlist")),
            enabled: is_on(content.get(group, "enabled"), true),
            priority: content.get(group, "priority").and_then(|text| text.trim().parse().ok()).unwrap_or(99),
            ignores_modules: is_on(content.get(group, "module_hotfixes"), false),
            checked: is_on(content.get(group, "gpgcheck"), true),
            keys: list("gpgkey"),
            line: content.line(group).unwrap_or(1),
            file: file.clone(),
        }
    });
    repositories.collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    #[expect(clippy::disallowed_methods, reason = "builds the tree that it looks at")]
    fn settings_for_all_repositories_that_cannot_be_read_are_a_loss() {
        let tree = tempfile::tempdir().unwrap();
        let main = tree.path().join("etc/dnf/dnf.conf");
        let repository = tree.path().join("etc/yum.repos.d/quay.repo");
        std::fs::create_dir_all(main.parent().unwrap()).unwrap();
        std::fs::create_dir_all(repository.parent().unwrap()).unwrap();
        std::fs::write(repository, "[quay]\nbaseurl=https://quay.example\n").unwrap();
        let read_now = || {
            let mut notes = Vec::new();
            let found = read(&Root::offline(tree.path()).unwrap(), &mut notes);
            (found[0].excluded.clone(), notes.len())
        };
        assert_eq!(read_now(), (vec![], 0));
        std::fs::write(&main, "[main]\nexcludepkgs=tide*, lamp\n").unwrap();
        assert_eq!(read_now(), (vec!["tide*".into(), "lamp".into()], 0));
        std::fs::remove_file(&main).unwrap();
        std::fs::create_dir(&main).unwrap();
        assert_eq!(read_now(), (vec![], 1));
    }
}
