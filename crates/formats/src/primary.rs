//! What a repository of rpm's family offers: `primary.xml` (the metadata that `createrepo` makes).

use std::io::BufRead;

use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};

/// One package.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Primary {
    /// Its name.
    pub name: String,
    /// Its architecture.
    pub arch: String,
    /// `[EPOCH:]VERSION-RELEASE`; an epoch of 0 is left out.
    pub version: String,
    /// What it says of itself, in a line.
    pub summary: String,
    /// Bytes once installed.
    pub installed: Option<u64>,
}

/// Hands every package to `take`.
///
/// # Errors
/// Where the document breaks off, or breaks the rules of XML; what stood before has been handed on.
pub fn each(stream: impl BufRead, take: &mut dyn FnMut(Primary)) -> Result<(), quick_xml::Error> {
    let mut reader = Reader::from_reader(stream);
    let (mut buffer, mut one, mut inside) = (Vec::new(), Primary::default(), Inside::Other);
    let mut open = 0_u32;
    loop {
        match reader.read_event_into(&mut buffer)? {
            Event::Start(tag) => {
                open += 1;
                inside = begin(&tag, &mut one);
            }
            Event::Empty(tag) => {
                begin(&tag, &mut one);
            }
            Event::Text(text) => add(&mut one, inside, &text),
            Event::GeneralRef(name) => add(&mut one, inside, plain(&name)),
            Event::End(tag) => {
                open = open.saturating_sub(1);
                inside = Inside::Other;
                if tag.name().as_ref() == "package" {
                    take(std::mem::take(&mut one));
                }
            }
            // The document itself must have been closed.
            Event::Eof if open > 0 => {
                let cut = quick_xml::errors::SyntaxError::UnclosedTag;
                return Err(cut.into());
            }
            Event::Eof => return Ok(()),
            _ => {}
        }
        buffer.clear();
    }
}

/// What one of XML's own five names stands for.
pub fn plain(name: &str) -> &'static str {
    match name {
        "amp" => "&",
        "lt" => "<",
        "gt" => ">",
        "quot" => "\"",
        "apos" => "'",
        _ => "",
    }
}

#[derive(Clone, Copy)]
enum Inside {
    Name,
    Arch,
    Summary,
    Other,
}

fn add(one: &mut Primary, inside: Inside, text: &str) {
    match inside {
        Inside::Name => one.name.push_str(text),
        Inside::Arch => one.arch.push_str(text),
        Inside::Summary => one.summary.push_str(text),
        Inside::Other => {}
    }
}

fn begin(tag: &BytesStart<'_>, one: &mut Primary) -> Inside {
    let value = |name: &str| {
        let attribute = tag.try_get_attribute(name).ok().flatten()?;
        Some(attribute.value.into_owned())
    };
    match tag.name().as_ref() {
        "package" => *one = Primary::default(),
        "name" => return Inside::Name,
        "arch" => return Inside::Arch,
        "summary" => return Inside::Summary,
        "version" => {
            let epoch =
                value("epoch").filter(|epoch| epoch != "0").map(|epoch| format!("{epoch}:")).unwrap_or_default();
            let release = value("rel").map(|release| format!("-{release}")).unwrap_or_default();
            one.version = format!("{epoch}{}{release}", value("ver").unwrap_or_default());
        }
        "size" => one.installed = value("installed").and_then(|size| size.parse().ok()),
        _ => {}
    }
    Inside::Other
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packages_are_read_and_a_cut_is_an_error() {
        let document = "<metadata packages=\"1\"><package type=\"rpm\"><name>buoy</name><arch>noarch</arch><version epoch=\"3\" ver=\"2.0\" rel=\"1\"/><summary>rope &amp; chain</summary><size installed=\"4\"/><format><rpm:entry name=\"x\"/></format></package></metadata>";
        let mut found = Vec::new();
        each(document.as_bytes(), &mut |one| found.push(one)).unwrap();
        let one = Primary {
            name: "buoy".to_owned(),
            arch: "noarch".to_owned(),
            version: "3:2.0-1".to_owned(),
            summary: "rope & chain".to_owned(),
            installed: Some(4),
        };
        assert_eq!(found, [one]);
        for end in 10..document.len() {
            assert!(each(&document.as_bytes()[..end], &mut |_| {}).is_err(), "{end}");
        }
    }
}
