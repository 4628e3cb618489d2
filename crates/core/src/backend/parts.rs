//! Catalogues that are a row of lines, stanzas or documents, whatever they are compressed with: read a window at a time,
//! for they are large.

use std::io::{BufRead, Read as _};

use whodunit_formats::packed;

/// As much of one list is looked at.
const MAX_UNPACKED: u64 = 1 << 30;

/// Hands every stanza of a list to `take`, a window at a time, for lists are large; and says what was wrong with it.
pub(crate) fn each_stanza(bytes: impl BufRead, take: &mut dyn FnMut(&[u8])) -> Option<String> {
    each_part(bytes, b"\n\n", take)
}

/// The same for lines.
pub(crate) fn each_line(bytes: impl BufRead, take: &mut dyn FnMut(&[u8])) -> Option<String> {
    each_part(bytes, b"\n", take)
}

/// Hands every part that ends in `end` to `take`.
pub(crate) fn each_part(bytes: impl BufRead, end: &[u8], take: &mut dyn FnMut(&[u8])) -> Option<String> {
    let find = memchr::memmem::Finder::new(end);
    const WINDOW: usize = 256 << 10;
    const LARGEST: usize = 16 << 20;
    let mut stream = match packed::open(bytes) {
        Ok(stream) => stream.take(MAX_UNPACKED),
        Err(error) => return Some(error.to_string()),
    };
    let mut window = vec![0; WINDOW];
    let (mut filled, mut last) = (0, b'\n');
    loop {
        let read = match stream.read(&mut window[filled..]) {
            Ok(read) => read,
            Err(error) => return Some(error.to_string()),
        };
        filled += read;
        let mut rest = &window[..filled];
        loop {
            let empty = rest.iter().position(|&b| b != b'\n').unwrap_or(rest.len());
            rest = &rest[empty..];
            let Some(at) = find.find(rest) else { break };
            take(&rest[..at + end.len()]);
            rest = &rest[at + end.len()..];
        }
        if read == 0 {
            if !rest.is_empty() {
                take(rest);
            }
            let is_full = stream.limit() == 0;
            return (last != b'\n' || is_full).then(|| "cut off".to_owned());
        }
        last = window[filled - 1];
        let kept = rest.len();
        window.copy_within(filled - kept..filled, 0);
        filled = kept;
        if filled == window.len() {
            if filled >= LARGEST {
                return Some("no list of packages".to_owned());
            }
            window.resize(filled * 2, 0);
        }
    }
}

/// Whether lines with these texts, which end in a line feed, are in a list. What follows the last of them is not looked
/// at, and neither is what follows damage.
pub(crate) fn lines_in(bytes: impl BufRead, lines: &[Vec<u8>]) -> Vec<bool> {
    const WINDOW: usize = 256 << 10;
    let finders: Vec<memchr::memmem::Finder<'_>> = lines.iter().map(memchr::memmem::Finder::new).collect();
    let longest = lines.iter().map(Vec::len).max().unwrap_or(0) + 1;
    let mut found = vec![false; lines.len()];
    let Ok(stream) = packed::open(bytes) else { return found };
    let mut stream = stream.take(MAX_UNPACKED);
    // Before the first line there is the end of another.
    let mut window = vec![0; WINDOW + longest];
    window[0] = b'\n';
    let mut filled = 1;
    while found.iter().any(|found| !found) {
        let read = match stream.read(&mut window[filled..]) {
            Ok(0) | Err(_) => break,
            Ok(read) => read,
        };
        filled += read;
        let text = &window[..filled];
        for (finder, found) in finders.iter().zip(&mut found).filter(|(_, found)| !**found) {
            *found = finder.find_iter(text).any(|at| at > 0 && text[at - 1] == b'\n');
        }
        let kept = filled.min(longest);
        window.copy_within(filled - kept..filled, 0);
        filled = kept;
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_found_wherever_windows_end() {
        let mut list = b"Package: a\n".to_vec();
        list.extend(b"Filler: x\n".repeat(60_000));
        list.extend(b"Package: quay\nNo-Package: pier\n");
        let lines = ["a", "quay", "pier", "qua"].map(|name| format!("Package: {name}\n").into_bytes());
        assert_eq!(lines_in(&list[..], &lines), [true, true, false, false]);
    }
}
