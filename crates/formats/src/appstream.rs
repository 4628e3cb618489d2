//! Catalogues of software: *AppStream*, "Catalog XML".
//!
//! Each component has an id, names in several languages, releases with the newest first, and the bundle by which it is
//! installed.

use std::io::BufRead;

use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};

/// One component.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Component {
    /// Its id.
    pub id: String,
    /// Its name, without regard to language.
    pub name: String,
    /// What it is, in a line.
    pub summary: String,
    /// Who makes it.
    pub developer: String,
    /// The kind of bundle, and its name.
    pub bundle: Option<(String, String)>,
    /// The newest version.
    pub version: Option<String>,
    /// The package of the distribution that brings it.
    pub package: String,
    /// The address of upstream.
    pub homepage: String,
    /// The licence of the project.
    pub license: String,
    /// Keywords, and names and summaries in other languages.
    pub keywords: Vec<String>,
    /// Commands that it provides.
    pub binaries: Vec<String>,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Inside {
    Id,
    Name,
    Summary,
    Developer,
    Bundle,
    Package,
    Homepage,
    License,
    Keyword,
    Binary,
    Other,
}

/// Hands every component to `take`.
///
/// # Errors
/// Where the document breaks off, or breaks the rules of XML; what stood before has been handed on.
pub fn each(stream: impl BufRead, take: &mut dyn FnMut(Component)) -> Result<(), quick_xml::Error> {
    let mut reader = Reader::from_reader(stream);
    let (mut buffer, mut one, mut inside) = (Vec::new(), Component::default(), Inside::Other);
    let mut path: Vec<String> = Vec::new();
    loop {
        match reader.read_event_into(&mut buffer)? {
            Event::Start(tag) => {
                path.push(tag.name().as_ref().to_owned());
                inside = begin(&tag, &path, &mut one);
            }
            Event::Empty(tag) => {
                path.push(tag.name().as_ref().to_owned());
                begin(&tag, &path, &mut one);
                path.pop();
            }
            Event::Text(text) => add(&mut one, inside, &text),
            Event::GeneralRef(name) => add(&mut one, inside, super::primary::plain(&name)),
            Event::End(tag) => {
                path.pop();
                inside = Inside::Other;
                if tag.name().as_ref() == "component" {
                    take(std::mem::take(&mut one));
                }
            }
            Event::Eof if !path.is_empty() => return Err(quick_xml::errors::SyntaxError::UnclosedTag.into()),
            Event::Eof => return Ok(()),
            _ => {}
        }
        buffer.clear();
    }
}

fn begin(tag: &BytesStart<'_>, path: &[String], one: &mut Component) -> Inside {
    let value = |name: &str| tag.try_get_attribute(name).ok().flatten().map(|attribute| attribute.value.into_owned());
    let is_plain = value("xml:lang").is_none();
    let parent = path.len().checked_sub(2).map(|at| path[at].as_str());
    match tag.name().as_ref() {
        "component" => *one = Component::default(),
        "id" if parent == Some("component") => return Inside::Id,
        "name" if parent == Some("component") && is_plain && one.name.is_empty() => return Inside::Name,
        "name" if parent == Some("developer") && is_plain => return Inside::Developer,
        "developer_name" if is_plain => return Inside::Developer,
        "summary" if parent == Some("component") && is_plain => return Inside::Summary,
        "bundle" => {
            one.bundle = Some((value("type").unwrap_or_default(), String::new()));
            return Inside::Bundle;
        }
        "name" | "summary" if parent == Some("component") && !is_plain => return keyword(one),
        "keyword" if parent == Some("keywords") => return keyword(one),
        "binary" if parent == Some("provides") => {
            one.binaries.push(String::new());
            return Inside::Binary;
        }
        "pkgname" if parent == Some("component") => return Inside::Package,
        "project_license" if parent == Some("component") => return Inside::License,
        "url" if parent == Some("component") && value("type").as_deref() == Some("homepage") => {
            return Inside::Homepage;
        }
        "release" if one.version.is_none() => one.version = value("version"),
        _ => {}
    }
    Inside::Other
}

/// The most keywords of one component that are kept; translations are in up to a hundred languages.
pub(crate) const MAX_KEYWORDS: usize = 4096;

fn keyword(one: &mut Component) -> Inside {
    if one.keywords.len() >= MAX_KEYWORDS {
        return Inside::Other;
    }
    one.keywords.push(String::new());
    Inside::Keyword
}

fn add(one: &mut Component, inside: Inside, text: &str) {
    match inside {
        Inside::Id => one.id.push_str(text),
        Inside::Name => one.name.push_str(text),
        Inside::Summary => one.summary.push_str(text),
        Inside::Developer => one.developer.push_str(text),
        Inside::Bundle => {
            if let Some((_, name)) = &mut one.bundle {
                name.push_str(text.trim());
            }
        }
        Inside::Package => one.package.push_str(text.trim()),
        Inside::Homepage => one.homepage.push_str(text.trim()),
        Inside::License => one.license.push_str(text),
        Inside::Keyword => {
            if let Some(word) = one.keywords.last_mut() {
                word.push_str(text);
            }
        }
        Inside::Binary => {
            if let Some(name) = one.binaries.last_mut() {
                name.push_str(text.trim());
            }
        }
        Inside::Other => {}
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_plain_name_and_the_newest_release_count() {
        let document = "<components version=\"0.8\"><component type=\"desktop\"><id>org.harbour.ChartDesk</id><name xml:lang=\"de\">Kartentisch</name><name>Chart &amp; Desk</name><developer id=\"x\"><name>Quay</name></developer><provides><id>old</id></provides><releases><release version=\"3.2.0\"/><release version=\"3.1.0\"/></releases><bundle type=\"flatpak\">app/org.harbour.ChartDesk/x86_64/stable</bundle></component></components>";
        let mut found = Vec::new();
        each(document.as_bytes(), &mut |one| found.push(one)).unwrap();
        assert_eq!(found.len(), 1);
        assert_eq!((found[0].id.as_str(), found[0].name.as_str()), ("org.harbour.ChartDesk", "Chart & Desk"));
        assert_eq!((found[0].version.as_deref(), found[0].developer.as_str()), (Some("3.2.0"), "Quay"));
        assert_eq!(found[0].bundle.as_ref().unwrap().1, "app/org.harbour.ChartDesk/x86_64/stable");
        for end in 20..document.len() {
            assert!(each(&document.as_bytes()[..end], &mut |_| {}).is_err(), "{end}");
        }
    }
}
