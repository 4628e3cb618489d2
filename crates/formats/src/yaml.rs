//! YAML as a tree of texts (YAML 1.2, the representation graph without types).
//!
//! Scalars stay as they are written: `4.0` is the text `4.0` and no number. References to anchors stand for
//! nothing, so that a small file cannot grow large.

use saphyr_parser::{Event, Parser};

/// A node of the tree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Node {
    /// A scalar, as written.
    Text(String),
    /// A list.
    List(Vec<Node>),
    /// A map; keys that are no scalars are left out.
    Map(Vec<(String, Node)>),
}

/// What stands between two documents of a file (YAML 1.2, "Bare documents").
pub const SEPARATOR: &str = "\n---\n";

/// Deeper than any real file.
const MAX_DEPTH: usize = 32;

impl Node {
    /// Reads the first document of a file.
    ///
    /// # Errors
    /// In words, with the place, when it is no YAML or is too deep.
    pub fn parse(text: &str) -> Result<Node, String> {
        let mut open: Vec<(Node, Option<String>)> = Vec::new();
        for event in Parser::new_from_str(text) {
            let (event, _) = event.map_err(|error| error.to_string())?;
            let done = match event {
                Event::Scalar(text, ..) => Some(Node::Text(text.into_owned())),
                Event::Alias(_) => Some(Node::Text(String::new())),
                Event::SequenceStart(..) => {
                    open.push((Node::List(Vec::new()), None));
                    None
                }
                Event::MappingStart(..) => {
                    open.push((Node::Map(Vec::new()), None));
                    None
                }
                Event::SequenceEnd | Event::MappingEnd => open.pop().map(|(node, _)| node),
                Event::DocumentEnd => break,
                _ => None,
            };
            if open.len() > MAX_DEPTH {
                return Err("nested too deep".to_owned());
            }
            let Some(node) = done else { continue };
            match open.last_mut() {
                None => return Ok(node),
                Some((Node::List(list), _)) => list.push(node),
                Some((Node::Map(map), key)) => match (key.take(), node) {
                    (Some(key), value) => map.push((key, value)),
                    (None, Node::Text(text)) => *key = Some(text),
                    (None, _) => *key = Some(String::new()),
                },
                Some((Node::Text(_), _)) => {}
            }
        }
        Err("it contains no document".to_owned())
    }

    /// The value under a key of a map.
    #[must_use]
    pub fn get(&self, key: &str) -> Option<&Node> {
        match self {
            Node::Map(map) => map.iter().find(|(name, _)| name == key).map(|(_, value)| value),
            _ => None,
        }
    }

    /// The text of a scalar.
    #[must_use]
    pub fn text(&self) -> Option<&str> {
        match self {
            Node::Text(text) => Some(text),
            _ => None,
        }
    }

    /// The text under a key.
    #[must_use]
    pub fn text_at(&self, key: &str) -> Option<&str> {
        self.get(key).and_then(Node::text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn scalars_stay_as_written() {
        let node =
            Node::parse("name: skerry\nversion: 4.0\napps:\n  ctl: {command: bin/ctl, plugs: [home, network]}\n")
                .unwrap();
        assert_eq!((node.text_at("name"), node.text_at("version")), (Some("skerry"), Some("4.0")));
        let apps = node.get("apps").unwrap();
        assert_eq!(apps.get("ctl").unwrap().text_at("command"), Some("bin/ctl"));
        assert!(Node::parse("").is_err() && Node::parse("a: [").is_err());
        assert!(Node::parse(&"[".repeat(100)).is_err());
    }

    proptest::proptest! {
        #[test]
        fn any_text_is_read_without_panic(text: String) {
            let _ = Node::parse(&text);
        }
    }
}
