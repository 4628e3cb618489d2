//! What the dependencies of packages are written in (rpm, "Boolean Dependencies"): `(a >= 1 if b else c)`.

use crate::backend::dependency_graph::{Want, sign_of};

/// Whether a need is not one of a package, but of what rpm itself is capable of.
pub(super) fn is_rpms_own(name: &[u8]) -> bool {
    name.starts_with(b"rpmlib(")
}

/// An expression.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Expression {
    /// A name, perhaps with a version.
    Name(Want),
    /// One of two.
    Or(Box<[Expression; 2]>),
    /// Both.
    And(Box<[Expression; 2]>),
    /// Both, of one package.
    With(Box<[Expression; 2]>),
    /// The first of one package that does not have the second.
    Without(Box<[Expression; 2]>),
    /// The first where the second holds; else the third, if there is one.
    If(Box<[Expression; 2]>, Option<Box<Expression>>),
    /// The first where the second does not hold; else the third, if there is one.
    Unless(Box<[Expression; 2]>, Option<Box<Expression>>),
}

/// Whether something that a name stands for is there.
pub(super) type IsThere<'a> = &'a dyn Fn(&Want) -> bool;

/// Brackets within brackets that are followed.
const MAX_DEPTH: u32 = 32;

impl Expression {
    /// Reads one; `None` where there is no name. What is missing at the end counts as written.
    pub(super) fn parse(text: &[u8]) -> Option<Self> {
        let mut words = Words { rest: text };
        operand(&mut words, 0)
    }

    /// Every name in it.
    pub(super) fn names(&self, found: &mut Vec<Want>) {
        match self {
            Expression::Name(want) => found.push(want.clone()),
            Expression::Or(two) | Expression::And(two) | Expression::With(two) | Expression::Without(two) => {
                two.iter().for_each(|one| one.names(found));
            }
            Expression::If(two, other) | Expression::Unless(two, other) => {
                two.iter().chain(other.as_deref()).for_each(|one| one.names(found));
            }
        }
    }

    /// Whether it holds. That two names are those of one package is not looked at.
    pub(super) fn holds(&self, is_there: IsThere<'_>) -> bool {
        let holds = |one: &Expression| one.holds(is_there);
        let otherwise = |other: &Option<Box<Expression>>| other.as_ref().is_none_or(|other| holds(other));
        match self {
            Expression::Name(want) => is_there(want),
            Expression::Or(two) => two.iter().any(holds),
            Expression::And(two) | Expression::With(two) => two.iter().all(holds),
            Expression::Without(two) => holds(&two[0]) && !holds(&two[1]),
            Expression::If(two, other) => {
                if holds(&two[1]) {
                    holds(&two[0])
                } else {
                    otherwise(other)
                }
            }
            Expression::Unless(two, other) => {
                if holds(&two[1]) {
                    otherwise(other)
                } else {
                    holds(&two[0])
                }
            }
        }
    }

    /// What would make it hold: for each need the names of which one is enough. `None` where that depends on more than
    /// names.
    pub(super) fn needs(&self, is_there: IsThere<'_>) -> Option<Vec<Vec<Want>>> {
        if self.holds(is_there) {
            return Some(Vec::new());
        }
        let needs = |one: &Expression| one.needs(is_there);
        match self {
            Expression::Name(want) => Some(vec![vec![want.clone()]]),
            Expression::Or(_) => {
                let mut any_of = Vec::new();
                self.alternatives(&mut any_of).then_some(vec![any_of])
            }
            Expression::And(two) => Some([needs(&two[0])?, needs(&two[1])?].concat()),
            Expression::With(_) | Expression::Without(_) => None,
            Expression::If(two, other) if !two[1].holds(is_there) => needs(other.as_ref()?),
            Expression::Unless(two, other) if two[1].holds(is_there) => needs(other.as_ref()?),
            Expression::If(two, _) | Expression::Unless(two, _) => needs(&two[0]),
        }
    }

    /// The names of which one is enough, if it is nothing but those.
    fn alternatives(&self, found: &mut Vec<Want>) -> bool {
        match self {
            Expression::Name(want) => {
                found.push(want.clone());
                true
            }
            Expression::Or(two) => two.iter().all(|one| one.alternatives(found)),
            _ => false,
        }
    }
}

/// What comes between two names.
fn joined(words: &mut Words<'_>, left: Expression, depth: u32) -> Option<Expression> {
    let Some(word) = words.next_if(|word| !matches!(word, b"(" | b")" | b"else")) else { return Some(left) };
    if matches!(word, b"if" | b"unless") {
        let condition = operand(words, depth)?;
        let other = match words.next_if(|word| word == b"else") {
            Some(_) => Some(Box::new(chain(words, depth)?)),
            None => None,
        };
        let two = Box::new([left, condition]);
        return Some(if word == b"if" { Expression::If(two, other) } else { Expression::Unless(two, other) });
    }
    let two = Box::new([left, chain(words, depth)?]);
    Some(match word {
        b"or" => Expression::Or(two),
        b"with" => Expression::With(two),
        b"without" => Expression::Without(two),
        _ => Expression::And(two),
    })
}

/// Names with words between them.
fn chain(words: &mut Words<'_>, depth: u32) -> Option<Expression> {
    let left = operand(words, depth)?;
    joined(words, left, depth)
}

/// A name, or what stands in brackets.
fn operand(words: &mut Words<'_>, depth: u32) -> Option<Expression> {
    if depth > MAX_DEPTH {
        return None;
    }
    let word = words.next()?;
    if word == b"(" {
        let inside = chain(words, depth + 1)?;
        words.next_if(|word| word == b")");
        return Some(inside);
    }
    if word == b")" {
        return None;
    }
    let sign = words.peek().and_then(sign_of);
    let version = sign.and_then(|sign| {
        words.next();
        Some((sign, words.next()?.to_vec()))
    });
    Some(Expression::Name(Want { name: word.to_vec(), version }))
}

/// The words of a text; the brackets of a name such as `pkgconfig(tide)` are its own.
struct Words<'t> {
    rest: &'t [u8],
}

impl<'t> Words<'t> {
    fn peek(&self) -> Option<&'t [u8]> {
        Words { rest: self.rest }.next()
    }

    fn next_if(&mut self, fits: impl Fn(&[u8]) -> bool) -> Option<&'t [u8]> {
        self.peek().filter(|word| fits(word))?;
        self.next()
    }
}

impl<'t> Iterator for Words<'t> {
    type Item = &'t [u8];

    fn next(&mut self) -> Option<&'t [u8]> {
        let text = self.rest.trim_ascii_start();
        let mut open = 0;
        let ends = |b: u8| {
            match b {
                b'(' => open += 1,
                b')' if open == 0 => return true,
                b')' => open -= 1,
                _ => {}
            }
            b.is_ascii_whitespace()
        };
        let length = match text.first()? {
            b'(' | b')' => 1,
            _ => text.iter().copied().position(ends).unwrap_or(text.len()),
        };
        let (word, rest) = text.split_at(length);
        self.rest = rest;
        Some(word)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(wants: &[Want]) -> String {
        let shown = |want: &Want| {
            let version =
                want.version.iter().map(|(sign, version)| format!("{sign}{}", String::from_utf8_lossy(version)));
            String::from_utf8_lossy(&want.name).into_owned() + &version.collect::<String>()
        };
        wants.iter().map(shown).collect::<Vec<_>>().join("|")
    }

    #[test]
    fn what_an_expression_needs_depends_on_what_is_there() {
        for (text, there, expected) in [
            ("(tide if buoy)", "", Some("")),
            ("(tide if buoy)", "buoy", Some("tide")),
            ("(tide >= 1.0 if buoy else quay)", "", Some("quay")),
            ("(tide >= 1.0 if buoy else quay)", "buoy quay", Some("tide>=1.0")),
            ("(tide unless buoy)", "", Some("tide")),
            ("(tide unless buoy else quay)", "buoy", Some("quay")),
            ("(tide unless buoy)", "buoy", Some("")),
            ("(tide or pkgconfig(lamp) or quay)", "", Some("tide|pkgconfig(lamp)|quay")),
            ("(tide or pkgconfig(lamp) or quay)", "pkgconfig(lamp)", Some("")),
            ("((tide or lamp) and quay)", "lamp", Some("quay")),
            ("(tide and (lamp if buoy) and quay)", "buoy", Some("tide, lamp, quay")),
            ("((tide and lamp) or quay)", "", None),
            ("(tide with tide < 2)", "", None),
            ("(tide with lamp)", "tide lamp", Some("")),
            ("(tide without lamp)", "", None),
            ("(tide", "", Some("tide")),
        ] {
            let there: Vec<&str> = there.split(' ').collect();
            let is_there = |want: &Want| there.iter().any(|name| name.as_bytes() == &*want.name);
            let parsed = Expression::parse(text.as_bytes()).unwrap();
            let found = parsed
                .needs(&is_there)
                .map(|needs| needs.iter().map(|any_of| words(any_of)).collect::<Vec<_>>().join(", "));
            assert_eq!(found.as_deref(), expected, "{text} with {there:?}");
        }
    }

    #[test]
    fn every_name_is_found_and_nonsense_ends() {
        for (text, expected) in [
            ("(tide if buoy)", "tide|buoy"),
            ("((tide >= 1.0 or pkgconfig(lamp)) and quay)", "tide>=1.0|pkgconfig(lamp)|quay"),
            ("(tide with tide < 2 unless mole else pier)", "tide|tide<2|mole|pier"),
            ("(tide", "tide"),
            ("(tide or", ""),
            ("()", ""),
            ("(", ""),
            (&"(".repeat(100_000), ""),
        ] {
            let mut names = Vec::new();
            Expression::parse(text.as_bytes()).iter().for_each(|one| one.names(&mut names));
            assert_eq!(words(&names), expected, "{text:.40}");
        }
    }
}
