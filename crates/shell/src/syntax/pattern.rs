//! Patterns of shells (XCU 2.13, "Pattern Matching Notation"), with `\` before a byte that means itself, and the groups of
//! bash (`@(a|b)`) and zsh (`(a|b)`).

/// The most steps that are taken before a pattern counts as one that does not fit: those of a pattern of a thousand
/// stars on a text of as many letters.
const MAX_STEPS: u32 = 2_000_000;

/// The deepest nesting of groups that is followed.
const MAX_GROUPS: u32 = 100;

/// Whether a pattern fits the whole text.
pub fn fits(pattern: &[u8], text: &[u8]) -> bool {
    matches(pattern, text, &mut Budget { steps: MAX_STEPS, groups: MAX_GROUPS })
}

/// What a match may still cost.
struct Budget {
    steps: u32,
    groups: u32,
}

/// Compares from left to right. Where something does not fit, the last star takes one letter more: a star before it need
/// not be asked again, since whatever it could take, the last one can.
fn matches(pattern: &[u8], text: &[u8], budget: &mut Budget) -> bool {
    let (mut at, mut from) = (0, 0);
    let mut star: Option<(usize, usize)> = None;
    while budget.steps > 0 {
        budget.steps -= 1;
        let (rest, left) = (&pattern[at..], &text[from..]);
        if let Some((kind, alternatives, after)) = group(rest) {
            if grouped(kind, &alternatives, after, left, budget) {
                return true;
            }
        } else if rest.first() == Some(&b'*') {
            at += 1;
            star = Some((at, from));
            continue;
        } else if rest.is_empty() {
            if left.is_empty() {
                return true;
            }
        } else if let Some((length, taken)) = letter(rest, left) {
            at += length;
            from += taken;
            continue;
        }
        match star {
            Some((after, tried)) if tried < text.len() => {
                star = Some((after, tried + 1));
                (at, from) = (after, tried + 1);
            }
            _ => return false,
        }
    }
    false
}

/// The lengths of the first part of a pattern and of the letter of the text that it fits.
fn letter(pattern: &[u8], text: &[u8]) -> Option<(usize, usize)> {
    let b = *text.first()?;
    match pattern {
        [b'?', ..] => {
            // A letter of several bytes is one.
            let more = text.iter().skip(1).take_while(|&&b| b & 0xc0 == 0x80).count();
            Some((1, if b < 0x80 { 1 } else { more + 1 }))
        }
        [b'[', ..] => match bracket(pattern) {
            Some((set, length)) => in_set(set, b).then_some((length, 1)),
            None => (b == b'[').then_some((1, 1)),
        },
        [b'\\', meant, ..] => (b == *meant).then_some((2, 1)),
        [first, ..] => (b == *first).then_some((1, 1)),
        [] => None,
    }
}

/// The sign of a group, its alternatives, and what follows it.
type Group<'p> = (u8, Vec<&'p [u8]>, &'p [u8]);

/// A group at the start: its sign (`@` where there is none), its alternatives, and what follows.
fn group(pattern: &[u8]) -> Option<Group<'_>> {
    let (kind, start) = match pattern {
        [sign @ (b'@' | b'?' | b'*' | b'+' | b'!'), b'(', ..] => (*sign, 2),
        [b'(', ..] => (b'@', 1),
        _ => return None,
    };
    memchr::memchr(b')', pattern)?;
    let (mut depth, mut from, mut at) = (0, start, start);
    let mut alternatives = Vec::new();
    while at < pattern.len() {
        match pattern[at] {
            b'\\' => at += 1,
            b'(' => depth += 1,
            b')' if depth == 0 => {
                alternatives.push(&pattern[from..at]);
                return Some((kind, alternatives, &pattern[at + 1..]));
            }
            b')' => depth -= 1,
            b'|' if depth == 0 => {
                alternatives.push(&pattern[from..at]);
                from = at + 1;
            }
            _ => {}
        }
        at += 1;
    }
    None
}

fn grouped(kind: u8, alternatives: &[&[u8]], rest: &[u8], text: &[u8], budget: &mut Budget) -> bool {
    if budget.groups == 0 {
        return false;
    }
    budget.groups -= 1;
    let one = |at: usize, budget: &mut Budget| alternatives.iter().any(|one| matches(one, &text[..at], budget));
    let fits = match kind {
        b'!' => (0..=text.len()).any(|at| !one(at, budget) && matches(rest, &text[at..], budget)),
        b'?' | b'@' => {
            (kind == b'?' && matches(rest, text, budget))
                || (0..=text.len()).any(|at| one(at, budget) && matches(rest, &text[at..], budget))
        }
        _ => {
            (kind == b'*' && matches(rest, text, budget))
                || (1..=text.len()).any(|at| {
                    one(at, budget)
                        && (matches(rest, &text[at..], budget)
                            || grouped(b'+', alternatives, rest, &text[at..], budget))
                })
        }
    };
    budget.groups += 1;
    fits
}

/// The content of the bracket expression at the start, and its length.
fn bracket(pattern: &[u8]) -> Option<(&[u8], usize)> {
    let mut at = 1;
    if matches!(pattern.get(at), Some(b'!' | b'^')) {
        at += 1;
    }
    if pattern.get(at) == Some(&b']') {
        at += 1;
    }
    while let Some(&b) = pattern.get(at) {
        match b {
            b']' => return Some((&pattern[1..at], at + 1)),
            b'[' if pattern.get(at + 1) == Some(&b':') => {
                at += 2 + memchr::memmem::find(&pattern[at + 2..], b":]")? + 2;
            }
            b'\\' => at += 2,
            b'/' => return None,
            _ => at += 1,
        }
    }
    None
}

fn in_set(set: &[u8], byte: u8) -> bool {
    let (negated, mut set) = match set {
        [b'!' | b'^', rest @ ..] => (true, rest),
        all => (false, all),
    };
    let mut found = false;
    while let Some(&first) = set.first() {
        if set.starts_with(b"[:")
            && let Some(end) = memchr::memmem::find(set, b":]")
        {
            found |= match &set[2..end] {
                b"alpha" => byte.is_ascii_alphabetic(),
                b"digit" => byte.is_ascii_digit(),
                b"alnum" => byte.is_ascii_alphanumeric(),
                b"space" => byte.is_ascii_whitespace() || byte == 11,
                b"blank" => matches!(byte, b' ' | b'\t'),
                b"upper" => byte.is_ascii_uppercase(),
                b"lower" => byte.is_ascii_lowercase(),
                b"punct" => byte.is_ascii_punctuation(),
                b"xdigit" => byte.is_ascii_hexdigit(),
                _ => false,
            };
            set = &set[end + 2..];
            continue;
        }
        let (first, length) = if first == b'\\' && set.len() > 1 { (set[1], 2) } else { (first, 1) };
        set = &set[length..];
        if set.len() > 1 && set[0] == b'-' {
            found |= (first..=set[1]).contains(&byte);
            set = &set[2..];
        } else {
            found |= first == byte;
        }
    }
    found != negated
}

/// Whether text has something in it that makes a pattern of it.
pub fn is_pattern(text: &[u8]) -> bool {
    let mut at = 0;
    while at < text.len() {
        match text[at] {
            b'\\' => at += 1,
            b'*' | b'?' => return true,
            b'[' if bracket(&text[at..]).is_some() => return true,
            b'(' => return true,
            _ => {}
        }
        at += 1;
    }
    false
}

/// Whether a bracket expression begins in a pattern and does not end.
pub fn has_open_bracket(pattern: &[u8]) -> bool {
    let mut at = 0;
    while at < pattern.len() {
        match pattern[at] {
            b'\\' => at += 2,
            b'[' => match bracket(&pattern[at..]) {
                Some((_, length)) => at += length,
                None => return true,
            },
            _ => at += 1,
        }
    }
    false
}

/// A text as a pattern that fits it alone.
pub fn escaped(text: &[u8]) -> Vec<u8> {
    let mut pattern = Vec::with_capacity(text.len());
    for &byte in text {
        if b"*?[]\\()|!+@^-".contains(&byte) {
            pattern.push(b'\\');
        }
        pattern.push(byte);
    }
    pattern
}

/// A pattern's text, without the marks before bytes that mean themselves.
pub fn plain(pattern: &[u8]) -> Vec<u8> {
    let mut text = Vec::with_capacity(pattern.len());
    let mut bytes = pattern.iter();
    while let Some(&byte) = bytes.next() {
        text.push(if byte == b'\\' { bytes.next().copied().unwrap_or(b'\\') } else { byte });
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_fit_as_shells_fit_them() {
        for (pattern, text, expected) in [
            ("*:/opt/bin:*", ":/usr/bin:/opt/bin:", true),
            ("*i*", "himBHs", true),
            ("*.sh", "nix.sh", true),
            ("[!a-c]x", "dx", true),
            ("[^a-c]x", "bx", false),
            ("[[:digit:]]*", "4x", true),
            ("[]a]", "]", true),
            ("\\*", "*", true),
            ("\\*", "x", false),
            ("@(a|b*)c", "bxxc", true),
            ("(xterm|rxvt)*", "rxvt-256", true),
            ("!(a)", "a", false),
            ("+(ab)c", "ababc", true),
            ("[x", "[x", true),
            ("?", "ü", true),
        ] {
            assert_eq!(fits(pattern.as_bytes(), text.as_bytes()), expected, "{pattern} {text}");
        }
        assert!(!fits(&b"*a".repeat(40), &b"a".repeat(30)), "bounded");
        assert!(fits(&b"*a".repeat(1_000), &b"a".repeat(2_000)));
        assert!(!fits(&b"*a".repeat(25_000), &[&b"a".repeat(100_000)[..], b"b"].concat()), "not by recursion");
        assert!(
            !fits(&b"(".repeat(100_000), b"a") && !fits(&[b"(".repeat(50_000), b")".repeat(50_000)].concat(), b"a")
        );
        assert_eq!(plain(&escaped(b"a*[b]")), b"a*[b]");
    }
}
