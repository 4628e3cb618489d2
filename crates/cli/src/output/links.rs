//! Addresses and paths that a terminal opens: the escape sequence `OSC 8`, where the terminal is known to have it.
//!
//! What is seen stays as it is, and leads where it says: only whole words that are an address or a path are links.

use std::io::{self, Write};

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, percent_encode};
use whodunit_core::bytes::ByteString;
use whodunit_core::host::Host;

/// What may stand in a path of an address (RFC 3986): letters, digits, and these.
const NOT_IN_PATHS: &AsciiSet = &NON_ALPHANUMERIC.remove(b'/').remove(b'-').remove(b'_').remove(b'.').remove(b'~');

/// A path as an address (RFC 8089), with a host's name or none; every byte that may not stand there by itself is escaped.
pub(super) fn address(host: &[u8], path: &[u8]) -> String {
    format!("file://{}{}", percent_encode(host, NOT_IN_PATHS), percent_encode(path, NOT_IN_PATHS))
}

/// What ends a sentence or a list, and no address.
const BEHIND: [char; 6] = [',', ';', ':', '.', ')', '…'];

/// Which words are links.
#[derive(Debug, Clone, Default)]
pub struct Links {
    /// Whether there are any.
    pub wanted: bool,
    /// The machine whose files paths lead to; none where they are not those of this machine.
    pub host: Option<ByteString>,
}

impl Links {
    /// Where the terminal has links. `is_colored` is whether escape sequences are wanted at all.
    pub fn of_terminal(is_colored: bool) -> Self {
        Links { wanted: is_colored && supports_hyperlinks::on(supports_hyperlinks::Stream::Stdout), host: None }
    }

    /// With paths as links, if they are those of the running machine.
    pub fn to_files_of(&self, host: &Host) -> Self {
        let host = if host.root.is_live() { host.hostname() } else { None };
        Links { wanted: self.wanted, host }
    }

    /// Writes a text of which its links lead somewhere. `is_cut` is whether more of its last word was left out.
    pub fn write(&self, out: &mut impl Write, text: &str, is_cut: bool) -> io::Result<()> {
        if !self.wanted {
            return out.write_all(text.as_bytes());
        }
        let mut rest = text;
        while !rest.is_empty() {
            let start = rest.find(|c: char| !c.is_whitespace()).unwrap_or(rest.len());
            let (blanks, behind) = rest.split_at(start);
            let end = behind.find(char::is_whitespace).unwrap_or(behind.len());
            let (word, behind) = behind.split_at(end);
            out.write_all(blanks.as_bytes())?;
            let open = word.len() - word.trim_start_matches(['(', '\'', '"']).len();
            let (before, word) = word.split_at(open);
            let (word, after) = word.split_at(word.trim_end_matches(BEHIND).trim_end_matches(['\'', '"']).len());
            let target = if is_cut && behind.is_empty() { None } else { self.target(word) };
            match target {
                Some(target) => write!(out, "{before}\x1b]8;;{target}\x1b\\{word}\x1b]8;;\x1b\\{after}")?,
                None => write!(out, "{before}{word}{after}")?,
            }
            rest = behind;
        }
        Ok(())
    }

    /// Where a word leads.
    fn target(&self, word: &str) -> Option<String> {
        let is_address =
            ["https://", "http://"].iter().any(|scheme| word.starts_with(scheme) && word.len() > scheme.len());
        // What is shown escaped is no path any more.
        let is_path =
            word.len() > 1 && word.starts_with('/') && !word.starts_with("//") && !word.contains(['\\', '*', '…']);
        match &self.host {
            _ if is_address => word.is_ascii().then(|| word.to_owned()),
            Some(host) if is_path => Some(address(host, word.as_bytes())),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_of_any_bytes_are_addresses() {
        assert_eq!(address(b"", b"/usr/bin/a b\xff%"), "file:///usr/bin/a%20b%FF%25");
    }

    #[test]
    fn whole_addresses_and_paths_are_links_and_nothing_else_is() {
        let here = Links { wanted: true, host: Some("lantern".into()) };
        let link = |target: &str, text: &str| format!("\x1b]8;;{target}\x1b\\{text}\x1b]8;;\x1b\\");
        let shown = |links: &Links, text: &str, is_cut: bool| {
            let mut out = Vec::new();
            links.write(&mut out, text, is_cut).unwrap();
            String::from_utf8(out).unwrap()
        };
        let tarn = link("file://lantern/usr/bin/tarn", "/usr/bin/tarn");
        for (text, expected) in [
            ("/usr/bin/tarn", tarn.clone()),
            ("  (/usr/bin/tarn), line 4 ", format!("  ({tarn}), line 4 ")),
            ("sudo rm -- '/usr/bin/tarn'", format!("sudo rm -- '{tarn}'")),
            (
                "from https://tarn.example/a?b.",
                format!("from {}.", link("https://tarn.example/a?b", "https://tarn.example/a?b")),
            ),
            ("/opt/50%", link("file://lantern/opt/50%25", "/opt/50%")),
            // Names, halves, what is escaped, and what may be more than one file.
            (
                "dpkg/system/tarn / // https:// /opt/\\u{1b}x /opt/*.d and/or",
                "dpkg/system/tarn / // https:// /opt/\\u{1b}x /opt/*.d and/or".to_owned(),
            ),
            ("https://tärn.example", "https://tärn.example".to_owned()),
        ] {
            assert_eq!(shown(&here, text, false), expected, "{text}");
        }
        assert_eq!(shown(&here, "/usr/bin/tarn /usr/bi", true), format!("{tarn} /usr/bi"));
        let elsewhere = Links { wanted: true, host: None };
        assert_eq!(shown(&elsewhere, "/usr/bin/tarn", false), "/usr/bin/tarn");
        assert_eq!(shown(&Links::default(), "https://tarn.example", false), "https://tarn.example");
    }
}
