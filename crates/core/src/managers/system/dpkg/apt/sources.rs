//! The repositories that are configured: one-line (`*.list`) and stanzas (`*.sources`).

use crate::backend::index_settings::without_credentials;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::model::Loss;
use whodunit_formats::stanza::stanzas;

/// One address with one suite.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Source {
    /// The address, without a `/` at the end.
    pub url: ByteString,
    /// The suite; of a flat repository its path, which ends in `/`.
    pub suite: ByteString,
    /// Its components; none of a flat repository.
    pub components: Vec<ByteString>,
    /// The architectures, where they are restricted.
    pub architectures: Vec<ByteString>,
    /// Whether it is taken without a signature.
    pub trusted: bool,
    /// The keys that may sign it, where they are restricted.
    pub signed_by: Option<ByteString>,
    /// Whether it is used.
    pub enabled: bool,
    /// Where it is configured.
    pub file: ByteString,
    /// The line, counted from 1.
    pub line: u32,
}

/// Everything that is configured, in apt's order.
pub fn read(root: &Root, notes: &mut Vec<Loss>) -> Vec<Source> {
    let mut found = Vec::new();
    let mut files: Vec<ByteString> = vec!["/etc/apt/sources.list".into()];
    let dir = b"/etc/apt/sources.list.d";
    let names = root.names_in(dir);
    let told = |name: &ByteString| name.ends_with(b".list") || name.ends_with(b".sources");
    files.extend(
        names.iter().filter(|(name, kind)| told(name) && *kind != Kind::Dir).map(|(name, _)| path::join(dir, name)),
    );
    for file in files {
        match root.read(&file, Limit::SMALL) {
            Ok(content) if file.ends_with(b".sources") => stanza_form(&file, &content, &mut found),
            Ok(content) => line_form(&file, &content, &mut found),
            Err(error) if error.is_missing() => {}
            Err(error) => notes.push(Loss::unread(&error, "repositories are unknown")),
        }
    }
    found
}

fn bare(url: &[u8]) -> ByteString {
    let mut url = url;
    while url.len() > 1 && url.ends_with(b"/") {
        url = &url[..url.len() - 1];
    }
    url.into()
}

fn line_form(file: &ByteString, content: &[u8], found: &mut Vec<Source>) {
    for (number, line) in (1..).zip(content.split(|&b| b == b'\n')) {
        let line = line.split(|&b| b == b'#').next().unwrap_or_default().trim_ascii();
        let Some(rest) = line.strip_prefix(b"deb").filter(|rest| rest.first().is_some_and(u8::is_ascii_whitespace))
        else {
            continue;
        };
        let rest = rest.trim_ascii();
        let (options, rest) =
            match rest.strip_prefix(b"[").and_then(|inner| Some((inner, memchr::memchr(b']', inner)?))) {
                Some((inner, end)) => (&inner[..end], &inner[end + 1..]),
                None => (&b""[..], rest),
            };
        let option = |name: &str| {
            let mut words = options.split(u8::is_ascii_whitespace);
            words.find_map(|word| word.strip_prefix(name.as_bytes())?.strip_prefix(b"="))
        };
        let mut words = rest.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty());
        let (Some(url), Some(suite)) = (words.next(), words.next()) else { continue };
        found.push(Source {
            url: bare(url),
            suite: suite.into(),
            components: words.map(ByteString::from).collect(),
            architectures: option("arch")
                .iter()
                .flat_map(|list| list.split(|&b| b == b','))
                .map(ByteString::from)
                .collect(),
            trusted: option("trusted").is_some_and(is_yes),
            signed_by: option("signed-by").map(ByteString::from),
            enabled: true,
            file: file.clone(),
            line: number,
        });
    }
}

fn is_yes(value: &[u8]) -> bool {
    matches!(value.to_ascii_lowercase().as_slice(), b"yes" | b"true" | b"with" | b"on" | b"enable" | b"1")
}

fn stanza_form(file: &ByteString, content: &[u8], found: &mut Vec<Source>) {
    // Lines of remarks may stand anywhere, and do not end a stanza.
    let mut plain = Vec::with_capacity(content.len());
    for line in content.split_inclusive(|&b| b == b'\n') {
        if line.starts_with(b"#") {
            plain.extend_from_slice(b" \n");
        } else {
            plain.extend_from_slice(line);
        }
    }
    for stanza in stanzas(&plain) {
        let fields: Vec<_> = stanza.fields().flatten().collect();
        let value = |name: &str| {
            fields.iter().find(|field| field.name.eq_ignore_ascii_case(name.as_bytes())).map(|field| field.value)
        };
        let words = |name: &str| -> Vec<ByteString> {
            let value = stanza.whole(name).unwrap_or_default();
            value
                .split(|b| b.is_ascii_whitespace() || *b == b',')
                .filter(|word| !word.is_empty())
                .map(ByteString::from)
                .collect()
        };
        let is_off = value("Enabled").is_some_and(|value| !is_yes(value));
        if !words("Types").iter().any(|kind| **kind == *b"deb") {
            continue;
        }
        for url in words("URIs") {
            for suite in words("Suites") {
                found.push(Source {
                    url: bare(&url),
                    suite,
                    components: words("Components"),
                    architectures: words("Architectures"),
                    trusted: value("Trusted").is_some_and(is_yes),
                    signed_by: stanza.whole("Signed-By").map(ByteString::from),
                    enabled: !is_off,
                    file: file.clone(),
                    line: stanza.line,
                });
            }
        }
    }
}

/// Keys that may sign any repository which names none of its own.
pub fn open_keys(root: &Root, sources: &[Source]) -> Vec<String> {
    let Some(open) = sources.iter().find(|one| one.enabled && one.signed_by.is_none() && !one.trusted) else {
        return Vec::new();
    };
    let file = b"/etc/apt/trusted.gpg";
    let has_keys = root.target(file).is_ok_and(|meta| meta.kind == Kind::File && meta.size > 0);
    let says = format!(
        "its keys are trusted for every repository without signed-by, such as {}",
        without_credentials(&open.url)
    );
    has_keys.then(|| format!("{}: {says}", ByteString::from(&file[..]))).into_iter().collect()
}

/// Repositories that are configured twice, or whose content nobody vouches for.
pub fn source_notes(sources: &[Source]) -> Vec<String> {
    let mut found = Vec::new();
    for (place, one) in sources.iter().enumerate().filter(|(_, one)| one.enabled) {
        let at = |one: &Source| format!("{} line {}", one.file, one.line);
        if one.trusted {
            found.push(format!("{}: {} is accepted without a signature", at(one), without_credentials(&one.url)));
        }
        let same = |other: &&Source| {
            other.enabled
                && other.url == one.url
                && other.suite == one.suite
                && (one.components.is_empty() || other.components.iter().any(|part| one.components.contains(part)))
        };
        if let Some(first) = sources[..place].iter().find(same) {
            found.push(format!(
                "{}: {} {} is already configured in {}",
                at(one),
                without_credentials(&one.url),
                one.suite,
                at(first)
            ));
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_forms_are_read() {
        let mut found = Vec::new();
        let lines = b"# no\ndeb [arch=amd64,i386 signed-by=/k.gpg trusted=yes] http://quay.example/apt/ stable main extra # x\ndeb-src http://quay.example/apt stable main\ndebug\ndeb http://flat.example ./\n";
        line_form(&"/etc/apt/sources.list".into(), lines, &mut found);
        let stanza = b"# head\nTypes: deb deb-src\n# inside\nURIs: http://quay.example/apt https://two.example\nSuites: stable stable-updates\nComponents: main\nEnabled: yes\n\nTypes: deb\nURIs: http://off.example\nSuites: x\nComponents: y\nEnabled: no\n";
        stanza_form(&"/etc/apt/sources.list.d/quay.sources".into(), stanza, &mut found);
        let shown: Vec<String> = found
            .iter()
            .map(|one| format!("{} {} {} {}", one.url, one.suite, one.components.len(), one.line))
            .collect();
        assert_eq!(
            shown,
            [
                "http://quay.example/apt stable 2 2",
                "http://flat.example ./ 0 5",
                "http://quay.example/apt stable 1 1",
                "http://quay.example/apt stable-updates 1 1",
                "https://two.example stable 1 1",
                "https://two.example stable-updates 1 1",
                "http://off.example x 1 9",
            ]
        );
        assert_eq!(found[0].architectures.len(), 2);
        let said = source_notes(&found);
        assert_eq!(said.len(), 2, "{said:?}");
        assert!(
            said[0].contains("without a signature")
                && said[1].ends_with("already configured in /etc/apt/sources.list line 2"),
            "{said:?}"
        );
    }
}
