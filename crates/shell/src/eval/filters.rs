//! Programs that start-up files pipe lists of directories through, in the forms that are used there.

/// What a program makes of its input; `None` for a form that is not followed.
pub(super) fn filtered(program: &[u8], words: &[&[u8]], text: &[u8]) -> Option<Vec<u8>> {
    match (program, words) {
        (b"tr", [b"-d", set]) => {
            let set = set_of(set)?;
            Some(text.iter().copied().filter(|b| !set.contains(b)).collect())
        }
        (b"tr", [from, to]) if !from.starts_with(b"-") => {
            let (from, to) = (set_of(from)?, set_of(to)?);
            let last = *to.last()?;
            let swap = |byte: &u8| match from.iter().position(|b| b == byte) {
                Some(at) => to.get(at).copied().unwrap_or(last),
                None => *byte,
            };
            Some(text.iter().map(swap).collect())
        }
        (b"sed", [script] | [b"-e", script]) => substituted(script, text),
        (b"head", [b"-1"] | [b"-n1"] | [b"-n", b"1"]) => {
            let end = memchr::memchr(b'\n', text).map_or(text.len(), |end| end + 1);
            Some(text[..end].to_vec())
        }
        (b"paste", [b"-sd:"] | [b"-sd", b":"] | [b"-s", b"-d:"] | [b"-sd:", b"-"] | [b"-sd", b":", b"-"]) => {
            let lines = text.strip_suffix(b"\n").unwrap_or(text);
            let joined: Vec<u8> = lines.iter().map(|b| if *b == b'\n' { b':' } else { *b }).collect();
            Some([&joined[..], b"\n"].concat())
        }
        (b"uniq", []) => {
            let mut lines: Vec<&[u8]> = text.split_inclusive(|&b| b == b'\n').collect();
            lines.dedup();
            Some(lines.concat())
        }
        _ => None,
    }
}

/// The bytes of a set of `tr`, without ranges and classes.
fn set_of(set: &[u8]) -> Option<Vec<u8>> {
    let mut bytes = Vec::new();
    let mut rest = set.iter();
    while let Some(&byte) = rest.next() {
        bytes.push(match byte {
            b'\\' => match rest.next()? {
                b'n' => b'\n',
                b't' => b'\t',
                b'\\' => b'\\',
                _ => return None,
            },
            b'[' | b'-' => return None,
            other => other,
        });
    }
    (!bytes.is_empty()).then_some(bytes)
}

/// `s/from/to/` and `s/from/to/g` where the text that is looked for is plain, at the start (`^`) or at the end (`$`).
fn substituted(script: &[u8], text: &[u8]) -> Option<Vec<u8>> {
    let [b's', separator, rest @ ..] = script else { return None };
    let parts: Vec<&[u8]> = rest.split(|b| b == separator).collect();
    let [from, to, flags] = parts[..] else { return None };
    let (starts, from) = from.strip_prefix(b"^").map_or((false, from), |from| (true, from));
    let (ends, from) = from.strip_suffix(b"$").map_or((false, from), |from| (true, from));
    let is_plain = !from.is_empty() && !from.iter().chain(to).any(|b| b"\\[]*.^$&\n".contains(b));
    if !is_plain || !matches!(flags, b"" | b"g") || script.contains(&b';') {
        return None;
    }
    let of_line = |line: &[u8]| -> Vec<u8> {
        let mut result = Vec::new();
        let mut at = 0;
        while let Some(found) = memchr::memmem::find(&line[at..], from).map(|found| at + found) {
            let fits = (!starts || found == 0) && (!ends || found + from.len() == line.len());
            result.extend_from_slice(&line[at..found]);
            if fits {
                result.extend_from_slice(to);
                at = found + from.len();
            } else {
                result.push(line[found]);
                at = found + 1;
            }
            if (fits && flags.is_empty()) || (starts && at > 0) {
                break;
            }
        }
        result.extend_from_slice(&line[at..]);
        result
    };
    let lines: Vec<Vec<u8>> = text.split(|&b| b == b'\n').map(of_line).collect();
    Some(lines.join(&b'\n'))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn filters_write_what_the_programs_write() {
        for (command, text, expected) in [
            ("tr : \\n", "/a:/b\n", Some("/a\n/b\n")),
            ("tr -d \\n", "/a\n/b\n", Some("/a/b")),
            ("tr a-z A-Z", "x", None),
            ("sed s,/usr,/opt,", "/usr/a:/usr/b\n/c/usr\n", Some("/opt/a:/usr/b\n/c/opt\n")),
            ("sed s/:/,/g", "a:b:c\n", Some("a,b,c\n")),
            ("sed s/:$//", "/a:/b:\n", Some("/a:/b\n")),
            ("sed s/^://", ":/a:/b\n", Some("/a:/b\n")),
            ("sed s/^://", "/a:/b\n", Some("/a:/b\n")),
            ("sed s/.*//", "x\n", None),
            ("head -n1", "a\nb\n", Some("a\n")),
            ("paste -sd:", "/a\n/b\n", Some("/a:/b\n")),
            ("uniq", "a\na\nb\na\n", Some("a\nb\na\n")),
        ] {
            let words: Vec<&[u8]> = command.split(' ').map(str::as_bytes).collect();
            let found = filtered(words[0], &words[1..], text.as_bytes());
            assert_eq!(found, expected.map(|text| text.as_bytes().to_vec()), "{command}");
        }
    }
}
