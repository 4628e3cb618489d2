//! Modules of a repository of rpm's family: `modules.yaml` and `/etc/dnf/modules.defaults.d`, by *modulemd*
//! (`modulemd-v2`, `modulemd-defaults-v1`).
//!
//! A file is a row of documents. One describes a version of one stream of a module, and names the packages that belong
//! to it; another names the stream that counts where nobody has chosen one.

use crate::yaml::{Node, SEPARATOR};

/// What a document describes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Document {
    /// A version of a stream.
    Stream(Stream),
    /// The stream that counts by default.
    Default {
        /// The module.
        module: String,
        /// Its stream; none, where only profiles are given.
        stream: Option<String>,
        /// The date of the decision, as a number: of two, the greater counts.
        modified: u64,
    },
}

/// A version of one stream of a module.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stream {
    /// The module.
    pub module: String,
    /// The stream.
    pub stream: String,
    /// Modules that it requires, each with streams: any of them, any but those after a `-`, or, where none is named,
    /// any at all.
    pub requires: Vec<(String, Vec<String>)>,
    /// The packages that belong to it: `NAME-EPOCH:VERSION-RELEASE.ARCH`.
    pub packages: Vec<String>,
}

/// The documents of a file in their order, and how many of them are no YAML; documents of other kinds are left out.
#[must_use]
pub fn documents(text: &str) -> (Vec<Document>, usize) {
    let (mut found, mut damaged) = (Vec::new(), 0);
    // What stands before the first line of dashes is a document too, and mostly an empty one.
    for part in text.strip_prefix("---\n").unwrap_or(text).split(SEPARATOR).filter(|part| !part.trim().is_empty()) {
        match Node::parse(part) {
            Ok(node) => found.extend(document(&node)),
            Err(_) => damaged += 1,
        }
    }
    (found, damaged)
}

fn document(node: &Node) -> Option<Document> {
    let data = node.get("data")?;
    let text = |key: &str| data.text_at(key).map(str::to_owned);
    match node.text_at("document")? {
        "modulemd" => Some(Document::Stream(Stream {
            module: text("name")?,
            stream: text("stream")?,
            requires: list(data.get("dependencies")).iter().flat_map(requirements).collect(),
            packages: texts(data.get("artifacts").and_then(|artifacts| artifacts.get("rpms"))),
        })),
        "modulemd-defaults" => Some(Document::Default {
            module: text("module")?,
            stream: text("stream"),
            modified: data.text_at("modified").and_then(|date| date.parse().ok()).unwrap_or(0),
        }),
        _ => None,
    }
}

/// What one entry of the dependencies requires to run.
fn requirements(entry: &Node) -> Vec<(String, Vec<String>)> {
    let Some(Node::Map(map)) = entry.get("requires") else { return Vec::new() };
    map.iter().map(|(module, streams)| (module.clone(), texts(Some(streams)))).collect()
}

fn list(node: Option<&Node>) -> &[Node] {
    match node {
        Some(Node::List(list)) => list,
        _ => &[],
    }
}

fn texts(node: Option<&Node>) -> Vec<String> {
    list(node).iter().filter_map(Node::text).map(str::to_owned).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn streams_name_packages_and_needs_and_defaults_a_stream() {
        let text = "---\ndocument: modulemd\nversion: 2\ndata:\n  name: tide\n  stream: 4.0\n  description: >-\n    a\n\n    ---\n  \
            dependencies:\n  - requires: {platform: [el8], gull: []}\n  - requires:\n      buoy: [-1]\n  artifacts:\n    rpms:\n    - tide-0:4.0-1.x86_64\n...\n\
            ---\ndocument: modulemd-defaults\nversion: 1\ndata: {module: tide, stream: 4.0, modified: 20260101}\n---\n\
            document: modulemd-obsoletes\ndata: {module: tide}\n---\ndocument: [\n---\ndocument: modulemd\ndata: {name: odd}\n";
        let (found, damaged) = documents(text);
        let tide = Stream {
            module: "tide".to_owned(),
            stream: "4.0".to_owned(),
            requires: [("platform", &["el8"][..]), ("gull", &[]), ("buoy", &["-1"])]
                .map(|(name, streams)| (name.to_owned(), streams.iter().map(|one| (*one).to_owned()).collect()))
                .to_vec(),
            packages: vec!["tide-0:4.0-1.x86_64".to_owned()],
        };
        let usual =
            Document::Default { module: "tide".to_owned(), stream: Some("4.0".to_owned()), modified: 20_260_101 };
        assert_eq!((found, damaged), (vec![Document::Stream(tide), usual], 1));
        assert_eq!(documents(""), (Vec::new(), 0));
    }
}
