//! The header of a manual page: `man(7)`, macro `TH`, whose fourth argument names the software and
//! its version, and `mdoc(7)`, macro `Os`.

/// The version that a manual page's header gives, with the number of the line it stands in.
///
/// `None` when the header names no version, or when what it names is the system's and not the
/// software's.
#[must_use]
pub fn version(page: &[u8]) -> Option<(String, u32)> {
    for (number, line) in (1..).zip(page.split(|&b| b == b'\n').take(200)) {
        let line = String::from_utf8_lossy(line);
        if let Some(arguments) = line.strip_prefix(".TH ") {
            let words = arguments_of(arguments);
            return words.get(3).and_then(|source| version_in(source)).map(|version| (version, number));
        }
        if let Some(arguments) = line.strip_prefix(".Os ") {
            return version_in(arguments).map(|version| (version, number));
        }
    }
    None
}

/// The first word that looks like a version: begins with a digit (a `v` before it is dropped) and holds a dot.
#[must_use]
pub fn version_in(text: &str) -> Option<String> {
    text.split(|c: char| c.is_whitespace() || matches!(c, ',' | '(' | ')'))
        .map(|word| word.trim_start_matches(['v', 'V']))
        .find(|word| {
            word.starts_with(|c: char| c.is_ascii_digit())
                && word.contains('.')
                && word.chars().all(|c| c.is_ascii_alphanumeric() || ".+~:-_".contains(c))
        })
        .map(str::to_owned)
}

/// Arguments in the way of roff: separated by blanks, quoted where they hold some.
fn arguments_of(line: &str) -> Vec<String> {
    let mut words = Vec::new();
    let mut rest = line.trim();
    while !rest.is_empty() {
        let (word, after) = match rest.strip_prefix('"') {
            Some(quoted) => quoted.split_once('"').unwrap_or((quoted, "")),
            None => rest.split_once(char::is_whitespace).unwrap_or((rest, "")),
        };
        words.push(word.replace("\\-", "-"));
        rest = after.trim_start();
    }
    words
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_version_is_read_where_the_header_gives_one() {
        for (page, version_and_line) in [
            (".\\\" c\n.TH BAROLOG 1 \"2026-02-11\" \"barolog 2.1.0\" \"Harbour\"", Some(("2.1.0", 2))),
            (".TH X 1 2026-01-01 v0.3\\-rc1", Some(("0.3-rc1", 1))),
            (".TH X 1 \"March 2026\" \"Harbour tools\"", None),
            (".TH X 1", None),
            (".Dd May 1\n.Dt X 1\n.Os pegel 4.2", Some(("4.2", 3))),
            ("", None),
            (".TH \"unclosed", None),
        ] {
            assert_eq!(version(page.as_bytes()), version_and_line.map(|(v, n)| (v.to_owned(), n)), "{page}");
        }
    }
}
