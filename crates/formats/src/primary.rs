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
    /// The address of upstream.
    pub url: String,
    /// The licence.
    pub license: String,
    /// Who built it.
    pub vendor: String,
    /// Bytes to fetch.
    pub package: Option<u64>,
    /// Bytes once installed.
    pub installed: Option<u64>,
    /// Files; the document lists those of programs and settings, and not all others.
    pub files: Vec<String>,
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
    Url,
    License,
    Vendor,
    File,
    Other,
}

fn add(one: &mut Primary, inside: Inside, text: &str) {
    match inside {
        Inside::Name => one.name.push_str(text),
        Inside::Arch => one.arch.push_str(text),
        Inside::Summary => one.summary.push_str(text),
        Inside::Url => one.url.push_str(text),
        Inside::License => one.license.push_str(text),
        Inside::Vendor => one.vendor.push_str(text),
        Inside::File => {
            if let Some(file) = one.files.last_mut() {
                file.push_str(text);
            }
        }
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
        "url" => return Inside::Url,
        "rpm:license" => return Inside::License,
        "rpm:vendor" => return Inside::Vendor,
        "file" if value("type").is_none() => {
            one.files.push(String::new());
            return Inside::File;
        }
        "version" => {
            let epoch =
                value("epoch").filter(|epoch| epoch != "0").map(|epoch| format!("{epoch}:")).unwrap_or_default();
            let release = value("rel").map(|release| format!("-{release}")).unwrap_or_default();
            one.version = format!("{epoch}{}{release}", value("ver").unwrap_or_default());
        }
        "size" => {
            one.package = value("package").and_then(|size| size.parse().ok());
            one.installed = value("installed").and_then(|size| size.parse().ok());
        }
        _ => {}
    }
    Inside::Other
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packages_are_read_and_a_cut_is_an_error() {
        let document = "<metadata packages=\"1\"><package type=\"rpm\"><name>buoy</name><arch>noarch</arch><version epoch=\"3\" ver=\"2.0\" rel=\"1\"/><summary>rope &amp; chain</summary><url>https://buoy.example</url><size package=\"3\" installed=\"4\"/><format><rpm:license>MIT</rpm:license><rpm:entry name=\"x\"/><file>/usr/bin/buoy</file><file>/etc/buoy</file><file type=\"dir\">/usr/bin/x</file></format></package></metadata>";
        let mut found = Vec::new();
        each(document.as_bytes(), &mut |one| found.push(one)).unwrap();
        let one = Primary {
            name: "buoy".to_owned(),
            arch: "noarch".to_owned(),
            version: "3:2.0-1".to_owned(),
            summary: "rope & chain".to_owned(),
            url: "https://buoy.example".to_owned(),
            license: "MIT".to_owned(),
            package: Some(3),
            installed: Some(4),
            files: vec!["/usr/bin/buoy".to_owned(), "/etc/buoy".to_owned()],
            ..Primary::default()
        };
        assert_eq!(found, [one]);
        for end in 10..document.len() {
            assert!(each(&document.as_bytes()[..end], &mut |_| {}).is_err(), "{end}");
        }
    }
}
