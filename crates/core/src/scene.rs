//! The scene of a run: whose machine it is, who lives on it, and where the question was asked.

use std::collections::BTreeMap;
use std::sync::OnceLock;

use schemars::JsonSchema;
use serde::Serialize;

use crate::formats::{accounts, settings};
use crate::root::{Kind, Limit, Root};
use crate::text::{Text, path};

/// A person (or root) with a home on the machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Person {
    /// Log-in name.
    pub name: Text,
    /// User number.
    pub uid: u32,
    /// The number of their own group.
    pub group: u32,
    /// Home folder.
    pub home: Text,
    /// The shell that a log-in starts; empty for the system's `sh`.
    pub shell: Text,
}

/// Whose home folders count.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum People {
    /// The one with this user number; `home` and `name` stand in where no account says more.
    Me {
        /// User number of this process.
        uid: u32,
        /// What the environment calls the person.
        name: Option<Text>,
        /// What the environment calls the home.
        home: Option<Text>,
        /// What the environment calls the shell.
        shell: Option<Text>,
    },
    /// These, by log-in name.
    Named(Vec<Text>),
    /// Everyone with a home.
    Everyone,
}

/// The system's name and version, from `os-release(5)`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct System {
    /// `ID`.
    pub id: Option<Text>,
    /// `VERSION_ID`.
    pub version: Option<Text>,
    /// `ID_LIKE`: those whose packages it takes, too.
    #[serde(skip)]
    pub like: Vec<Text>,
}

/// Where the question was asked: the surroundings of this process.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Here {
    /// The current folder, absolute.
    pub folder: Text,
    /// `PATH`, where it is set.
    pub path: Option<Text>,
    /// `XDG_DATA_HOME`, where it is set and not empty.
    pub data_home: Option<Text>,
    /// `XDG_DATA_DIRS`, where it is set.
    pub data_dirs: Option<Text>,
    /// `XDG_CURRENT_DESKTOP`, where it is set.
    pub desktop: Option<Text>,
    /// The user number of whoever asks.
    pub uid: Option<u32>,
    /// Every variable of the environment; none where programs are started in another one.
    pub variables: BTreeMap<Text, Text>,
}

/// Everything that a reader may look at.
#[derive(Debug)]
pub struct Scene {
    /// The machine's tree.
    pub root: Root,
    /// The people whose homes count.
    pub people: Vec<Person>,
    /// Where the question was asked.
    pub here: Here,
    /// More folders in which bundles of one file are kept.
    pub extra_folders: Vec<Text>,
    /// Which packages a person says to be the same software, or not.
    pub title_rules: crate::model::Rules,
    system: OnceLock<Option<System>>,
}

/// A person was named whom the machine does not know.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("no account with a home is called {name} on this machine (accounts are read from /etc/passwd)")]
pub struct UnknownPerson {
    /// The name given.
    pub name: Text,
}

/// The lowest user number of a person, where the system does not say otherwise (`login.defs(5)`).
const FIRST_PERSON: u32 = 1000;
/// The number of the account that owns nothing.
const NOBODY: u32 = 65534;

impl Scene {
    /// Finds the people.
    ///
    /// # Errors
    /// When a person is named whom the machine does not know.
    pub fn new(mut root: Root, people: &People, here: Here) -> Result<Self, UnknownPerson> {
        let people = find_people(&root, people)?;
        root.expect_few(people.iter().map(|person| person.home.clone()));
        Ok(Scene {
            root,
            people,
            here,
            extra_folders: Vec::new(),
            title_rules: crate::model::Rules::default(),
            system: OnceLock::new(),
        })
    }

    /// The person whose log-in stands for all of them: the first ordinary one, else root.
    #[must_use]
    pub fn usual_person(&self) -> Option<&Person> {
        self.people.iter().find(|person| person.uid != 0).or(self.people.first())
    }

    /// A variable of this person's environment that is set and not empty. Only that of whoever asks is known.
    #[must_use]
    pub fn variable(&self, person: &Person, name: &str) -> Option<&Text> {
        let is_mine = self.root.is_live() && self.here.uid == Some(person.uid);
        self.here.variables.get(name.as_bytes()).filter(|value| is_mine && !value.is_empty())
    }

    /// The folder that a variable of this person's environment names, else one below the home. Links are followed.
    #[must_use]
    pub fn folder_of(&self, person: &Person, variable: &str, below_home: &str) -> Text {
        let named = self.variable(person, variable).filter(|folder| folder.starts_with(b"/"));
        let folder = named.cloned().unwrap_or_else(|| path::join(&person.home, below_home.as_bytes()));
        self.root.settle_folder(&folder)
    }

    /// The folder in which a person's command is taken to be typed: where this process is, else the home.
    #[must_use]
    pub fn folder_for(&self, person: &Person) -> Text {
        let is_mine = self.root.is_live() && self.here.uid == Some(person.uid) && !self.here.folder.is_empty();
        if is_mine { self.here.folder.clone() } else { person.home.clone() }
    }

    /// The person in whose home a path lies.
    #[must_use]
    pub fn at_home(&self, path: &[u8]) -> Option<&Person> {
        let lies_in =
            |person: &&Person| person.home.len() > 1 && path::within(path, &self.root.settle_folder(&person.home));
        self.people.iter().filter(lies_in).max_by_key(|person| person.home.len())
    }

    /// The machine's name, from `hostname(5)`.
    #[must_use]
    pub fn host(&self) -> Option<Text> {
        first_line(&self.root, b"/etc/hostname")
    }

    /// The system's name and version.
    #[must_use]
    pub fn system(&self) -> Option<&System> {
        self.system.get_or_init(|| system(&self.root)).as_ref()
    }
}

fn first_line(root: &Root, file: &[u8]) -> Option<Text> {
    let content = root.read(file, Limit::SMALL).ok()?;
    let line = content.split(|&b| b == b'\n').next()?.trim_ascii();
    (!line.is_empty()).then(|| line.into())
}

fn system(root: &Root) -> Option<System> {
    let places = [&b"/etc/os-release"[..], b"/usr/lib/os-release"];
    let content = places.iter().find_map(|place| root.read(place, Limit::SMALL).ok())?;
    let value = |name: &[u8]| {
        settings::assignments(&content)
            .filter(|setting| setting.name == name)
            .last()
            .map(|setting| setting.value.into())
    };
    let like: Text = value(b"ID_LIKE").unwrap_or_default();
    let like = like.split(u8::is_ascii_whitespace).filter(|id| !id.is_empty()).map(Text::from).collect();
    Some(System { id: value(b"ID"), version: value(b"VERSION_ID"), like })
}

fn find_people(root: &Root, wanted: &People) -> Result<Vec<Person>, UnknownPerson> {
    let file = root.read(b"/etc/passwd", Limit::SMALL).unwrap_or_default();
    let mut known: Vec<Person> = Vec::new();
    for account in accounts::accounts(&file) {
        let person = Person {
            name: account.name.into(),
            uid: account.uid,
            group: account.group,
            home: account.home.into(),
            shell: account.shell.into(),
        };
        if !known.iter().any(|other| other.name == person.name) {
            known.push(person);
        }
    }
    match wanted {
        People::Me { uid, name, home, shell } => {
            let mine = known.iter().find(|person| person.uid == *uid).cloned();
            // Accounts of a directory service are in no file; the environment knows them.
            let mine = mine.or_else(|| {
                Some(Person {
                    name: name.clone()?,
                    uid: *uid,
                    group: u32::MAX,
                    home: home.clone()?,
                    shell: shell.clone().unwrap_or_default(),
                })
            });
            Ok(mine.into_iter().collect())
        }
        People::Named(names) => names
            .iter()
            .map(|name| {
                let person = known.iter().find(|person| person.name == *name);
                person.cloned().ok_or_else(|| UnknownPerson { name: name.clone() })
            })
            .collect(),
        People::Everyone => {
            known.retain(|person| {
                let is_person = person.uid == 0 || (person.uid >= FIRST_PERSON && person.uid != NOBODY);
                is_person && root.target(&person.home).is_ok_and(|meta| meta.kind == Kind::Folder)
            });
            Ok(known)
        }
    }
}
