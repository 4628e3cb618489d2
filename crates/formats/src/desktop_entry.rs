//! Launchers: the freedesktop *Desktop Entry Specification*, version 1.5, as GLib reads it.
//!
//! Only the group `[Desktop Entry]` is read; groups of actions repeat its keys and must not be taken for
//! it. `Version` is the format's, never the program's.
//!
//! Traps: comments and empty lines may come before the first group, a byte order mark may not; blanks
//! around `=` do not count, a blank at the end of the value does; one line that is neither a comment, a
//! group nor a setting makes the whole file unusable.

use std::collections::BTreeMap;

/// The keys of a launcher.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct DesktopEntry {
    keys: BTreeMap<String, (String, u32)>,
}

/// Why a file is no usable launcher.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unusable {
    /// The line that it fails in, counted from 1.
    pub line: u32,
    /// What is wrong there.
    pub why: String,
}

impl DesktopEntry {
    /// Reads a file.
    ///
    /// # Errors
    /// When the file as a whole cannot be used.
    pub fn parse(content: &[u8]) -> Result<Self, Unusable> {
        let mut entry = DesktopEntry::default();
        let mut group: Option<bool> = None;
        for (line, text) in (1..).zip(content.split(|&b| b == b'\n')) {
            let text = text.strip_suffix(b"\r").unwrap_or(text);
            let start = text.trim_ascii_start();
            if start.is_empty() || start.starts_with(b"#") {
                continue;
            }
            let bad = |why: &str| Unusable { line, why: why.to_owned() };
            if let Some(name) = start.strip_prefix(b"[") {
                let name =
                    name.trim_ascii_end().strip_suffix(b"]").ok_or_else(|| bad("a group without a closing bracket"))?;
                let is_entry = name == b"Desktop Entry";
                if group.is_none() && !is_entry {
                    return Err(bad("the first group is not [Desktop Entry]"));
                }
                group = Some(is_entry);
                continue;
            }
            let in_entry = group.ok_or_else(|| bad("an entry before the first group"))?;
            let Some(at) = memchr::memchr(b'=', text).filter(|&at| at > 0) else {
                return Err(bad("not a comment, a group or an entry"));
            };
            if in_entry {
                let key = String::from_utf8_lossy(text[..at].trim_ascii()).into_owned();
                let value = String::from_utf8_lossy(text[at + 1..].trim_ascii_start()).into_owned();
                entry.keys.insert(key, (value, line));
            }
        }
        match group {
            Some(_) => Ok(entry),
            None => Err(Unusable { line: 1, why: "no [Desktop Entry] group".to_owned() }),
        }
    }

    /// The value of a key as text, its escapes undone.
    #[must_use]
    pub fn text(&self, key: &str) -> Option<String> {
        self.keys.get(key).map(|(value, _)| unescape(value))
    }

    /// Where a key stands, counted from 1.
    #[must_use]
    pub fn line(&self, key: &str) -> u32 {
        self.keys.get(key).map_or(1, |(_, line)| *line)
    }

    /// Whether a key says yes: `true`, and `1` as in old files.
    #[must_use]
    pub fn is_set(&self, key: &str) -> bool {
        self.keys.get(key).is_some_and(|(value, _)| matches!(value.trim_end(), "true" | "1"))
    }

    /// The items of a list; none where the key is not there.
    #[must_use]
    pub fn list(&self, key: &str) -> Option<Vec<String>> {
        let text = self.text(key)?;
        Some(text.split(';').filter(|item| !item.is_empty()).map(str::to_owned).collect())
    }
}

fn unescape(value: &str) -> String {
    let mut text = String::with_capacity(value.len());
    let mut chars = value.chars();
    while let Some(c) = chars.next() {
        if c != '\\' {
            text.push(c);
            continue;
        }
        match chars.next() {
            Some('s') => text.push(' '),
            Some('n') => text.push('\n'),
            Some('t') => text.push('\t'),
            Some('r') => text.push('\r'),
            Some('\\') => text.push('\\'),
            Some(other) => text.extend(['\\', other]),
            None => text.push('\\'),
        }
    }
    text
}

/// Splits a command line into words, with the quoting of a shell and nothing else of it. `None` where a
/// quote is not closed or there is no word.
#[must_use]
pub fn words(command: &str) -> Option<Vec<String>> {
    shlex::split(command).filter(|words| !words.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_are_read_from_their_group_alone() {
        let file = b"# a launcher\n\n[Desktop Entry]\r\nName = Chart Desk \nExec=\"chart desk\" %U\nHidden=1\nOnlyShowIn=Quay;Mole;\nName[de]=Seekarten\\stisch\n[Desktop Action new]\nName=New\nExec=other\n";
        let entry = DesktopEntry::parse(file).unwrap();
        assert_eq!(entry.text("Name").as_deref(), Some("Chart Desk "));
        assert_eq!(entry.text("Name[de]").as_deref(), Some("Seekarten tisch"));
        assert_eq!((entry.text("Exec").as_deref(), entry.line("Exec")), (Some("\"chart desk\" %U"), 5));
        assert!(entry.is_set("Hidden") && !entry.is_set("NoDisplay"));
        assert_eq!(entry.list("OnlyShowIn"), Some(vec!["Quay".to_owned(), "Mole".to_owned()]));
        for (bad, line) in [
            (&b""[..], 1),
            (b"\xef\xbb\xbf[Desktop Entry]\n", 1),
            (b"[Other]\n[Desktop Entry]\n", 1),
            (b"Name=x\n[Desktop Entry]\n", 1),
            (b"[Desktop Entry]\nName=x\njunk\n", 3),
            (b"[Desktop Entry\n", 1),
        ] {
            assert_eq!(DesktopEntry::parse(bad).unwrap_err().line, line, "{bad:?}");
        }
    }

    #[test]
    fn command_lines_are_split_as_quoted() {
        let own = |list: &[&str]| Some(list.iter().map(|&word| word.to_owned()).collect::<Vec<_>>());
        for (command, expected) in [
            ("chartdesk %U", own(&["chartdesk", "%U"])),
            (r#"env A=b "/opt/chart desk/run" --x"#, own(&["env", "A=b", "/opt/chart desk/run", "--x"])),
            (r#""a\"b\$c" 'd "e' f\ g"#, own(&["a\"b$c", "d \"e", "f g"])),
            ("\"\"", own(&[""])),
            ("\"open", None),
            ("'open", None),
            ("   ", None),
            ("", None),
        ] {
            assert_eq!(words(command), expected, "{command}");
        }
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_are_read_without_panic(file: Vec<u8>, command: String) {
            let _ = DesktopEntry::parse(&file);
            let _ = DesktopEntry::parse(&[b"[Desktop Entry]\n", file.as_slice()].concat()).map(|entry| entry.text("Name"));
            let _ = words(&command);
        }
    }
}
