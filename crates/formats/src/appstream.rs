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
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Inside {
    Id,
    Name,
    Summary,
    Developer,
    Bundle,
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
        "release" if one.version.is_none() => one.version = value("version"),
        _ => {}
    }
    Inside::Other
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
