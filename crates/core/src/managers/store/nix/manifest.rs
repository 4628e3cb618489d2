//! What a profile holds, as `nix-env` (`manifest.nix`) and `nix profile` (`manifest.json`) record it.
//!
//! `manifest.nix` is one Nix list of attribute sets, of which only lists, sets, texts, numbers and
//! booleans occur; it is read as data and never evaluated. `manifest.json` has a version: 1 and 2 have a
//! list of elements, 3 an object keyed by their names. A later version is said, and not guessed at.

use std::collections::BTreeMap;

use serde::Deserialize;

use crate::bytes::ByteString;

/// One element of a profile.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Element {
    /// The name that the profile itself gives it.
    pub name: Option<ByteString>,
    /// Its version, where the profile has it apart from the name.
    pub version: Option<ByteString>,
    /// The outputs that are installed.
    pub paths: Vec<ByteString>,
    /// Whether its files are linked into the profile.
    pub active: bool,
    /// What was asked for.
    pub asked: Option<ByteString>,
    /// What that was locked to.
    pub locked: Option<ByteString>,
    /// The attribute in it.
    pub attribute: Option<ByteString>,
}

/// Reads `manifest.nix`.
///
/// # Errors
/// The place in the file, in bytes, where it is not what Nix writes.
pub fn of_nix_env(content: &[u8]) -> Result<Vec<Element>, usize> {
    let mut reader = Reader { content, at: 0, depth: 0 };
    let list = reader.value()?;
    let Value::List(list) = list else { return Err(0) };
    Ok(list.iter().filter_map(element).collect())
}

fn element(value: &Value) -> Option<Element> {
    let set = value.set()?;
    let text = |set: &BTreeMap<ByteString, Value>, key: &str| set.get(key.as_bytes()).and_then(Value::text);
    let out_path = |value: &Value| value.set().and_then(|set| text(set, "outPath"));
    let outputs: Vec<ByteString> = match set.get(&b"outputs"[..]) {
        Some(Value::List(names)) => {
            let paths = names.iter().filter_map(|name| set.get(name.text()?.as_bytes())).filter_map(out_path);
            paths.collect()
        }
        _ => Vec::new(),
    };
    let paths = if outputs.is_empty() { text(set, "outPath").into_iter().collect() } else { outputs };
    let flag = set.get(&b"meta"[..]).and_then(Value::set).and_then(|meta| meta.get(&b"active"[..]));
    let active =
        !matches!(flag, Some(Value::Bool(false))) && flag.and_then(Value::text).is_none_or(|flag| flag != *"false");
    Some(Element { name: text(set, "name"), paths, active, ..Element::default() })
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct JsonElement {
    #[serde(default = "yes")]
    active: bool,
    #[serde(default)]
    store_paths: Vec<String>,
    #[serde(alias = "originalUri")]
    original_url: Option<String>,
    #[serde(alias = "uri")]
    url: Option<String>,
    attr_path: Option<String>,
}

fn yes() -> bool {
    true
}

#[derive(Deserialize)]
struct Versioned {
    version: u64,
}

#[derive(Deserialize)]
struct Listed {
    elements: Vec<JsonElement>,
}

#[derive(Deserialize)]
struct Keyed {
    elements: BTreeMap<String, JsonElement>,
}

/// Reads `manifest.json`.
///
/// # Errors
/// In words: the version is not known, or the file is not what Nix writes.
pub fn of_nix_profile(content: &[u8]) -> Result<Vec<Element>, String> {
    let bad = |error: serde_json::Error| error.to_string();
    let version = serde_json::from_slice::<Versioned>(content).map_err(bad)?.version;
    let named: Vec<(Option<String>, JsonElement)> = match version {
        1 | 2 => {
            serde_json::from_slice::<Listed>(content).map_err(bad)?.elements.into_iter().map(|e| (None, e)).collect()
        }
        3 => serde_json::from_slice::<Keyed>(content)
            .map_err(bad)?
            .elements
            .into_iter()
            .map(|(k, e)| (Some(k), e))
            .collect(),
        other => return Err(format!("its version is {other}, and versions 1 to 3 are known")),
    };
    let element = |(name, element): (Option<String>, JsonElement)| Element {
        version: None,
        name: name.map(ByteString::from),
        paths: element.store_paths.into_iter().map(ByteString::from).collect(),
        active: element.active,
        asked: element.original_url.map(ByteString::from),
        locked: element.url.map(ByteString::from),
        attribute: element.attr_path.filter(|path| !path.is_empty()).map(ByteString::from),
    };
    Ok(named.into_iter().map(element).collect())
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Value {
    List(Vec<Value>),
    Set(BTreeMap<ByteString, Value>),
    Text(ByteString),
    Bool(bool),
    Other,
}

impl Value {
    fn text(&self) -> Option<ByteString> {
        match self {
            Value::Text(text) => Some(text.clone()),
            _ => None,
        }
    }

    fn set(&self) -> Option<&BTreeMap<ByteString, Value>> {
        match self {
            Value::Set(set) => Some(set),
            _ => None,
        }
    }
}

/// Deeper than any manifest, and shallow enough for any stack.
const MAX_DEPTH: usize = 64;

struct Reader<'a> {
    content: &'a [u8],
    at: usize,
    depth: usize,
}

impl Reader<'_> {
    fn peek(&mut self) -> Option<u8> {
        while self.content.get(self.at).is_some_and(u8::is_ascii_whitespace) {
            self.at += 1;
        }
        self.content.get(self.at).copied()
    }

    fn expect(&mut self, byte: u8) -> Result<(), usize> {
        if self.peek() == Some(byte) {
            self.at += 1;
            Ok(())
        } else {
            Err(self.at)
        }
    }

    fn value(&mut self) -> Result<Value, usize> {
        self.depth += 1;
        if self.depth > MAX_DEPTH {
            return Err(self.at);
        }
        let value = match self.peek().ok_or(self.at)? {
            b'[' => self.list()?,
            b'{' => self.set()?,
            b'"' => Value::Text(self.quoted()?),
            _ => match self.word() {
                b"" => return Err(self.at),
                b"true" => Value::Bool(true),
                b"false" => Value::Bool(false),
                _ => Value::Other,
            },
        };
        self.depth -= 1;
        Ok(value)
    }

    fn list(&mut self) -> Result<Value, usize> {
        self.expect(b'[')?;
        let mut list = Vec::new();
        while self.peek().ok_or(self.at)? != b']' {
            list.push(self.value()?);
        }
        self.at += 1;
        Ok(Value::List(list))
    }

    fn set(&mut self) -> Result<Value, usize> {
        self.expect(b'{')?;
        let mut set = BTreeMap::new();
        loop {
            let key = match self.peek().ok_or(self.at)? {
                b'}' => break,
                b'"' => self.quoted()?,
                _ => match self.word() {
                    b"" => return Err(self.at),
                    word => word.into(),
                },
            };
            self.expect(b'=')?;
            let value = self.value()?;
            self.expect(b';')?;
            set.insert(key, value);
        }
        self.at += 1;
        Ok(Value::Set(set))
    }

    fn word(&mut self) -> &[u8] {
        let start = self.at;
        let is_word = |b: &u8| b.is_ascii_alphanumeric() || b"_-'.+".contains(b);
        while self.content.get(self.at).is_some_and(is_word) {
            self.at += 1;
        }
        &self.content[start..self.at]
    }

    fn quoted(&mut self) -> Result<ByteString, usize> {
        self.expect(b'"')?;
        whodunit_formats::bytes::quoted(self.content, &mut self.at).map(ByteString::from).ok_or(self.at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_manifest_of_nix_env_is_read_as_data() {
        let text = br#"[ { meta = { active = "false"; priority = "3"; }; name = "osier-2.3.9"; out = { outPath = "/nix/store/a"; }; man = { outPath = "/nix/store/b"; }; outPath = "/nix/store/a"; outputs = [ "out" "man" ]; system = "x86_64-linux"; type = "derivation"; } { name = "tern-\"7\""; outPath = "/nix/store/c"; meta = { x = 1.5; y = true; "odd name" = [ ]; }; } ]"#;
        let read = of_nix_env(text).unwrap();
        let shown: Vec<_> =
            read.iter().map(|e| (e.name.clone().unwrap().to_string(), e.paths.len(), e.active)).collect();
        assert_eq!(shown, [("osier-2.3.9".to_owned(), 2, false), ("tern-\"7\"".to_owned(), 1, true)]);
        assert_eq!(of_nix_env(b"[ ]"), Ok(vec![]));
        for bad in ["", "{ }", "[ { a = ", "[ { a = (import x) ; } ]", "[ \"", &"[".repeat(100_000)] {
            assert!(of_nix_env(bad.as_bytes()).is_err(), "{bad:.20}");
        }
    }

    #[test]
    fn each_version_of_a_profile_manifest_is_read_and_later_ones_refused() {
        for (json, count) in [
            (
                r#"{"version":1,"elements":[{"active":true,"originalUri":"flake:a","uri":"b","attrPath":"c","storePaths":["/nix/store/x"]}]}"#,
                1,
            ),
            (
                r#"{"version":2,"elements":[{"active":false,"storePaths":["/nix/store/x","/nix/store/y"],"priority":5,"outputs":null}]}"#,
                2,
            ),
            (r#"{"version":3,"elements":{"osier":{"active":true,"storePaths":["/nix/store/x"]}}}"#, 1),
        ] {
            assert_eq!(of_nix_profile(json.as_bytes()).unwrap()[0].paths.len(), count, "{json}");
        }
        let later = of_nix_profile(br#"{"version":9,"elements":[]}"#).unwrap_err();
        assert!(later.contains("its version is 9"), "{later}");
        assert!(of_nix_profile(b"[]").is_err());
    }
}
