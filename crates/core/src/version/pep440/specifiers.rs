//! Version specifiers (*Python Packaging User Guide*): which versions a requirement takes.

use super::Version;

/// Whether a version is one that a list of specifiers takes: `>=1.2, <2`. Pre-releases count as any other version. What
/// is no version is taken by none but an empty list, and by `===`.
///
/// ```
/// use whodunit_core::version::pep440::satisfies;
/// assert!(satisfies(b"1.4.2", b"~=1.4, !=1.4.1"));
/// assert!(!satisfies(b"2.0rc1", b"<2.0"));
/// ```
#[must_use]
pub fn satisfies(version: &[u8], specifiers: &[u8]) -> bool {
    each(specifiers).all(|one| judged(version, one).unwrap_or(false))
}

/// Whether all that is there are specifiers; nothing at all is none that is wrong.
#[must_use]
pub fn are_specifiers(specifiers: &[u8]) -> bool {
    each(specifiers).all(|one| judged(b"0", one).is_some())
}

fn each(specifiers: &[u8]) -> impl Iterator<Item = &[u8]> {
    specifiers.split(|&b| b == b',').map(<[u8]>::trim_ascii).filter(|one| !one.is_empty())
}

/// Whether a version is one that a single specifier takes; `None` where either is none.
#[must_use]
pub fn judged(version: &[u8], specifier: &[u8]) -> Option<bool> {
    const SIGNS: [&[u8]; 8] = [b"===", b"~=", b"==", b"!=", b"<=", b">=", b"<", b">"];
    let sign = SIGNS.into_iter().find(|sign| specifier.starts_with(sign))?;
    let wanted = specifier[sign.len()..].trim_ascii().to_ascii_lowercase();
    let version = version.trim_ascii().to_ascii_lowercase();
    if sign == b"===" {
        return Some(version == wanted);
    }
    let found = Version::parse(&version)?;
    if let Some(stem) = wanted.strip_suffix(b".*") {
        let stem = Version::parse(stem)?;
        let begins = found.begins_with(&stem, stem.written);
        return match sign {
            b"==" => Some(begins),
            b"!=" => Some(!begins),
            _ => None,
        };
    }
    let wanted = Version::parse(&wanted)?;
    // A local version counts only where the specifier has one.
    let public = Version { local: None, ..found.clone() };
    let order = if wanted.local.is_some() { found.compare(&wanted) } else { public.compare(&wanted) };
    let is_same_release = found.same_release(&wanted);
    Some(match sign {
        b"==" => order.is_eq(),
        b"!=" => order.is_ne(),
        b"<=" => public.compare(&wanted).is_le(),
        b">=" => public.compare(&wanted).is_ge(),
        // Not its own pre-releases, nor its post-releases.
        b"<" => {
            public.compare(&wanted).is_lt()
                && !(found.is_before_final() && !wanted.is_before_final() && is_same_release)
        }
        b">" => {
            let is_later = public.compare(&wanted).is_gt();
            is_later && !(found.post.is_some() && wanted.post.is_none() && is_same_release)
        }
        // At least that, and the same but for the last part; of one part nothing would be left.
        _ if wanted.written < 2 => return None,
        _ => public.compare(&wanted).is_ge() && found.begins_with(&wanted, wanted.written - 1),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn specifiers_take_what_the_specification_says() {
        for (version, specifiers, expected) in [
            ("1.0", "", true),
            ("1.4.5", "~=1.4.2", true),
            ("1.5", "~=1.4.2", false),
            ("1.9", "~=1.4", true),
            ("2.0", "~=1.4", false),
            ("2.2.post3", "~=2.2", true),
            ("1.1", "==1.1.*", true),
            ("1.1a1", "==1.1.*", true),
            ("1.10", "==1.1.*", false),
            ("1.1.post1", "!=1.1.*", false),
            ("1", "==1.0.0.*", true),
            ("1.0+ubuntu.1", "==1.0", true),
            ("1.0+ubuntu.1", "==1.0+ubuntu.2", false),
            ("2.0rc1", "<2.0", false),
            ("2.0rc1", "<2.0rc2", true),
            ("1.7.post1", ">1.7", false),
            ("1.7.1", ">1.7", true),
            ("1.7.0+x", ">1.7", false),
            ("2.0.dev1", ">=2.0a1", false),
            ("1!1.0", ">=2.0", true),
            ("1.0", ">=1, !=1.0", false),
            ("not one", ">=1", false),
            ("not one", "===not one", true),
            ("1.0", "about 1", false),
        ] {
            assert_eq!(satisfies(version.as_bytes(), specifiers.as_bytes()), expected, "{version} {specifiers}");
        }
    }
}
