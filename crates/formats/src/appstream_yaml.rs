//! Catalogues of software in YAML: *AppStream*, "Catalog YAML" (DEP-11), as distributions make them of their packages.
//!
//! A file is a row of documents: a header, then one for each component. Texts come in several languages, by their codes;
//! `C` is the one without regard to language.

use crate::appstream::{Component, MAX_KEYWORDS};
use crate::yaml::Node;

/// The texts of a map from languages to texts or lists of them, the plain one first.
fn translations(node: Option<&Node>) -> Vec<&str> {
    let Some(Node::Map(languages)) = node else { return Vec::new() };
    let mut found: Vec<(bool, &str)> = Vec::new();
    for (language, value) in languages {
        let is_other = language != "C";
        match value {
            Node::Text(text) => found.push((is_other, text)),
            Node::List(list) => found.extend(list.iter().filter_map(Node::text).map(|text| (is_other, text))),
            Node::Map(_) => {}
        }
    }
    found.sort_by_key(|(is_other, _)| *is_other);
    found.into_iter().map(|(_, text)| text).take(MAX_KEYWORDS).collect()
}

/// The component of one document; `None` for the header.
///
/// # Errors
/// In words, with the place, when it is no YAML.
pub fn component(document: &str) -> Result<Option<Component>, String> {
    let node = Node::parse(document)?;
    let Some(id) = node.text_at("ID") else { return Ok(None) };
    let text = |key: &str| node.text_at(key).unwrap_or_default().to_owned();
    let plain = |key: &str| node.get(key).and_then(|map| map.text_at("C")).unwrap_or_default().to_owned();
    let mut keywords: Vec<String> = Vec::new();
    for (key, is_shown) in [("Name", true), ("Summary", true), ("Keywords", false)] {
        let all = translations(node.get(key));
        keywords.extend(all.into_iter().skip(usize::from(is_shown)).map(str::to_owned));
    }
    let provided = |key: &str| match node.get("Provides").and_then(|provides| provides.get(key)) {
        Some(Node::List(list)) => list.iter().filter_map(Node::text).map(str::to_owned).collect(),
        _ => Vec::new(),
    };
    let developer = node.get("Developer").and_then(|one| one.get("name")).and_then(|name| name.text_at("C"));
    Ok(Some(Component {
        id: id.to_owned(),
        name: plain("Name"),
        summary: plain("Summary"),
        developer: developer.map_or_else(|| plain("DeveloperName"), str::to_owned),
        bundle: None,
        version: match node.get("Releases") {
            Some(Node::List(list)) => list.first().and_then(|one| one.text_at("version")).map(str::to_owned),
            _ => None,
        },
        package: text("Package"),
        homepage: node.get("Url").and_then(|url| url.text_at("homepage")).unwrap_or_default().to_owned(),
        license: text("ProjectLicense"),
        keywords,
        binaries: provided("binaries"),
    }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_component_has_its_plain_texts_and_the_others_as_keywords() {
        let document = "Type: desktop-application\nID: org.harbour.ChartDesk\nPackage: chartdesk\nName:\n  de: Kartentisch\n  C: Chart Desk\nSummary:\n  C: \"Plot: charts\"\nDeveloperName:\n  C: Quay\nProjectLicense: MIT\nKeywords:\n  C:\n  - sea\n  de: [See]\nUrl:\n  homepage: https://quay.example/\nProvides:\n  binaries:\n  - chartdesk\n  mimetypes: [image/tide]\nReleases:\n- version: '3.1'\n- version: 3.0\n";
        let one = component(document).unwrap().unwrap();
        assert_eq!((one.id.as_str(), one.package.as_str()), ("org.harbour.ChartDesk", "chartdesk"));
        assert_eq!((one.name.as_str(), one.summary.as_str()), ("Chart Desk", "Plot: charts"));
        assert_eq!((one.developer.as_str(), one.license.as_str()), ("Quay", "MIT"));
        assert_eq!(one.keywords, ["Kartentisch", "sea", "See"]);
        assert_eq!((&one.binaries[..], one.version.as_deref()), (&["chartdesk".to_owned()][..], Some("3.1")));
        assert_eq!(component("File: DEP-11\nVersion: '0.16'\n"), Ok(None));
        for broken in ["", "ID: [", "Name: {C: x"] {
            assert!(component(broken).is_err(), "{broken}");
        }
        // Where a value is of another kind than it should be, only that value is missing.
        let odd = component("ID: tide\nName: [x]\nSummary: 7\nProvides: 3\nReleases: {}\nKeywords: {C: {}}\n")
            .unwrap()
            .unwrap();
        assert_eq!(odd, Component { id: "tide".to_owned(), ..Component::default() });
    }
}
