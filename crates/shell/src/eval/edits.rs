//! Cuts, replacements, modifiers and slices of single texts.

use crate::syntax::pattern;

/// Longer values are not searched for patterns.
pub(super) const MAX_CUT: usize = 8 << 10;

pub(super) fn cut_off(value: &[u8], operator: &[u8], cut: &[u8]) -> Vec<u8> {
    let ends: Box<dyn Iterator<Item = usize>> = match operator {
        b"#" | b"%%" => Box::new(0..=value.len()),
        _ => Box::new((0..=value.len()).rev()),
    };
    let is_front = operator[0] == b'#';
    for at in ends {
        let (front, back) = value.split_at(at);
        if is_front && pattern::fits(cut, front) {
            return back.to_vec();
        }
        if !is_front && pattern::fits(cut, back) {
            return front.to_vec();
        }
    }
    value.to_vec()
}

pub(super) fn replaced(value: &[u8], operator: &[u8], from: &[u8], to: &[u8]) -> Vec<u8> {
    // Where nothing is looked for, it is found at the end that is asked for.
    match operator {
        b"/#" if from.is_empty() => return [to, value].concat(),
        b"/%" if from.is_empty() => return [value, to].concat(),
        _ => {}
    }
    let mut result = Vec::new();
    let mut at = 0;
    while at < value.len() {
        let mut ends = (at + 1..=value.len()).rev();
        let is_allowed = |end: usize| match operator {
            b"/#" => at == 0,
            b"/%" => end == value.len(),
            _ => true,
        };
        match ends.find(|&end| is_allowed(end) && pattern::fits(from, &value[at..end])) {
            Some(end) => {
                result.extend_from_slice(to);
                at = end;
                if operator != b"//" {
                    break;
                }
            }
            None => {
                result.push(value[at]);
                at += 1;
            }
        }
    }
    result.extend_from_slice(&value[at..]);
    result
}

/// `:h`, `:t` and the like of zsh; none for one that is not known here.
pub(super) fn modified(value: &[u8], letters: &[u8]) -> Option<Vec<u8>> {
    use whodunit_formats::bytes::path;
    let dot = || memchr::memrchr(b'.', value).filter(|at| memchr::memchr(b'/', &value[*at..]).is_none());
    Some(match letters {
        b"h" => match path::parent(trimmed(value)) {
            b"" if value.starts_with(b"/") => b"/".to_vec(),
            b"" => b".".to_vec(),
            dir => match trimmed(dir) {
                b"" => b"/".to_vec(),
                dir => dir.to_vec(),
            },
        },
        b"t" => path::name(trimmed(value)).to_vec(),
        b"r" => dot().map_or(value, |at| &value[..at]).to_vec(),
        b"e" => dot().map_or(&[][..], |at| &value[at + 1..]).to_vec(),
        b"l" => value.to_ascii_lowercase(),
        b"u" => value.to_ascii_uppercase(),
        _ => return None,
    })
}

/// A path without slashes at its end.
pub(super) fn trimmed(path: &[u8]) -> &[u8] {
    let end = path.iter().rposition(|&b| b != b'/').map_or(0, |at| at + 1);
    &path[..end]
}

pub(super) fn slice(length: usize, from: i64, count: Option<i64>) -> std::ops::Range<usize> {
    let all = i64::try_from(length).unwrap_or(i64::MAX);
    let start = if from < 0 { (all + from).max(0) } else { from.min(all) };
    let end = match count {
        None => all,
        Some(count) if count < 0 => (all + count).max(start),
        Some(count) => start.saturating_add(count).min(all),
    };
    usize::try_from(start).unwrap_or(0)..usize::try_from(end).unwrap_or(0)
}
