//! What a repository of rpm's family offers: `primary.xml` (the metadata that `createrepo` makes).

use std::borrow::Cow;
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
    /// What it provides; read by [`each_with_relations`], as the lists below.
    pub provides: Vec<Entry>,
    /// What it requires.
    pub requires: Vec<Entry>,
    /// What it recommends.
    pub recommends: Vec<Entry>,
    /// With what it is to be installed.
    pub supplements: Vec<Entry>,
}

impl Primary {
    /// `NAME-[EPOCH:]VERSION-RELEASE.ARCH`.
    #[must_use]
    pub fn in_full(&self) -> String {
        format!("{}-{}.{}", self.name, self.version, self.arch)
    }
}

/// One name in a list of what a package provides or needs.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Entry {
    /// A name, a file, or an expression in brackets.
    pub name: String,
    /// How a version compares: `<`, `<=`, `=`, `>=` or `>`.
    pub sign: Option<&'static str>,
    /// `[EPOCH:]VERSION[-RELEASE]`; an epoch of 0 is left out.
    pub version: String,
}

/// Hands every package to `take`, without what it provides and needs.
///
/// # Errors
/// Where the document breaks off, or breaks the rules of XML; what stood before has been handed on.
pub fn each(stream: impl BufRead, take: &mut dyn FnMut(Primary)) -> Result<(), quick_xml::Error> {
    read(stream, false, take)
}

/// Hands every package to `take`, with what it provides and needs.
///
/// # Errors
/// As of [`each`].
pub fn each_with_relations(stream: impl BufRead, take: &mut dyn FnMut(Primary)) -> Result<(), quick_xml::Error> {
    read(stream, true, take)
}

fn read(stream: impl BufRead, has_relations: bool, take: &mut dyn FnMut(Primary)) -> Result<(), quick_xml::Error> {
    let mut reader = Reader::from_reader(stream);
    let (mut buffer, mut one, mut inside) = (Vec::new(), Primary::default(), Inside::Other);
    let mut list: Option<fn(&mut Primary) -> &mut Vec<Entry>> = None;
    let mut open = 0_u32;
    loop {
        match reader.read_event_into(&mut buffer)? {
            Event::Start(tag) => {
                open += 1;
                inside = begin(&tag, &mut one);
                if has_relations && tag.name().as_ref().starts_with("rpm:") {
                    list = list_of(tag.name().as_ref());
                }
            }
            Event::Empty(tag) => {
                if tag.name().as_ref() == "rpm:entry" {
                    list.iter().for_each(|list| list(&mut one).push(entry(&tag)));
                }
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

fn value(tag: &BytesStart<'_>, name: &str) -> Option<String> {
    let attribute = tag.try_get_attribute(name).ok().flatten()?;
    Some(attribute.value.into_owned())
}

/// The list of relations that an element begins.
fn list_of(element: &str) -> Option<fn(&mut Primary) -> &mut Vec<Entry>> {
    match element {
        "rpm:provides" => Some(|one| &mut one.provides),
        "rpm:requires" => Some(|one| &mut one.requires),
        "rpm:recommends" => Some(|one| &mut one.recommends),
        "rpm:supplements" => Some(|one| &mut one.supplements),
        _ => None,
    }
}

/// A repository has millions of them: each is gone through once.
fn entry(tag: &BytesStart<'_>) -> Entry {
    let (mut entry, mut version) = (Entry::default(), Version::default());
    for attribute in tag.attributes().with_checks(false).flatten() {
        match attribute.key.as_ref() {
            "flags" => {
                entry.sign = match &*attribute.value {
                    "LT" => Some("<"),
                    "LE" => Some("<="),
                    "EQ" => Some("="),
                    "GE" => Some(">="),
                    "GT" => Some(">"),
                    _ => None,
                }
            }
            // Signs and quotes are written as references.
            "name" if attribute.value.contains('&') => {
                let name = quick_xml::escape::unescape(&attribute.value).map(Cow::into_owned);
                entry.name = name.unwrap_or_else(|_| attribute.value.into_owned());
            }
            "name" => entry.name = attribute.value.into_owned(),
            key => version.take(key, attribute.value),
        }
    }
    Entry { version: version.whole(), ..entry }
}

/// The parts of a version, as attributes have them.
#[derive(Default)]
struct Version<'t> {
    epoch: Option<Cow<'t, str>>,
    version: Option<Cow<'t, str>>,
    release: Option<Cow<'t, str>>,
}

impl<'t> Version<'t> {
    fn of(tag: &'t BytesStart<'_>) -> String {
        let mut version = Version::default();
        for attribute in tag.attributes().with_checks(false).flatten() {
            version.take(attribute.key.as_ref(), attribute.value);
        }
        version.whole()
    }

    fn take(&mut self, key: &str, value: Cow<'t, str>) {
        match key {
            "epoch" => self.epoch = Some(value),
            "ver" => self.version = Some(value),
            "rel" => self.release = Some(value),
            _ => {}
        }
    }

    /// `[EPOCH:]VERSION[-RELEASE]`.
    fn whole(self) -> String {
        let mut whole = String::new();
        if let Some(epoch) = self.epoch.filter(|epoch| epoch != "0") {
            whole.extend([&*epoch, ":"]);
        }
        whole.push_str(&self.version.unwrap_or_default());
        if let Some(release) = self.release {
            whole.extend(["-", &*release]);
        }
        whole
    }
}

fn begin(tag: &BytesStart<'_>, one: &mut Primary) -> Inside {
    let value = |name: &str| value(tag, name);
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
        "version" => one.version = Version::of(tag),
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

    #[test]
    fn relations_are_read_where_they_are_wanted() {
        let document = "<metadata><package type=\"rpm\"><name>buoy</name><format><rpm:provides><rpm:entry name=\"buoy\" flags=\"EQ\" epoch=\"3\" ver=\"2.0\" rel=\"1\"/></rpm:provides><rpm:requires><rpm:entry name=\"(chain &gt;= 1 if rope)\"/><rpm:entry name=\"rope\" flags=\"GE\" epoch=\"0\" ver=\"1\"/></rpm:requires><rpm:conflicts><rpm:entry name=\"rock\"/></rpm:conflicts><rpm:recommends/><rpm:supplements><rpm:entry name=\"quay\" flags=\"??\"/></rpm:supplements></format></package></metadata>";
        let entry =
            |name: &str, sign, version: &str| Entry { name: name.to_owned(), sign, version: version.to_owned() };
        let mut found = Vec::new();
        each_with_relations(document.as_bytes(), &mut |one| found.push(one)).unwrap();
        assert_eq!(found[0].provides, [entry("buoy", Some("="), "3:2.0-1")]);
        assert_eq!(found[0].requires, [entry("(chain >= 1 if rope)", None, ""), entry("rope", Some(">="), "1")]);
        assert_eq!((found[0].recommends.len(), &found[0].supplements[..]), (0, &[entry("quay", None, "")][..]));
        each(document.as_bytes(), &mut |one| assert!(one.requires.is_empty() && one.provides.is_empty())).unwrap();
    }
}
