//! Where version managers keep their versions: common ground of those managers and of the managers whose
//! packages are installed into such a version.

use crate::bytes::{ByteString, path};
use crate::fs::Kind;
use crate::host::{Host, User};

/// A language whose versions are kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Language {
    /// Python.
    Python,
    /// Node.js.
    Node,
    /// Ruby.
    Ruby,
}

/// A variable that moves the directory, the directory below a home, what lies between it and the versions, and what
/// lies between a version and its prefix.
type Shelf = (&'static str, &'static str, &'static str, &'static str);

const PYTHON: [Shelf; 4] = [
    ("PYENV_ROOT", ".pyenv", "versions", ""),
    ("UV_PYTHON_INSTALL_DIR", ".local/share/uv/python", "", ""),
    ("ASDF_DATA_DIR", ".asdf", "installs/python", ""),
    ("MISE_DATA_DIR", ".local/share/mise", "installs/python", ""),
];

const NODE: [Shelf; 6] = [
    ("NVM_DIR", ".nvm", "versions/node", ""),
    ("FNM_DIR", ".local/share/fnm", "node-versions", "installation"),
    ("VOLTA_HOME", ".volta", "tools/image/node", ""),
    ("NODENV_ROOT", ".nodenv", "versions", ""),
    ("ASDF_DATA_DIR", ".asdf", "installs/nodejs", ""),
    ("MISE_DATA_DIR", ".local/share/mise", "installs/node", ""),
];

const RUBY: [Shelf; 3] = [
    ("RBENV_ROOT", ".rbenv", "versions", ""),
    ("ASDF_DATA_DIR", ".asdf", "installs/ruby", ""),
    ("MISE_DATA_DIR", ".local/share/mise", "installs/ruby", ""),
];

/// The prefixes of a language's versions that a user keeps, each canonical and once. A link to another
/// version is none of its own.
pub fn versions_of(host: &Host, user: &User, language: Language) -> Vec<ByteString> {
    let shelves: &[Shelf] = match language {
        Language::Python => &PYTHON,
        Language::Node => &NODE,
        Language::Ruby => &RUBY,
    };
    let mut found = Vec::new();
    for (variable, below_home, inside, behind) in shelves {
        let dir = path::join(&host.user_dir(user, variable, below_home), inside.as_bytes());
        let dir = host.root.canonicalize_dir(&dir);
        let Ok(names) = host.root.dir(&dir).and_then(|dir| dir.list()) else { continue };
        for (name, _) in names.iter().filter(|(name, kind)| *kind == Kind::Dir && !name.starts_with(b".")) {
            let version = path::join(&dir, name);
            found.push(if behind.is_empty() { version } else { path::join(&version, behind.as_bytes()) });
        }
    }
    found
}
