//! Natural order: runs of digits are compared as numbers, everything else byte by byte.

use std::cmp::Ordering;

/// Compares two names in natural order: `v9` comes before `v10`.
pub(super) fn compare(a: &[u8], b: &[u8]) -> Ordering {
    let (mut a, mut b) = (a, b);
    loop {
        match (a.first(), b.first()) {
            (None, None) => return Ordering::Equal,
            (None, Some(_)) => return Ordering::Less,
            (Some(_), None) => return Ordering::Greater,
            (Some(x), Some(y)) if x.is_ascii_digit() && y.is_ascii_digit() => {
                let ((one, after_one), (two, after_two)) = (number(a), number(b));
                let order = one.len().cmp(&two.len()).then_with(|| one.cmp(two));
                if order != Ordering::Equal {
                    return order;
                }
                (a, b) = (after_one, after_two);
            }
            (Some(x), Some(y)) if x == y => (a, b) = (&a[1..], &b[1..]),
            (Some(x), Some(y)) => return x.cmp(y),
        }
    }
}

/// The digits at the start, without leading zeros, and what follows them.
fn number(text: &[u8]) -> (&[u8], &[u8]) {
    let end = text.iter().position(|b| !b.is_ascii_digit()).unwrap_or(text.len());
    let zeros = text[..end].iter().take_while(|b| **b == b'0').count();
    (&text[zeros..end], &text[end..])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn digits_are_compared_as_numbers() {
        for (less, more) in [("v9.1", "v10.0"), ("a", "b"), ("10-x", "10-y"), ("9", "a"), ("v1", "v1.0"), ("a1", "a02")]
        {
            assert_eq!(compare(less.as_bytes(), more.as_bytes()), Ordering::Less, "{less} {more}");
            assert_eq!(compare(more.as_bytes(), less.as_bytes()), Ordering::Greater, "{more} {less}");
        }
        assert_eq!(compare(b"007", b"7"), Ordering::Equal);
    }
}
