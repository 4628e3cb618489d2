//! Extended regular expressions (XBD 9.4), as `=~` takes them.

use regex_lite::RegexBuilder;

/// The part that fits, and the parts in parentheses, empty where they take no part in it.
type Parts = Vec<Vec<u8>>;

/// Whether an expression fits, and what its parts are: `Err` for an expression that only the shell's own library can
/// tell, `Ok(Some(None))` where it fits but its parts may be others.
pub(super) fn matched(fitting: &[u8], text: &[u8], ignores_case: bool) -> Result<Option<Option<Parts>>, ()> {
    let translated = translated(fitting).ok_or(())?;
    let text = std::str::from_utf8(text).map_err(drop)?;
    let built = RegexBuilder::new(&translated)
        .dot_matches_new_line(true)
        .case_insensitive(ignores_case)
        .size_limit(1 << 20)
        .build()
        .map_err(drop)?;
    let Some(found) = built.captures(text) else { return Ok(None) };
    // POSIX wants the longest of all that fit, the library takes the first alternative.
    if memchr::memchr(b'|', fitting).is_some() {
        return Ok(Some(None));
    }
    let part = |part: Option<regex_lite::Match<'_>>| part.map(|part| part.as_str().into()).unwrap_or_default();
    Ok(Some(Some(found.iter().map(part).collect())))
}

/// The expression in the syntax of the library: brackets take a backslash for itself.
fn translated(fitting: &[u8]) -> Option<String> {
    let text = std::str::from_utf8(fitting).ok().filter(|text| text.is_ascii())?;
    let mut result = String::new();
    let mut chars = text.chars().peekable();
    while let Some(one) = chars.next() {
        match one {
            '\\' => match chars.next()? {
                next if next.is_ascii_punctuation() && !"<>`'".contains(next) => result.extend(['\\', next]),
                _ => return None, // A sign of one library's own.
            },
            '[' => {
                result.push('[');
                if chars.next_if_eq(&'^').is_some() {
                    result.push('^');
                }
                if chars.next_if_eq(&']').is_some() {
                    result.push_str("\\]");
                }
                loop {
                    match chars.next()? {
                        ']' => break,
                        '[' if chars.peek() == Some(&':') => {
                            result.push('[');
                            loop {
                                let next = chars.next()?;
                                result.push(next);
                                if next == ']' {
                                    break;
                                }
                            }
                        }
                        '[' if matches!(chars.peek(), Some('.' | '=')) => return None,
                        next @ ('[' | '\\' | '&' | '~') => result.extend(['\\', next]),
                        next => result.push(next),
                    }
                }
                result.push(']');
            }
            other => result.push(other),
        }
    }
    Some(result)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn expressions_fit_as_the_shells_say() {
        for (fitting, text, expected) in [
            ("^v([0-9]+)\\.", "v12.3", "fits v12.|12"),
            ("(^|:)/bin(:|$)", "/usr/bin:/bin", "fits"),
            ("[[:space:]]", "ab", "does not"),
            ("[]a]+", "]a", "fits ]a"),
            ("[\\.]", ".", "fits ."),
            ("\\<a", "a", "unknown"),
            ("a{2}", "caab", "fits aa"),
        ] {
            let shown = match matched(fitting.as_bytes(), text.as_bytes(), false) {
                Err(()) => "unknown".to_owned(),
                Ok(None) => "does not".to_owned(),
                Ok(Some(None)) => "fits".to_owned(),
                Ok(Some(Some(parts))) => format!("fits {}", String::from_utf8(parts.join(&b'|')).unwrap()),
            };
            assert_eq!(shown, expected, "{fitting} {text}");
        }
    }
}
