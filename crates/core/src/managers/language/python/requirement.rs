//! What a Python distribution requires (*Python Packaging User Guide*, "Dependency specifiers", from PEP 508):
//! `NAME [EXTRAS] (SPECIFIERS) ; MARKER`, or an address in the specifiers' place.
//!
//! A marker says on which machines and for which interpreters the requirement is meant. Both sides of a comparison are
//! compared as versions where they are such, else as text.
//!
//! Traps: parentheses around the specifiers are old but common; an `extra` is only asked for by somebody else's
//! requirement, so that without one the marker is false; quotes are of either kind.

use std::cmp::Ordering;

use crate::version::pep440;

/// One requirement.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Requirement {
    /// The name, in the form in which names are compared.
    pub name: Vec<u8>,
    /// The specifiers, such as `>=1.2,<2`; empty for any version, and for one from an address.
    pub specifiers: String,
    /// The marker; empty for none.
    pub marker: String,
}

/// What markers ask about.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Facts {
    /// `3.11`.
    pub python: String,
    /// `3.11.2`, where it is known.
    pub full_python: Option<String>,
    /// `x86_64`, as the system names it.
    pub machine: String,
}

impl Requirement {
    /// Parses one; `None` where it cannot be made out.
    ///
    /// ```
    /// use whodunit_core::managers::language::python::requirement::Requirement;
    /// let one = Requirement::parse("Swell_Plot[png] (>=1.2) ; python_version < '3.8'").unwrap();
    /// assert_eq!((&one.name[..], &*one.specifiers, &*one.marker), (&b"swell-plot"[..], ">=1.2", "python_version < '3.8'"));
    /// ```
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let text = text.trim();
        let is_name = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
        let end = text.find(|c| !is_name(c)).unwrap_or(text.len());
        let (name, mut rest) = text.split_at(end);
        if name.is_empty() {
            return None;
        }
        rest = rest.trim_start();
        if let Some(extras) = rest.strip_prefix('[') {
            rest = extras[extras.find(']')? + 1..].trim_start();
        }
        // An address ends where blanks and a semicolon stand, and may hold one itself.
        let (specifiers, marker) = match rest.strip_prefix('@') {
            Some(address) => ("", address.find(" ;").map_or("", |at| &address[at + 2..])),
            None => rest.split_once(';').unwrap_or((rest, "")),
        };
        let specifiers = specifiers.trim();
        let bare = specifiers.strip_prefix('(').and_then(|rest| rest.strip_suffix(')')).unwrap_or(specifiers).trim();
        pep440::are_specifiers(bare.as_bytes()).then(|| Requirement {
            name: pep440::normal_name(name.as_bytes()),
            specifiers: bare.to_owned(),
            marker: marker.trim().to_owned(),
        })
    }

    /// Whether it is meant for this interpreter; `None` where the marker asks what is not known or cannot be made out.
    #[must_use]
    pub fn applies(&self, facts: &Facts) -> Option<bool> {
        if self.marker.is_empty() {
            return Some(true);
        }
        let mut marker = Marker { rest: &self.marker, facts, deep: 0 };
        let holds = marker.either()?;
        marker.rest.trim().is_empty().then_some(holds)
    }

    /// Whether a version is one that it takes; pre-releases count as any other.
    #[must_use]
    pub fn takes(&self, version: &[u8]) -> bool {
        pep440::satisfies(version, self.specifiers.as_bytes())
    }
}

/// Markers do not go deeper.
const MAX_DEPTH: usize = 32;

/// A marker on its way through. Where it asks what is not known, nothing can be said of the whole.
struct Marker<'m> {
    rest: &'m str,
    facts: &'m Facts,
    deep: usize,
}

/// One side of a comparison.
enum Side {
    Text(String),
    Unknown,
}

impl Marker<'_> {
    fn either(&mut self) -> Option<bool> {
        let mut holds = self.both()?;
        while self.word("or") {
            let next = self.both()?;
            holds |= next;
        }
        Some(holds)
    }

    fn both(&mut self) -> Option<bool> {
        let mut holds = self.one()?;
        while self.word("and") {
            let next = self.one()?;
            holds &= next;
        }
        Some(holds)
    }

    fn word(&mut self, word: &str) -> bool {
        let rest = self.rest.trim_start();
        let Some(after) = rest.strip_prefix(word) else { return false };
        if after.starts_with(|c: char| c.is_ascii_alphanumeric() || c == '_') {
            return false;
        }
        self.rest = after;
        true
    }

    fn one(&mut self) -> Option<bool> {
        self.rest = self.rest.trim_start();
        if let Some(inner) = self.rest.strip_prefix('(') {
            self.deep += 1;
            if self.deep > MAX_DEPTH {
                return None;
            }
            self.rest = inner;
            let holds = self.either()?;
            self.rest = self.rest.trim_start().strip_prefix(')')?;
            self.deep -= 1;
            return Some(holds);
        }
        let left = self.side()?;
        let operator = self.operator()?;
        let right = self.side()?;
        let (Side::Text(left), Side::Text(right)) = (left, right) else { return None };
        Some(compare(&left, operator, &right))
    }

    fn operator(&mut self) -> Option<&'static str> {
        const SIGNS: [&str; 8] = ["===", "<=", ">=", "==", "!=", "~=", "<", ">"];
        self.rest = self.rest.trim_start();
        if let Some(sign) = SIGNS.iter().find(|sign| self.rest.starts_with(**sign)) {
            self.rest = &self.rest[sign.len()..];
            return Some(sign);
        }
        if self.word("in") {
            return Some("in");
        }
        (self.word("not") && self.word("in")).then_some("not in")
    }

    fn side(&mut self) -> Option<Side> {
        self.rest = self.rest.trim_start();
        let quote = self.rest.chars().next()?;
        if matches!(quote, '"' | '\'') {
            let inner = &self.rest[1..];
            let end = inner.find(quote)?;
            self.rest = &inner[end + 1..];
            return Some(Side::Text(inner[..end].to_owned()));
        }
        let end =
            self.rest.find(|c: char| !c.is_ascii_alphanumeric() && c != '_' && c != '.').unwrap_or(self.rest.len());
        let (name, rest) = self.rest.split_at(end);
        self.rest = rest;
        let known = match name {
            "python_version" => Some(self.facts.python.clone()),
            "python_full_version" | "implementation_version" => self.facts.full_python.clone(),
            "os_name" | "os.name" => Some("posix".to_owned()),
            "sys_platform" | "sys.platform" => Some("linux".to_owned()),
            "platform_system" => Some("Linux".to_owned()),
            "platform_machine" | "platform.machine" => Some(self.facts.machine.clone()),
            "implementation_name" => Some("cpython".to_owned()),
            "platform_python_implementation" | "platform.python_implementation" | "python_implementation" => {
                Some("CPython".to_owned())
            }
            "extra" => Some(String::new()),
            _ => None,
        };
        Some(known.map_or(Side::Unknown, Side::Text))
    }
}

fn compare(left: &str, operator: &str, right: &str) -> bool {
    match operator {
        "in" => return right.contains(left),
        "not in" => return !right.contains(left),
        _ => {}
    }
    let specifier = format!("{operator}{right}");
    if let Some(holds) = pep440::judged(left.as_bytes(), specifier.as_bytes()) {
        return holds;
    }
    match (operator, left.cmp(right)) {
        ("==" | "===", order) => order == Ordering::Equal,
        ("!=", order) => order != Ordering::Equal,
        ("<", order) => order == Ordering::Less,
        (">", order) => order == Ordering::Greater,
        ("<=", order) => order != Ordering::Greater,
        (">=", order) => order != Ordering::Less,
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn markers_are_judged_by_what_is_known() {
        let facts = Facts { python: "3.11".to_owned(), full_python: None, machine: "x86_64".to_owned() };
        for (marker, expected) in [
            ("", Some(true)),
            ("python_version >= '3.8'", Some(true)),
            ("python_version < \"3.9\"", Some(false)),
            ("python_version in '3.10 3.11'", Some(true)),
            ("extra == 'png'", Some(false)),
            ("extra == 'png' or python_version > '3'", Some(true)),
            ("(sys_platform == 'win32' or os_name == 'posix') and platform_machine != 'aarch64'", Some(true)),
            ("sys_platform not in 'win32 cygwin'", Some(true)),
            ("'linux' in sys_platform", Some(true)),
            ("python_full_version < '3.11.1'", None),
            ("platform_release == '6'", None),
            ("python_version >=", None),
            ("python_version >= '3.8' junk", None),
        ] {
            let one = Requirement::parse(&format!("knots ; {marker}")).unwrap();
            assert_eq!(one.applies(&facts), expected, "{marker}");
        }
        let deep = format!("knots ; {}os_name == 'posix'", "(".repeat(100_000));
        assert_eq!(Requirement::parse(&deep).unwrap().applies(&facts), None);
    }

    #[test]
    fn names_specifiers_and_addresses_are_parted() {
        for (text, name, specifiers, marker) in [
            ("knots", "knots", "", ""),
            ("Tide.Gauge>=1,<2", "tide-gauge", ">=1,<2", ""),
            ("tide[png, svg] ~= 1.4 ; extra == 'x'", "tide", "~= 1.4", "extra == 'x'"),
            ("tide @ https://quay.example/a;b.whl ; os_name == 'posix'", "tide", "", "os_name == 'posix'"),
            ("tide (==1.0)", "tide", "==1.0", ""),
        ] {
            let one = Requirement::parse(text).unwrap();
            assert_eq!((&*one.name, &*one.specifiers, &*one.marker), (name.as_bytes(), specifiers, marker), "{text}");
        }
        for bad in ["", " ", ">=1", "tide[png", "tide 5", "tide (>=1) 5\u{c}", "tide ~=1", "tide >=1.*", "tide>=x"] {
            assert_eq!(Requirement::parse(bad), None, "{bad}");
        }
    }
}
