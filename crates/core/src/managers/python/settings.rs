//! `pyvenv.cfg`, which makes a folder a virtual environment (Python library reference, `venv`; PEP 405), and
//! the marker of an environment that another manager manages (*Python Packaging User Guide*, "Externally
//! managed environments", from PEP 668).

use crate::root::Root;
use crate::text::{Text, path};

/// What the file says. uv spells the version's key in its own way.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Pyvenv {
    /// The folder of the base interpreter.
    pub home: Option<Text>,
    /// The base interpreter's version when the environment was made.
    pub version: Option<Text>,
    /// Whether the system's packages are seen as well.
    pub sees_system: bool,
    /// Whether uv made it.
    pub uv: bool,
}

impl Pyvenv {
    /// Reads the file: `key = value` lines, keys in any case.
    pub fn parse(content: &[u8]) -> Self {
        let mut read = Pyvenv::default();
        for line in content.split(|&b| b == b'\n') {
            let Some(at) = memchr::memchr(b'=', line) else { continue };
            let value = line[at + 1..].trim_ascii();
            match line[..at].trim_ascii().to_ascii_lowercase().as_slice() {
                b"home" => read.home = Some(value.into()),
                b"version" | b"version_info" => read.version = Some(value.into()),
                b"include-system-site-packages" => read.sees_system = value.eq_ignore_ascii_case(b"true"),
                b"uv" => read.uv = true,
                _ => {}
            }
        }
        read
    }
}

/// Whether an interpreter's standard library says that another manager manages its environment.
pub fn marker(root: &Root, library: &[u8]) -> Option<Text> {
    let marker = path::join(library, b"EXTERNALLY-MANAGED");
    root.target(&marker).is_ok().then_some(marker)
}
