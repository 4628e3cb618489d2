//! Version ordering, one file per scheme. Versions are only ordered within a scheme.

pub mod conda;
pub mod debian;
pub mod dewey;
pub mod gem;
pub mod gentoo;
mod key;
pub mod luarocks;
pub mod macports;
pub mod nix;
pub mod pacman;
pub mod pep440;
pub mod perl;
pub mod r;
pub mod rpm;
mod scheme;
pub mod semver;
pub mod tokens;
pub mod upstream;

use std::cmp::Ordering;

pub use scheme::Scheme;

/// Orders two numbers in decimal digits, however long; the empty text is 0.
fn numbers(a: &[u8], b: &[u8]) -> Ordering {
    fn bare(digits: &[u8]) -> &[u8] {
        let start = digits.iter().position(|&b| b != b'0').unwrap_or(digits.len());
        &digits[start..]
    }
    let (a, b) = (bare(a), bare(b));
    a.len().cmp(&b.len()).then_with(|| a.cmp(b))
}

/// Orders two runs of digits or words: words by their bytes, before all numbers.
fn words_first(x: &[u8], y: &[u8]) -> Ordering {
    match (is_number(x), is_number(y)) {
        (true, true) => numbers(x, y),
        (false, false) => x.cmp(y),
        (x, y) => x.cmp(&y),
    }
}

/// Orders two lists place by place. What the shorter one lacks counts as `missing`.
fn by_places<T>(a: &[T], b: &[T], missing: &T, order: impl Fn(&T, &T) -> Ordering) -> Ordering {
    let mut places = 0..a.len().max(b.len());
    let decided = places.find_map(|at| {
        let order = order(a.get(at).unwrap_or(missing), b.get(at).unwrap_or(missing));
        order.is_ne().then_some(order)
    });
    decided.unwrap_or(Ordering::Equal)
}

/// The first run of digits, or of bytes that are none, and the rest.
fn run(text: &[u8]) -> (&[u8], &[u8]) {
    let digits = text.first().is_some_and(u8::is_ascii_digit);
    let end = text.iter().position(|b| b.is_ascii_digit() != digits).unwrap_or(text.len());
    text.split_at(end)
}

fn is_number(text: &[u8]) -> bool {
    !text.is_empty() && text.iter().all(u8::is_ascii_digit)
}
