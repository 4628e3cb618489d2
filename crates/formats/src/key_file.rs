//! Key files: groups of `key=value` lines, as GLib reads them (*GLib Reference Manual*, "Key-value file parser").
//!
//! Used for settings of sandboxed formats and of repositories. Lines that fit no rule are skipped.

use std::collections::BTreeMap;

/// The groups of a file, each with its keys.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct KeyFile(BTreeMap<String, Group>);

/// One group.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
struct Group {
    /// The line of its name, counted from 1.
    line: u32,
    keys: BTreeMap<String, String>,
}

impl KeyFile {
    /// Reads a file.
    #[must_use]
    pub fn parse(content: &[u8]) -> Self {
        let mut file = KeyFile::default();
        let mut group: Option<String> = None;
        for (number, line) in (1..).zip(String::from_utf8_lossy(content).lines()) {
            let start = line.trim();
            if let Some(name) = start.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
                let new = Group { line: number, ..Group::default() };
                file.0.entry(name.to_owned()).or_insert(new);
                group = Some(name.to_owned());
            } else if let Some(group) = group.as_ref().filter(|_| !start.starts_with('#'))
                && let Some((key, value)) = start.split_once('=')
            {
                let of_group = file.0.entry(group.clone()).or_default();
                of_group.keys.insert(key.trim_end().to_owned(), value.trim_start().to_owned());
            }
        }
        file
    }

    /// The value of a key.
    #[must_use]
    pub fn get(&self, group: &str, key: &str) -> Option<&str> {
        self.0.get(group)?.keys.get(key).map(String::as_str)
    }

    /// The items of a list; none where the key is not there.
    #[must_use]
    pub fn list(&self, group: &str, key: &str) -> Vec<&str> {
        self.get(group, key).map_or(Vec::new(), |list| list.split(';').filter(|item| !item.is_empty()).collect())
    }

    /// The names of a group's keys, in order.
    pub fn keys(&self, group: &str) -> impl Iterator<Item = &str> {
        self.0.get(group).into_iter().flat_map(|group| group.keys.keys().map(String::as_str))
    }

    /// Whether there is such a group.
    #[must_use]
    pub fn has(&self, group: &str) -> bool {
        self.0.contains_key(group)
    }

    /// The line on which a group begins, counted from 1.
    #[must_use]
    pub fn line(&self, group: &str) -> Option<u32> {
        self.0.get(group).map(|group| group.line)
    }

    /// The names of the groups.
    pub fn groups(&self) -> impl Iterator<Item = &str> {
        self.0.keys().map(String::as_str)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn groups_and_lists_are_read_and_junk_passed_over() {
        let file = KeyFile::parse(
            b"lost=1\n[core]\n# no\nxa.pinned=a;b;;\njunk\n[remote \"quay\"]\nurl = https://quay.example \n\xff=\n",
        );
        assert_eq!(file.list("core", "xa.pinned"), ["a", "b"]);
        assert_eq!(file.get("remote \"quay\"", "url"), Some("https://quay.example"));
        assert_eq!((file.groups().count(), file.line("core")), (2, Some(2)));
        assert!(file.has("core") && !file.has("lost") && file.list("core", "none").is_empty());
    }
}
