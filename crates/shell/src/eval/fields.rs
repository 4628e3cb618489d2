//! A text as the fields that `IFS` makes of it (XCU 2.6.5).

/// A text cut at separators; `None` stands for nothing at all at that place.
pub(super) fn fields_of(text: &[u8], separators: &[u8]) -> Vec<Option<Vec<u8>>> {
    let is_blank = |b: u8| separators.contains(&b) && matches!(b, b' ' | b'\t' | b'\n');
    let is_hard = |b: u8| separators.contains(&b) && !matches!(b, b' ' | b'\t' | b'\n');
    let mut parts: Vec<Option<Vec<u8>>> = Vec::new();
    let mut at = 0;
    if text.first().is_some_and(|&b| is_blank(b)) {
        parts.push(None);
        while at < text.len() && is_blank(text[at]) {
            at += 1;
        }
    }
    while at < text.len() {
        let end = text[at..].iter().position(|&b| is_blank(b) || is_hard(b)).map_or(text.len(), |end| at + end);
        parts.push(Some(text[at..end].to_vec()));
        at = end;
        let mut hard = 0;
        while at < text.len() && (is_blank(text[at]) || (is_hard(text[at]) && hard == 0)) {
            hard += usize::from(is_hard(text[at]));
            at += 1;
        }
        if at == text.len() && end < text.len() {
            parts.push(None);
        }
    }
    if parts.is_empty() {
        parts.push(None);
    }
    parts
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_cut_as_posix_says() {
        for (text, separators, expected) in [
            ("a b  c", " \t\n", "a|b|c"),
            (" a ", " ", "-|a|-"),
            ("a:b::c", ":", "a|b||c"),
            ("a:", ":", "a|-"),
            ("a : b", ": ", "a|b"),
            ("", " ", "-"),
        ] {
            let parts = fields_of(text.as_bytes(), separators.as_bytes());
            let shown: Vec<String> =
                parts.into_iter().map(|part| part.map_or("-".into(), |p| String::from_utf8(p).unwrap())).collect();
            assert_eq!(shown.join("|"), expected, "{text:?}");
        }
    }
}
