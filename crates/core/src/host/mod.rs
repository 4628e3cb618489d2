//! The machine that a question is about: its users, its system, and where the question was asked.

use std::collections::BTreeMap;
use std::sync::OnceLock;

use hashbrown::HashMap;
use schemars::JsonSchema;
use serde::Serialize;
use sha2::{Digest as _, Sha256};

use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use whodunit_formats::settings;

mod accounts;
mod users;

pub use accounts::{Accounts, Group};

/// A user (or root) with a home on the machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct User {
    /// Login name.
    pub name: ByteString,
    /// User number.
    pub uid: u32,
    /// The number of their own group.
    pub group: u32,
    /// Home directory.
    pub home: ByteString,
    /// The shell that a login starts; empty for the system's `sh`.
    pub shell: ByteString,
}

/// Whose home directories count.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum UserSelection {
    /// The one with this user number; `home` and `name` stand in where no account says more.
    Current {
        /// User number of this process.
        uid: u32,
        /// What the environment calls the user.
        name: Option<ByteString>,
        /// What the environment calls the home.
        home: Option<ByteString>,
        /// What the environment calls the shell.
        shell: Option<ByteString>,
    },
    /// These, by login name.
    Named(Vec<ByteString>),
    /// Every user with a home.
    All,
}

/// The system's name and version, from `os-release(5)`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct System {
    /// `ID`.
    pub id: Option<ByteString>,
    /// `VERSION_ID`.
    pub version: Option<ByteString>,
    /// `ID_LIKE`: those whose packages it takes, too.
    #[serde(skip)]
    pub like: Vec<ByteString>,
}

impl System {
    /// Its name and version, for data formats.
    #[must_use]
    pub fn to_data(&self) -> Option<String> {
        let id = self.id.as_ref()?.to_data();
        Some(self.version.as_ref().map_or_else(|| id.to_string(), |version| format!("{id} {}", version.to_data())))
    }
}

/// How evidence names the environment in which this program was started.
pub const ENVIRONMENT: &str = "environment of this process";

/// Where the question was asked: the environment of this process.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ProcessEnv {
    /// The current directory, absolute.
    pub dir: ByteString,
    /// Whether the user gave that directory, in place of where this process is.
    pub dir_is_given: bool,
    /// `PATH`, where it is set.
    pub path: Option<ByteString>,
    /// `XDG_DATA_HOME`, where it is set and not empty.
    pub data_home: Option<ByteString>,
    /// `XDG_DATA_DIRS`, where it is set.
    pub data_dirs: Option<ByteString>,
    /// `XDG_CURRENT_DESKTOP`, where it is set.
    pub desktop: Option<ByteString>,
    /// The user number of whoever asks.
    pub uid: Option<u32>,
    /// Every variable of the environment; none where programs are started in another one.
    pub variables: BTreeMap<ByteString, ByteString>,
}

/// Everything that a reader may look at.
#[derive(Debug)]
pub struct Host {
    /// The machine's tree.
    pub root: Root,
    /// The users whose homes count.
    pub users: Vec<User>,
    /// Where the question was asked.
    pub env: ProcessEnv,
    /// More directories in which bundles of one file are kept.
    pub extra_dirs: Vec<ByteString>,
    /// Which packages a user says to be the same software, or not.
    pub title_rules: crate::model::Rules,
    system: OnceLock<Option<System>>,
    is_image: OnceLock<bool>,
    is_macos: OnceLock<bool>,
    accounts: OnceLock<Accounts>,
    /// The places of users by their canonical homes.
    homes: OnceLock<HashMap<ByteString, usize>>,
}

/// A user was named whom the machine does not know.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("no user {name} on this machine (accounts are read from /etc/passwd)")]
pub struct UnknownUser {
    /// The name given.
    pub name: ByteString,
}

/// What tells a system whose distribution is one image: ostree's, NixOS, SteamOS, macOS with its sealed volume.
const IMAGES: [&[u8]; 5] =
    [b"/run/ostree-booted", b"/ostree/repo", b"/etc/NIXOS", b"/usr/bin/steamos-readonly", MAC_VERSION];
/// Where macOS says which one it is.
const MAC_VERSION: &[u8] = b"/System/Library/CoreServices/SystemVersion.plist";

/// Distributions whose packages are changed in a new snapshot of the system, and not in the running one (`os-release(5)`).
const IMAGE_IDS: [&[u8]; 6] =
    [b"opensuse-microos", b"opensuse-aeon", b"opensuse-kalpa", b"opensuse-leap-micro", b"sle-micro", b"sl-micro"];

impl Host {
    /// Finds the users.
    ///
    /// # Errors
    /// When a user is named whom the machine does not know.
    pub fn new(mut root: Root, users: &UserSelection, env: ProcessEnv) -> Result<Self, UnknownUser> {
        let users = users::find(&root, users)?;
        root.expect_sparse(users.iter().map(|user| user.home.clone()));
        Ok(Host {
            root,
            users,
            env,
            extra_dirs: Vec::new(),
            title_rules: crate::model::Rules::default(),
            system: OnceLock::new(),
            is_image: OnceLock::new(),
            is_macos: OnceLock::new(),
            accounts: OnceLock::new(),
            homes: OnceLock::new(),
        })
    }

    /// The zone of the machine's clock, from `/etc/localtime`; UTC where that cannot be read.
    #[must_use]
    pub fn time_zone(&self) -> jiff::tz::TimeZone {
        let file = self.root.read(b"/etc/localtime", Limit::SMALL).ok();
        let zone = file.and_then(|content| jiff::tz::TimeZone::tzif("the machine's", &content).ok());
        zone.unwrap_or(jiff::tz::TimeZone::UTC)
    }

    /// The user whose login stands for all of them: the first ordinary one, else root.
    #[must_use]
    pub fn default_user(&self) -> Option<&User> {
        self.users.iter().find(|user| user.uid != 0).or(self.users.first())
    }

    /// Whether it is this user who asks, on the machine itself.
    #[must_use]
    pub fn asks(&self, user: &User) -> bool {
        self.root.is_live() && self.env.uid == Some(user.uid)
    }

    /// A variable of this user's environment that is set and not empty. Only that of whoever asks is known.
    #[must_use]
    pub fn variable(&self, user: &User, name: &str) -> Option<&ByteString> {
        let is_mine = self.asks(user);
        self.env.variables.get(name.as_bytes()).filter(|value| is_mine && !value.is_empty())
    }

    /// The directory that a variable of this user's environment names by a whole path. Links are followed.
    #[must_use]
    pub fn named_dir(&self, user: &User, variable: &str) -> Option<ByteString> {
        let named = self.variable(user, variable).filter(|dir| dir.starts_with(b"/"));
        named.map(|dir| self.root.canonicalize_dir(dir))
    }

    /// The same, else a directory below the home.
    #[must_use]
    pub fn user_dir(&self, user: &User, variable: &str, below_home: &str) -> ByteString {
        let below = || self.root.canonicalize_dir(&path::join(&user.home, below_home.as_bytes()));
        self.named_dir(user, variable).unwrap_or_else(below)
    }

    /// The directory in which a user's command is taken to be typed: the directory that the user gave, else where this process is, else the home.
    #[must_use]
    pub fn working_dir(&self, user: &User) -> ByteString {
        let is_mine = self.asks(user) && !self.env.dir.is_empty();
        if is_mine || self.env.dir_is_given { self.env.dir.clone() } else { user.home.clone() }
    }

    /// Whether the distribution comes as an image, which its packages' own commands do not change.
    #[must_use]
    pub fn is_image_based(&self) -> bool {
        let has_sign = || IMAGES.iter().any(|file| self.root.entry(file).is_ok());
        let is_named =
            || self.system().and_then(|system| system.id.as_deref()).is_some_and(|id| IMAGE_IDS.contains(&id));
        *self.is_image.get_or_init(|| has_sign() || is_named())
    }

    /// Whether this is macOS.
    #[must_use]
    pub fn is_macos(&self) -> bool {
        *self.is_macos.get_or_init(|| self.root.entry(MAC_VERSION).is_ok())
    }

    /// The user in whose home a path lies.
    #[must_use]
    pub fn home_owner(&self, path: &[u8]) -> Option<&User> {
        let homes = self.homes.get_or_init(|| {
            let numbered = (0..).zip(&self.users).filter(|(_, user)| user.home.len() > 1);
            numbered.map(|(number, user)| (self.root.canonicalize_dir(&user.home), number)).collect()
        });
        let mut dir = path;
        loop {
            if let Some(number) = homes.get(dir) {
                return self.users.get(*number);
            }
            if dir.len() <= 1 {
                return None;
            }
            dir = path::parent(dir);
        }
    }

    /// Every account and group of the machine, those of no user among them. They are read once.
    #[must_use]
    pub fn accounts(&self) -> &Accounts {
        self.accounts.get_or_init(|| Accounts::read(&self.root))
    }

    /// The machine's name, from `hostname(5)`.
    #[must_use]
    pub fn hostname(&self) -> Option<ByteString> {
        first_line(&self.root, b"/etc/hostname")
    }

    /// What tells this machine from every other: half a SHA-256, in hexadecimal, of its `machine-id(5)` and a text of our
    /// own. The id itself is nobody else's business.
    #[must_use]
    pub fn machine(&self) -> Option<String> {
        let places: [&[u8]; 2] = [b"/etc/machine-id", b"/var/lib/dbus/machine-id"];
        let id = places.into_iter().find_map(|place| first_line(&self.root, place))?;
        // An image that was never started has another word, or nothing.
        let is_id = id.len() == 32 && id.iter().all(u8::is_ascii_hexdigit);
        let digest = Sha256::new().chain_update(b"whodunit machine ").chain_update(id.to_ascii_lowercase()).finalize();
        is_id.then(|| hex::encode(&digest[..16]))
    }

    /// The system's name and version.
    #[must_use]
    pub fn system(&self) -> Option<&System> {
        self.system.get_or_init(|| system(&self.root)).as_ref()
    }

    /// Whether an address has the system's id in it: no record says whose a repository is.
    pub(crate) fn is_distributions(&self, address: &[u8]) -> bool {
        let id = self.system().and_then(|system| system.id.as_ref()).filter(|id| !id.is_empty());
        let lower = address.to_ascii_lowercase();
        id.is_some_and(|id| memchr::memmem::find(&lower, &id.to_ascii_lowercase()).is_some())
    }
}

fn first_line(root: &Root, file: &[u8]) -> Option<ByteString> {
    let content = root.read(file, Limit::SMALL).ok()?;
    let line = content.split(|&b| b == b'\n').next()?.trim_ascii();
    (!line.is_empty()).then(|| line.into())
}

/// The description of the release, by `os-release(5)`: which of its two files counts, and its content.
pub(crate) fn os_release(root: &Root) -> Option<(&'static [u8], Vec<u8>)> {
    let places: [&[u8]; 2] = [b"/etc/os-release", b"/usr/lib/os-release"];
    places.into_iter().find_map(|place| Some((place, root.read(place, Limit::SMALL).ok()?)))
}

/// A field of that description, without quotes; the last of several counts.
pub(crate) fn os_release_field(content: &[u8], name: &[u8]) -> Option<ByteString> {
    let setting = settings::assignments(content).filter(|setting| setting.name == name).last();
    setting.map(|setting| setting.value.into())
}

fn system(root: &Root) -> Option<System> {
    let (_, content) = os_release(root)?;
    let value = |name: &[u8]| os_release_field(&content, name);
    let like: ByteString = value(b"ID_LIKE").unwrap_or_default();
    let like = like.split(u8::is_ascii_whitespace).filter(|id| !id.is_empty()).map(ByteString::from).collect();
    Some(System { id: value(b"ID"), version: value(b"VERSION_ID"), like })
}

/// Where accounts are recorded (`passwd(5)`).
pub(crate) const PASSWD: &[u8] = b"/etc/passwd";
