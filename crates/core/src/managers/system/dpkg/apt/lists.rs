//! Files in `/var/lib/apt/lists`, whatever they are compressed with: read a window at a time, for they are large.

use std::io::Read as _;

use whodunit_formats::packed;

/// Where lists are kept.
pub const DIR: &[u8] = b"/var/lib/apt/lists";

/// As much of one list is looked at.
const MAX_UNPACKED: u64 = 1 << 30;

/// Hands every stanza of a list to `take`, a window at a time, for lists are large; and says what was wrong with it.
pub fn each_stanza(bytes: &[u8], take: &mut dyn FnMut(&[u8])) -> Option<String> {
    each_part(bytes, b"\n\n", take)
}

/// The same for lines.
pub fn each_line(bytes: &[u8], take: &mut dyn FnMut(&[u8])) -> Option<String> {
    each_part(bytes, b"\n", take)
}

/// Hands every part that ends in `end` to `take`.
fn each_part(bytes: &[u8], end: &[u8], take: &mut dyn FnMut(&[u8])) -> Option<String> {
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
