//! Patterns for names, as settings of several managers have them.

/// Whether a name fits a pattern of `*` and `?` (`fnmatch(3)`).
pub fn fits(pattern: &[u8], name: &[u8]) -> bool {
    let (mut at, mut place) = (0, 0);
    let mut star = None;
    while place < name.len() {
        match pattern.get(at) {
            Some(b'*') => {
                star = Some((at, place));
                at += 1;
            }
            Some(&b) if b == b'?' || b == name[place] => {
                at += 1;
                place += 1;
            }
            _ => match star {
                Some((back, from)) => {
                    at = back + 1;
                    place = from + 1;
                    star = Some((back, from + 1));
                }
                None => return false,
            },
        }
    }
    pattern[at.min(pattern.len())..].iter().all(|&b| b == b'*')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_fit_as_a_shell_fits_them() {
        for (pattern, name, expected) in [
            ("kernel*", "kernel-core", true),
            ("*-tools", "buoy-tools", true),
            ("b?oy", "buoy", true),
            ("b*y*s", "buoy-tools", true),
            ("buoy", "buoy-tools", false),
            ("*a*b", "xaxxc", false),
        ] {
            assert_eq!(fits(pattern.as_bytes(), name.as_bytes()), expected, "{pattern} {name}");
        }
    }
}
