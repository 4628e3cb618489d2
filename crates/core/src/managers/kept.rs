//! Where version managers keep their versions: common ground of those managers and of the managers whose
//! packages are installed into such a version.

use crate::root::Kind;
use crate::scene::{Person, Scene};
use crate::text::{Text, path};

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

/// A variable that moves the folder, the folder below a home, what lies between it and the versions, and what
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

/// The prefixes of a language's versions that a person keeps, each settled and once. A link to another
/// version is none of its own.
pub fn versions_of(scene: &Scene, person: &Person, language: Language) -> Vec<Text> {
    let shelves: &[Shelf] = match language {
        Language::Python => &PYTHON,
        Language::Node => &NODE,
        Language::Ruby => &RUBY,
    };
    let mut found = Vec::new();
    for (variable, below_home, inside, behind) in shelves {
        let folder = path::join(&scene.folder_of(person, variable, below_home), inside.as_bytes());
        let folder = scene.root.settle_folder(&folder);
        let Ok(names) = scene.root.folder(&folder).and_then(|folder| folder.list()) else { continue };
        for (name, _) in names.iter().filter(|(name, kind)| *kind == Kind::Folder && !name.starts_with(b".")) {
            let version = path::join(&folder, name);
            found.push(if behind.is_empty() { version } else { path::join(&version, behind.as_bytes()) });
        }
    }
    found
}
