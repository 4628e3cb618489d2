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
        for (text, expected) in
            [("~/{bin,sbin}", "~/bin ~/sbin"), ("{a,{b,c}}x", "ax bx cx"), ("{a}", "{a}"), ("a{,b}", "a ab")]
        {
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
