//! `{a,b}` in words, before anything else is done with them.

use crate::syntax::{Part, Word};

/// The words that a word with braces stands for; itself where there are none.
pub(super) fn words(word: &Word) -> Vec<Word> {
    let has_brace = word.0.iter().any(|part| matches!(part, Part::Plain(text) if text.contains(&b'{')));
    if !has_brace {
        return vec![word.clone()];
    }
    let tokens: Vec<Part> = word
        .0
        .iter()
        .flat_map(|part| match part {
            Part::Plain(text) => text.iter().map(|&b| Part::Plain(vec![b])).collect(),
            other => vec![other.clone()],
        })
        .collect();
    let mut most = 500;
    expand(&tokens, &mut most).into_iter().map(joined).collect()
}

fn byte(part: &Part) -> Option<u8> {
    match part {
        Part::Plain(text) => text.first().copied(),
        _ => None,
    }
}

fn expand(tokens: &[Part], most: &mut usize) -> Vec<Vec<Part>> {
    let mut start = 0;
    while let Some(open) = tokens[start..].iter().position(|part| byte(part) == Some(b'{')).map(|at| at + start) {
        if let Some((steps, close)) = sequence(&tokens[open + 1..], *most) {
            let rest = expand(&tokens[open + close + 2..], most);
            let mut words = Vec::new();
            for step in steps {
                let middle: Vec<Part> = step.bytes().map(|byte| Part::Plain(vec![byte])).collect();
                for end in &rest {
                    *most = most.saturating_sub(1);
                    if *most == 0 {
                        return vec![tokens.to_vec()];
                    }
                    words.push([&tokens[..open], &middle, end].concat());
                }
            }
            return words;
        }
        if let Some((alternatives, close)) = alternatives(&tokens[open + 1..]) {
            let rest = expand(&tokens[open + close + 2..], most);
            let mut words = Vec::new();
            for one in alternatives {
                for middle in expand(one, most) {
                    for end in &rest {
                        *most = most.saturating_sub(1);
                        if *most == 0 {
                            return vec![tokens.to_vec()];
                        }
                        words.push([&tokens[..open], &middle, end].concat());
                    }
                }
            }
            return words;
        }
        start = open + 1;
    }
    vec![tokens.to_vec()]
}

/// `1..3`, `a..e` and `1..9..2` up to the brace that closes, and the place of that brace.
fn sequence(tokens: &[Part], most: usize) -> Option<(Vec<String>, usize)> {
    let close = tokens.iter().position(|part| byte(part) == Some(b'}'))?;
    let text: Vec<u8> = tokens[..close].iter().map(byte).collect::<Option<_>>()?;
    let text = String::from_utf8(text).ok()?;
    let mut parts = text.split("..");
    let (from, to, by) = (parts.next()?, parts.next()?, parts.next());
    if parts.next().is_some() {
        return None;
    }
    let by: i64 = by.map_or(Some(1), |by| by.parse().ok())?;
    let by = if by == 0 { 1 } else { by.abs() };
    let along = |from: i64, to: i64| -> Option<Vec<i64>> {
        let count = usize::try_from((to - from).abs() / by + 1).ok().filter(|count| *count <= most)?;
        let step = if from <= to { by } else { -by };
        Some((0..i64::try_from(count).ok()?).map(|number| from + number * step).collect())
    };
    if let ([from], [to]) = (from.as_bytes(), to.as_bytes())
        && from.is_ascii_alphabetic()
        && to.is_ascii_alphabetic()
    {
        let letters = along(i64::from(*from), i64::from(*to))?;
        return Some((
            letters.into_iter().filter_map(|b| Some(char::from(u8::try_from(b).ok()?).into())).collect(),
            close,
        ));
    }
    let number = |text: &str| text.parse::<i64>().ok().filter(|number| number.abs() < 1 << 40);
    // Zeros in front give all the same width.
    let is_padded =
        |text: &str| text.trim_start_matches('-').starts_with('0') && text.trim_start_matches('-').len() > 1;
    let width = if is_padded(from) || is_padded(to) { from.len().max(to.len()) } else { 0 };
    let numbers = along(number(from)?, number(to)?)?;
    Some((numbers.into_iter().map(|number| format!("{number:0width$}")).collect(), close))
}

/// The alternatives up to the brace that closes, where there are at least two, and the place of that brace.
fn alternatives(tokens: &[Part]) -> Option<(Vec<&[Part]>, usize)> {
    let (mut depth, mut from, mut found) = (0, 0, Vec::new());
    for (at, part) in tokens.iter().enumerate() {
        match byte(part) {
            Some(b'{') => depth += 1,
            Some(b'}') if depth == 0 => {
                found.push(&tokens[from..at]);
                return (found.len() > 1).then_some((found, at));
            }
            Some(b'}') => depth -= 1,
            Some(b',') if depth == 0 => {
                found.push(&tokens[from..at]);
                from = at + 1;
            }
            _ => {}
        }
    }
    None
}

fn joined(tokens: Vec<Part>) -> Word {
    let mut parts: Vec<Part> = Vec::new();
    for token in tokens {
        match (parts.last_mut(), &token) {
            (Some(Part::Plain(before)), Part::Plain(text)) => before.extend_from_slice(text),
            _ => parts.push(token),
        }
    }
    Word(parts)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn braces_stand_for_several_words() {
        for (text, expected) in [
            ("~/{bin,sbin}", "~/bin ~/sbin"),
            ("{a,{b,c}}x", "ax bx cx"),
            ("{a}", "{a}"),
            ("a{,b}", "a ab"),
            ("{3..1}", "3 2 1"),
            ("{08..10}", "08 09 10"),
            ("{a..e..2}x", "ax cx ex"),
            ("{1..}", "{1..}"),
        ] {
            let word = Word(vec![Part::Plain(text.as_bytes().to_vec())]);
            let shown: Vec<String> = words(&word)
                .iter()
                .map(|word| {
                    word.0
                        .iter()
                        .map(|part| match part {
                            Part::Plain(text) => String::from_utf8_lossy(text).into_owned(),
                            _ => String::new(),
                        })
                        .collect()
                })
                .collect();
            assert_eq!(shown.join(" "), expected);
        }
    }
}
