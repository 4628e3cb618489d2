//! `apt.conf(5)`: names with `::` between their parts, and values.
//!
//! Traps: a name may be written in parts, with braces (`APT { NeverAutoRemove { "x"; }; };`); names are compared without
//! regard to case; a later file overrides single values and adds to lists; `#clear NAME;` takes back what was set.

use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::model::Loss;

/// Every value that is set, in the order in which apt reads them.
#[derive(Debug, Default)]
pub struct Settings(Vec<(String, String)>);

impl Settings {
    /// The value that holds: the last one.
    pub fn last(&self, name: &str) -> Option<&str> {
        self.0.iter().rev().find(|(known, _)| known.eq_ignore_ascii_case(name)).map(|(_, value)| &**value)
    }

    /// A value that is true or false (`StringToBool`).
    pub fn is_set(&self, name: &str, otherwise: bool) -> bool {
        match self.last(name).map(str::to_ascii_lowercase).as_deref() {
            Some("0" | "no" | "false" | "without" | "off" | "disable") => false,
            Some("1" | "yes" | "true" | "with" | "on" | "enable") => true,
            _ => otherwise,
        }
    }

    /// The elements of a list.
    pub fn list<'s>(&'s self, name: &'s str) -> impl Iterator<Item = &'s str> {
        self.0
            .iter()
            .filter(move |(known, value)| is_below(known, name) && !value.is_empty())
            .map(|(_, value)| &**value)
    }
}

/// Whether a name is this one, or of a part of it.
fn is_below(known: &str, name: &str) -> bool {
    known.get(..name.len()).is_some_and(|start| start.eq_ignore_ascii_case(name))
        && known.get(name.len()..).is_some_and(|rest| rest.is_empty() || rest.starts_with("::"))
}

/// Reads `apt.conf.d` and `apt.conf`; `lost` says what is unknown where one of them cannot be read.
pub fn read(root: &Root, lost: &str, notes: &mut Vec<Loss>) -> Settings {
    let dir = b"/etc/apt/apt.conf.d";
    let names = root.names_in(dir);
    let counts = |name: &[u8]| !name.contains(&b'.') || name.ends_with(b".conf");
    let of_dir = names.iter().filter(|(name, kind)| *kind != Kind::Dir && counts(name));
    let mut files: Vec<ByteString> = of_dir.map(|(name, _)| path::join(dir, name)).collect();
    files.sort();
    files.push("/etc/apt/apt.conf".into());
    let mut settings = Settings::default();
    for file in files {
        match root.read(&file, Limit::SMALL) {
            Ok(content) => take(&String::from_utf8_lossy(&content), &mut settings),
            Err(error) if error.is_missing() => {}
            Err(error) => notes.push(Loss::unread(&error, lost)),
        }
    }
    settings
}

/// Takes in what one file says.
fn take(text: &str, settings: &mut Settings) {
    let mut within: Vec<String> = Vec::new();
    let mut words: Vec<String> = Vec::new();
    let mut rest = text;
    while let Some(first) = rest.chars().next() {
        let after = &rest[first.len_utf8()..];
        rest = match first {
            _ if first.is_whitespace() => after,
            '/' if after.starts_with('/') => line_end(rest),
            '/' if after.starts_with('*') => after.split_once("*/").map_or("", |(_, rest)| rest),
            '#' if !after.starts_with("clear") => line_end(rest),
            '"' => {
                let (value, rest) = after.split_once('"').unwrap_or((after, ""));
                words.push(value.to_owned());
                rest
            }
            '{' => {
                within.push(words.drain(..).next().unwrap_or_default());
                after
            }
            '}' => {
                within.pop();
                words.clear();
                after
            }
            ';' => {
                statement(&within, &std::mem::take(&mut words), settings);
                after
            }
            _ => {
                let end = rest.find(|c: char| c.is_whitespace() || matches!(c, ';' | '{' | '}' | '"'));
                let (word, rest) = rest.split_at(end.unwrap_or(rest.len()));
                words.push(word.to_owned());
                rest
            }
        };
    }
}

fn statement(within: &[String], words: &[String], settings: &mut Settings) {
    let named = |name: &str| {
        let parts = within.iter().map(String::as_str).chain([name]);
        parts.filter(|part| !part.is_empty()).collect::<Vec<_>>().join("::")
    };
    match words {
        [clear, name] if clear == "#clear" => {
            let name = named(name);
            settings.0.retain(|(known, _)| !is_below(known, &name));
        }
        [value] => settings.0.push((named(""), value.clone())),
        [name, value, ..] => settings.0.push((named(name.trim_end_matches("::")), value.clone())),
        [] => {}
    }
}

fn line_end(text: &str) -> &str {
    text.split_once('\n').map_or("", |(_, rest)| rest)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_may_be_written_in_parts() {
        let mut settings = Settings::default();
        take(
            "// first\nAPT { NeverAutoRemove { \"^quay\"; /* no */ \"^mole$\"; };\n AutoRemove { SuggestsImportant false; }; };\n",
            &mut settings,
        );
        take(
            "# later\napt::neverautoremove:: \"^pier\";\nAPT::Default-Release \"bookworm\"; APT::Default-Release \"sid\";",
            &mut settings,
        );
        assert_eq!(settings.list("APT::NeverAutoRemove").collect::<Vec<_>>(), ["^quay", "^mole$", "^pier"]);
        assert_eq!(settings.last("APT::Default-Release"), Some("sid"));
        assert!(!settings.is_set("APT::AutoRemove::SuggestsImportant", true));
        assert!(settings.is_set("APT::AutoRemove::RecommendsImportant", true));
        take("#clear APT::NeverAutoRemove; APT::NeverAutoRemove { \"^buoy\" ; ", &mut settings);
        assert_eq!(settings.list("APT::NeverAutoRemove").collect::<Vec<_>>(), ["^buoy"]);
        take("\"unclosed } } ; #clear", &mut settings);
    }
}
