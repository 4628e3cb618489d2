//! Flags and modifiers of zsh: `${(f)name}`, `${name:A:h}`.

use super::edits::{modified, replaced};
use super::piece::is_known;
use super::run::Run;
use crate::Files;
use crate::syntax::pattern;

/// The text between two marks: any byte and the same again, or a bracket and its partner.
fn between_marks(flags: &[u8]) -> Option<&[u8]> {
    let (&mark, rest) = flags.split_first()?;
    let partner = match mark {
        b'(' => b')',
        b'[' => b']',
        b'{' => b'}',
        b'<' => b'>',
        other => other,
    };
    rest.iter().position(|&b| b == partner).map(|end| &rest[..end])
}

impl Run<'_> {
    /// What flags of zsh do.
    pub(super) fn flagged(&mut self, values: Vec<Vec<u8>>, flags: &[u8]) -> Vec<Vec<u8>> {
        // They count in an order of their own: what joins and splits before what sorts.
        let early = |flag: u8| b"pfFsjP@=".contains(&flag);
        let values = self.flagged_by(values, flags, &early);
        self.flagged_by(values, flags, &|flag| !early(flag))
    }

    /// What those flags do that are asked for, in the order in which they stand.
    fn flagged_by(&mut self, mut values: Vec<Vec<u8>>, flags: &[u8], counts: &dyn Fn(u8) -> bool) -> Vec<Vec<u8>> {
        let (mut at, mut unescapes) = (0, false);
        while at < flags.len() {
            match flags[at] {
                b'p' => unescapes = true,
                flag @ (b's' | b'j') if !counts(flag) => {
                    at += 2 + between_marks(&flags[at + 1..]).map_or(0, <[u8]>::len);
                }
                flag if !counts(flag) => {}
                b'f' => {
                    values = values.iter().flat_map(|value| value.split(|&b| b == b'\n')).map(<[u8]>::to_vec).collect();
                }
                b'F' => values = vec![values.join(&b'\n')],
                b's' | b'j' => {
                    let Some(text) = between_marks(&flags[at + 1..]) else {
                        return vec![self.unknown_value("a flag that zsh rejects")];
                    };
                    let end = at + 2 + text.len();
                    let text = &if unescapes { super::printf::unescaped(text) } else { text.to_vec() }[..];
                    if flags[at] == b'j' {
                        values = vec![values.join(text)];
                    } else if let [byte] = text {
                        let cut = values.iter().flat_map(|value| value.split(|b| b == byte));
                        values = cut.map(<[u8]>::to_vec).collect();
                    }
                    at = end;
                }
                b'u' => {
                    let mut seen = std::collections::BTreeSet::new();
                    values.retain(|value| seen.insert(value.clone()));
                }
                b'U' => values.iter_mut().for_each(|value| value.make_ascii_uppercase()),
                b'L' => values.iter_mut().for_each(|value| value.make_ascii_lowercase()),
                b'o' | b'O' if values.iter().any(|value| !is_known(value)) => {
                    return vec![self.unknown_value("the order of what is unknown")];
                }
                b'o' | b'O' if flags.get(at + 1) == Some(&b'a') => {
                    if flags[at] == b'O' {
                        values.reverse();
                    }
                    at += 1;
                }
                b'o' => values.sort(),
                b'O' => values.sort_by(|a, b| b.cmp(a)),
                b'%' => self.prompted(&mut values),
                b'q' if values.iter().flatten().any(|b| !b.is_ascii_alphanumeric() && !b"/._-+:".contains(b)) => {
                    return vec![self.unknown_value("a text with its quotes")];
                }
                b'P' => {
                    let name = values.first().cloned().unwrap_or_default();
                    if !is_known(&name) || !crate::syntax::is_name(&name) {
                        return vec![self.any_number("a variable whose name is unknown")];
                    }
                    let text = self.text_of(&name).map(|text| vec![text]);
                    values = self.list_of(&name).or(text).unwrap_or_default();
                    self.reads(&name);
                }
                // Taken as a pattern, and as a home directory.
                b'~' if values.iter().flatten().any(|b| b"*?[(|~=<".contains(b)) => {
                    return vec![self.any_number("a value that is taken as a pattern")];
                }
                b'Q' if values.iter().flatten().any(|b| b"'\"\\".contains(b)) => {
                    return vec![self.unknown_value("a text without its quotes")];
                }
                b'@' | b'=' | b'^' | b'~' | b'A' | b'q' | b'Q' | b'M' | b'k' | b'v' => {}
                _ => return vec![self.unknown_value("a flag of a variable that is unknown here")],
            }
            at += 1;
        }
        values
    }

    /// `(%)`: what a prompt would show.
    fn prompted(&mut self, values: &mut [Vec<u8>]) {
        let file = self.place.file.to_vec();
        let name = self.at.name.clone();
        for value in values {
            match &value[..] {
                b"%x" => *value = file.clone(),
                b"%N" => *value = name.clone(),
                text if !text.contains(&b'%') => {}
                _ => *value = self.unknown_value("what a prompt shows"),
            }
        }
    }

    /// A value after modifiers of zsh, one after another: `A:h`.
    pub(super) fn modified_by(&self, value: &[u8], modifiers: &[u8]) -> Option<Vec<u8>> {
        let mut value = Some(value.to_vec()).filter(|value| is_known(value))?;
        let (all, rest) = modifiers.strip_prefix(b"g").map_or((false, modifiers), |rest| (true, rest));
        if let [b's', separator, rest @ ..] = rest {
            let mut parts = rest.split(|b| b == separator);
            let (from, to, end) = (parts.next()?, parts.next()?, parts.next().unwrap_or_default());
            let is_plain = end.is_empty() && parts.next().is_none() && !from.is_empty();
            return is_plain.then(|| replaced(&value, if all { b"//" } else { b"/" }, &pattern::escaped(from), to));
        }
        for modifier in modifiers.split(|&b| b == b':') {
            value = match modifier {
                b"a" | b"A" | b"P" if value.is_empty() => value,
                b"a" => self.absolute(&value),
                b"A" | b"P" => self.seen().canonicalize(&self.absolute(&value)).to_vec(),
                b"c" => self.which(&value).unwrap_or(value),
                other => modified(&value, other)?,
            };
        }
        Some(value)
    }
}
