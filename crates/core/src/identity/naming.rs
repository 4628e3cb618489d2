//! How managers name things: what they put around the name that upstream gave.

use crate::bytes::ByteString;
use crate::model::{Affix, Language, Naming};
use crate::version::pep440::normal_name;

/// What distributions put before the name of a library, by language.
const PREFIXES: [(&str, Language); 9] = [
    ("python3-", Language::Python),
    ("python-", Language::Python),
    ("py3-", Language::Python),
    ("py-", Language::Python),
    ("node-", Language::JavaScript),
    ("nodejs-", Language::JavaScript),
    ("ruby-", Language::Ruby),
    ("rubygem-", Language::Ruby),
    ("perl-", Language::Perl),
];

/// The name in a language's registry that a package has, or that a distribution's name for it says.
#[must_use]
pub fn language_of(naming: Naming, name: &[u8]) -> Option<(Language, ByteString)> {
    let lower: ByteString = name.to_ascii_lowercase().into();
    if let Some(language) = naming.registry {
        let name = match language {
            Language::Python => normal_name(name).into(),
            // Distributions write a hyphen for what parts the names of modules.
            Language::Perl => bstr::ByteSlice::replace(&lower[..], "::", "-").into(),
            _ => lower,
        };
        return Some((language, name));
    }
    if !naming.has_language_prefix {
        return None;
    }
    if let Some(inner) = lower.strip_prefix(b"lib").and_then(|rest| rest.strip_suffix(b"-perl")) {
        return Some((Language::Perl, inner.into()));
    }
    for (prefix, language) in PREFIXES {
        if let Some(rest) = lower.strip_prefix(prefix.as_bytes()).filter(|rest| !rest.is_empty()) {
            let name = if language == Language::Python { normal_name(rest) } else { rest.to_vec() };
            return Some((language, name.into()));
        }
    }
    // nixpkgs and MacPorts put the version of the interpreter before it: `python3.11-x`, `py311-x`.
    let rest = lower.strip_prefix(b"python3.").or_else(|| lower.strip_prefix(b"py3"))?;
    let digits = rest.iter().take_while(|b| b.is_ascii_digit()).count();
    let rest = rest[digits..].strip_prefix(b"-").filter(|rest| digits > 0 && !rest.is_empty())?;
    Some((Language::Python, normal_name(rest).into()))
}

/// The last words of ids that say nothing of the software.
const EMPTY_WORDS: [&str; 8] = ["app", "desktop", "client", "gui", "application", "linux", "main", "stable"];

/// Suffixes that packagers add to a name to tell how it was built.
const BUILDS: [&str; 6] = ["-git", "-bin", "-appimage", "-nightly", "-stable", "-standalone"];

/// The name by which packages of different managers are likened: in lower case, without what managers add.
#[must_use]
pub fn key_of(naming: Naming, name: &[u8]) -> ByteString {
    if is_reversed_domain(name) {
        let parts: Vec<Vec<u8>> = name.split(|&b| b == b'.').map(<[u8]>::to_ascii_lowercase).collect();
        let last = parts.iter().rfind(|part| !EMPTY_WORDS.iter().any(|word| word.as_bytes() == &part[..]));
        return last.cloned().unwrap_or_default().into();
    }
    let mut key = name.to_ascii_lowercase();
    match naming.affix {
        // A second instance of a snap has a key behind an underscore.
        Affix::Instance => key.truncate(memchr::memchr(b'_', &key).unwrap_or(key.len())),
        // The path of a module ends in its name, or in the number of its major version.
        Affix::ModulePath => {
            let mut parts: Vec<&[u8]> = key.split(|&b| b == b'/').collect();
            let is_major = |part: &&[u8]| part.len() > 1 && part[0] == b'v' && part[1..].iter().all(u8::is_ascii_digit);
            if parts.len() > 1 {
                parts.pop_if(|part| is_major(&&**part));
            }
            key = parts.last().copied().unwrap_or_default().to_vec();
        }
        // A formula of one version is called after it.
        Affix::Tap => {
            key = key.rsplit(|&b| b == b'/').next().unwrap_or_default().to_vec();
            key.truncate(memchr::memchr(b'@', &key).unwrap_or(key.len()));
        }
        Affix::Scope => key = key.rsplit(|&b| b == b'/').next().unwrap_or_default().to_vec(),
        Affix::Build => {
            if let Some(build) = BUILDS.iter().find(|build| key.ends_with(build.as_bytes()) && key.len() > build.len())
            {
                key.truncate(key.len() - build.len());
            }
        }
        Affix::None => {}
    }
    key.iter_mut().filter(|b| **b == b'_').for_each(|b| *b = b'-');
    key.into()
}

/// Whether it is an id such as `org.harbour.ChartDesk`.
pub fn is_reversed_domain(id: &[u8]) -> bool {
    const TOPS: [&str; 12] = ["org", "com", "net", "io", "de", "fr", "dev", "app", "me", "eu", "uk", "page"];
    let parts: Vec<&[u8]> = id.split(|&b| b == b'.').collect();
    parts.len() >= 3
        && TOPS.iter().any(|top| parts[0].eq_ignore_ascii_case(top.as_bytes()))
        && parts
            .iter()
            .all(|part| !part.is_empty() && part.iter().all(|b| b.is_ascii_alphanumeric() || b"_-".contains(b)))
}

/// An address without what does not matter: the scheme, `www.`, a slash or `.git` at its end, what is behind `#` or
/// `?`. A page of a registry or of a distribution says nothing of who is upstream.
pub fn address(address: &[u8]) -> Option<ByteString> {
    const REGISTRIES: [&str; 7] = [
        "pypi.org",
        "pypi.python.org",
        "npmjs.com",
        "crates.io",
        "rubygems.org",
        "packages.debian.org",
        "launchpad.net",
    ];
    let lower = address.to_ascii_lowercase();
    let rest = memchr::memmem::find(&lower, b"://").map_or(&lower[..], |at| &lower[at + 3..]);
    let rest = rest.strip_prefix(b"www.").unwrap_or(rest);
    let end = rest.iter().position(|b| b"#?".contains(b)).unwrap_or(rest.len());
    let rest = rest[..end].trim_ascii();
    let rest = rest.strip_suffix(b"/").unwrap_or(rest);
    let rest = rest.strip_suffix(b".git").unwrap_or(rest);
    let host = rest.split(|&b| b == b'/').next().unwrap_or_default();
    let is_registry = REGISTRIES.iter().any(|known| known.as_bytes() == host);
    (!is_registry && host.contains(&b'.')).then(|| rest.into())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::managers;

    fn naming_of(name: &str) -> Naming {
        managers::ALL.iter().find(|manager| manager.id().0 == name).unwrap().profile().naming
    }

    #[test]
    fn names_lose_what_managers_add() {
        for (manager, name, key) in [
            ("flatpak", "org.harbour.ChartDesk", "chartdesk"),
            ("flatpak", "com.quay.Tide.App", "tide"),
            ("snap", "chartdesk_beta", "chartdesk"),
            ("pacman", "swellplot-git", "swellplot"),
            ("go", "quay.example/tools/tarn/v2", "tarn"),
            ("npm", "@harbour/BuoyTrack", "buoytrack"),
            ("homebrew", "harbour/tap/almanac@2", "almanac"),
            ("pip", "Swell_Plot", "swell-plot"),
            ("dpkg", "libknots2", "libknots2"),
        ] {
            assert_eq!(key_of(naming_of(manager), name.as_bytes()).to_string(), key, "{name}");
        }
        for (manager, name, expected) in [
            ("dpkg", "python3-mooring", Some((Language::Python, "mooring"))),
            ("nix", "python3.11-mooring", Some((Language::Python, "mooring"))),
            ("macports", "py311-mooring", Some((Language::Python, "mooring"))),
            ("dpkg", "libtide-gauge-perl", Some((Language::Perl, "tide-gauge"))),
            ("cpan", "Tide::Gauge", Some((Language::Perl, "tide-gauge"))),
            ("flatpak", "python3-mooring", None),
            ("dpkg", "mooring", None),
            ("pip", "Mooring", Some((Language::Python, "mooring"))),
        ] {
            let expected = expected.map(|(language, name)| (language, ByteString::from(name)));
            assert_eq!(language_of(naming_of(manager), name.as_bytes()), expected, "{name}");
        }
        for (given, expected) in [
            ("https://www.quay.example/tide/#top", Some("quay.example/tide")),
            ("git://quay.example/tide.git", Some("quay.example/tide")),
            ("https://pypi.org/project/tide/", None),
            ("UNKNOWN", None),
        ] {
            assert_eq!(address(given.as_bytes()), expected.map(ByteString::from), "{given}");
        }
    }
}
