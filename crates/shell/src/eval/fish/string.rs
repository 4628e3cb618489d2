//! `string` of fish.

use super::{Fish, only_stars};
use crate::eval::piece::is_known;
use crate::eval::regular;
use crate::syntax::pattern;

/// Options of one letter and their long names.
const OPTIONS: [(u8, &[u8]); 7] = [
    (b'q', b"--quiet"),
    (b'v', b"--invert"),
    (b'r', b"--regex"),
    (b'i', b"--ignore-case"),
    (b'a', b"--all"),
    (b'e', b"--entire"),
    (b'f', b"--filter"),
];

impl Fish<'_> {
    pub(super) fn string(&mut self, arguments: &[Vec<u8>]) {
        let Some((verb, arguments)) = arguments.split_first() else { return };
        let mut options = Vec::new();
        // Options may stand behind the texts, up to `--`.
        let end = arguments.iter().position(|word| word == b"--").unwrap_or(arguments.len());
        let (maybe, after) = arguments.split_at(end);
        let (words, mut rest): (Vec<_>, Vec<_>) =
            maybe.iter().cloned().partition(|word| word.len() > 1 && word.starts_with(b"-"));
        rest.extend(after.iter().skip(1).cloned());
        let of_itself = match &verb[..] {
            b"match" | b"split" | b"join" | b"split0" | b"join0" => 1,
            b"replace" => 2,
            _ => 0,
        };
        if rest.len() == of_itself {
            rest.extend(self.lines_of_input().unwrap_or_default());
        }
        if verb == b"match" {
            self.named_groups(rest.first().map_or(&b""[..], Vec::as_slice));
        }
        for word in &words {
            match OPTIONS.iter().find(|(_, long)| word == long) {
                Some((letter, _)) => options.push(*letter),
                None => options.extend_from_slice(&word[1..]),
            }
        }
        let is_done = rest.iter().all(|word| is_known(word)) && self.done(verb, &options, &rest);
        if !is_done {
            self.run.status = None;
            let unknown = self.unknown_value("the output of `string`");
            if !options.contains(&b'q') {
                self.write(unknown);
            }
        }
    }

    /// Notes that `(?<name>…)` sets a variable.
    fn named_groups(&mut self, wanted: &[u8]) {
        for at in memchr::memmem::find_iter(wanted, b"(?") {
            let name = wanted[at + 2..].strip_prefix(b"P").unwrap_or(&wanted[at + 2..]);
            let Some(name) = name.strip_prefix(b"<").and_then(|rest| rest.split(|&b| b == b'>').next()) else {
                continue;
            };
            if crate::syntax::is_name(name) {
                let unknown = self.unknown_value("a group of an expression");
                self.assign(name, vec![unknown], false, None);
            }
        }
    }

    /// Does what can be done; `false` where it cannot be followed.
    fn done(&mut self, verb: &[u8], options: &[u8], rest: &[Vec<u8>]) -> bool {
        let has = |letter: u8| options.contains(&letter);
        let only = |letters: &[u8]| options.iter().all(|letter| letters.contains(letter));
        match (verb, rest) {
            (b"match", [wanted, texts @ ..]) if only(b"qvrie") => {
                let mut lines = Vec::new();
                // The whole of what a pattern fits anywhere.
                let anywhere = [b"*", &wanted[..], b"*"].concat();
                let wanted = if has(b'e') && !has(b'r') { &anywhere } else { wanted };
                for text in texts {
                    let Some(found) = found(wanted, text, has(b'r'), has(b'i')) else { return false };
                    match found {
                        None if has(b'v') => lines.push(text.clone()),
                        Some(_) if has(b'v') => {}
                        Some(_) if has(b'e') => lines.push(text.clone()),
                        Some(parts) => lines.extend(parts),
                        None => {}
                    }
                }
                self.told(lines, has(b'q'))
            }
            (b"replace", [from, to, texts @ ..]) if only(b"qaf") => {
                let mut lines = Vec::new();
                let mut is_changed = false;
                for text in texts {
                    let changed = replaced(text, from, to, has(b'a'));
                    is_changed |= changed != *text;
                    if changed != *text || !has(b'f') {
                        lines.push(changed);
                    }
                }
                self.told(lines, has(b'q'));
                self.run.status = Some(u8::from(!is_changed));
                true
            }
            (b"split", [separator, texts @ ..]) if options.is_empty() && !separator.is_empty() => {
                let mut lines = Vec::new();
                for text in texts {
                    let mut at = 0;
                    while let Some(next) = memchr::memmem::find(&text[at..], separator) {
                        lines.push(text[at..at + next].to_vec());
                        at += next + separator.len();
                    }
                    lines.push(text[at..].to_vec());
                }
                let is_split = lines.len() > texts.len();
                self.told(lines, false);
                self.run.status = Some(u8::from(!is_split));
                true
            }
            (b"join", [separator, texts @ ..]) if only(b"q") => {
                let line = texts.join(&separator[..]);
                self.told(if texts.is_empty() { Vec::new() } else { vec![line] }, has(b'q'));
                self.run.status = Some(u8::from(texts.len() < 2));
                true
            }
            (b"lower" | b"upper", texts) if options.is_empty() => {
                let change = |text: &Vec<u8>| match verb {
                    b"lower" => text.to_ascii_lowercase(),
                    _ => text.to_ascii_uppercase(),
                };
                let is_changed = texts.iter().any(|text| change(text) != *text);
                self.told(texts.iter().map(change).collect(), false);
                self.run.status = Some(u8::from(!is_changed));
                true
            }
            (b"trim", texts) if options.is_empty() => {
                let is_changed = texts.iter().any(|text| text.trim_ascii() != &text[..]);
                self.told(texts.iter().map(|text| text.trim_ascii().to_vec()).collect(), false);
                self.run.status = Some(u8::from(!is_changed));
                true
            }
            _ => false,
        }
    }

    fn told(&mut self, lines: Vec<Vec<u8>>, is_quiet: bool) -> bool {
        self.run.status = Some(u8::from(lines.is_empty()));
        if !is_quiet {
            lines.into_iter().for_each(|line| self.write(line));
        }
        true
    }
}

/// The parts of a text that fit; `None` within: it does not; `None` outside: that cannot be told here.
fn found(wanted: &[u8], text: &[u8], is_regular: bool, ignores_case: bool) -> Option<Option<Vec<Vec<u8>>>> {
    if !is_regular {
        let (wanted, folded) = match ignores_case {
            true => (wanted.to_ascii_lowercase(), text.to_ascii_lowercase()),
            false => (wanted.to_vec(), text.to_vec()),
        };
        return Some(pattern::fits(&only_stars(&wanted), &folded).then(|| vec![text.to_vec()]));
    }
    // What only a larger language of expressions has.
    let is_more = wanted.windows(2).any(|two| matches!(two, b"(?" | b"*?" | b"+?" | b"??" | b"[["));
    match regular::matched(wanted, text, ignores_case) {
        _ if is_more => None,
        Ok(None) => Some(None),
        Ok(Some(Some(parts))) => Some(Some(parts)),
        // What fits may be another part than the first.
        Ok(Some(None)) | Err(()) => None,
    }
}

fn replaced(text: &[u8], from: &[u8], to: &[u8], all: bool) -> Vec<u8> {
    let mut result = Vec::new();
    let mut at = 0;
    while let Some(next) = memchr::memmem::find(&text[at..], from).filter(|_| !from.is_empty()) {
        result.extend_from_slice(&text[at..at + next]);
        result.extend_from_slice(to);
        at += next + from.len();
        if !all {
            break;
        }
    }
    result.extend_from_slice(&text[at..]);
    result
}
