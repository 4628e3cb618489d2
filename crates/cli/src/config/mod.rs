//! The settings file.
//!
//! ```toml
//! [bundles]
//! # More directories in which bundles of one file are kept; `~` stands for each user's home.
//! directories = ["/srv/tools", "~/bundles"]
//!
//! [sources]
//! # Which sources come first: managers, names of sources, `distribution`, `sandboxed`.
//! prefer = ["distribution", "sandboxed"]
//! # What comes before that order: what is confined, the newest version, the smallest with all that it brings along.
//! confined = false
//! newest = false
//! smallest = false
//!
//! # A finding that stays as it is, with a reason; without a subject, every one of its kind.
//! [[accept]]
//! kind = "shadowed-command"
//! subject = "barolog"
//! reason = "ours is newer on purpose"
//! until = 2027-01-31
//!
//! # What a command should be; without contexts, in every one.
//! [[expect]]
//! command = "tidegauge"
//! manager = "dpkg"
//! contexts = ["cron", "sudo"]
//!
//! [titles]
//! # Packages that are the same software although nothing tells so, and some that are not.
//! same = [["dpkg:tide-classic", "uv:tidegauge"]]
//! different = [["dpkg:moor", "npm:moor"]]
//! ```

mod check;

use std::os::unix::ffi::OsStrExt as _;
use std::path::Path;
use whodunit_core::queries::offers::Preferences;

use serde::Deserialize;
use whodunit_core::bytes::{ByteString, path};
use whodunit_core::checks::{Accepted, Expected, Settings};
use whodunit_core::fs::{FsError, Limit, Root};
use whodunit_core::host::User;
use whodunit_core::identity::Rules;

use crate::error::CliError;
use crate::process;

/// The settings.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Config {
    bundles: Bundles,
    sources: Sources,
    accepted: Vec<Accepted>,
    expected: Vec<Expected>,
    titles: Rules,
    /// The file that was read.
    file: Option<ByteString>,
    /// Settings that do not count, because they belong to another user.
    ignored: Option<ByteString>,
}

/// The settings as they are written.
#[derive(Debug, Clone, PartialEq, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Written {
    bundles: Bundles,
    sources: Sources,
    accept: Vec<check::Accept>,
    expect: Vec<check::Expect>,
    titles: check::Titles,
}

/// Something in the file that cannot be meant.
struct Mistake {
    /// Where in the file it is, in bytes.
    at: usize,
    /// What is wrong with it.
    says: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Sources {
    prefer: Vec<String>,
    newest: bool,
    smallest: bool,
    confined: bool,
}

#[derive(Debug, Clone, PartialEq, Eq, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Bundles {
    directories: Vec<String>,
}

impl Config {
    /// Reads the file that was given, which must be there, else the first usual one that is.
    pub fn read(given: Option<&Path>) -> Result<Self, CliError> {
        let env = process::process_env();
        let usual = process::config_dir().into_iter().map(|dir| path::join(&dir, b"whodunit/config.toml"));
        let files: Vec<ByteString> = match given {
            Some(file) if file.is_relative() && env.dir.is_empty() => return Err(CliError::NoCurrentDirectory),
            Some(file) => vec![path::absolute(file.as_os_str().as_bytes(), &env.dir)],
            None => usual.chain(["/etc/whodunit/config.toml".into()]).collect(),
        };
        let root = Root::live();
        let is_anothers = |owner: u32| given.is_none() && owner != 0 && Some(owner) != env.uid;
        let mut ignored = None;
        for file in files {
            match root.read_with_meta(&file, Limit::SMALL) {
                Ok((_, meta)) if is_anothers(meta.owner) => ignored = Some(file),
                Ok((content, _)) => {
                    return Ok(Config { ignored, ..Self::parse(&String::from_utf8_lossy(&content), &file)? });
                }
                // The usual places may be missing, or in a home that is not this user's.
                Err(FsError::Missing { .. } | FsError::Denied { .. }) if given.is_none() => {}
                Err(error) => return Err(CliError::ConfigFile(error)),
            }
        }
        Ok(Config { ignored, ..Config::default() })
    }

    fn parse(content: &str, file: &ByteString) -> Result<Self, CliError> {
        let line = |at: usize| u32::try_from(content[..at].matches('\n').count() + 1).unwrap_or(u32::MAX);
        let failed = |at: usize, says: &str| {
            let line = line(at.min(content.len()));
            CliError::Config { file: file.clone(), line, mistake: says.to_owned() }
        };
        let written: Written = toml::from_str(content)
            .map_err(|error| failed(error.span().map_or(0, |span| span.start), error.message()))?;
        let of_mistake = |mistake: Mistake| failed(mistake.at, &mistake.says);
        let accepted = written.accept.iter().map(|one| check::accepted(one, file, &line));
        let expected = written.expect.iter().map(|one| check::expected(one, file, &line));
        Ok(Config {
            accepted: accepted.collect::<Result<_, _>>().map_err(of_mistake)?,
            expected: expected.collect::<Result<_, _>>().map_err(of_mistake)?,
            titles: check::rules(&written.titles).map_err(of_mistake)?,
            bundles: written.bundles,
            sources: written.sources,
            file: Some(file.clone()),
            ignored: None,
        })
    }

    /// The file that was found and does not count, because it belongs to another user.
    pub fn ignored(&self) -> Option<&ByteString> {
        self.ignored.as_ref()
    }

    /// Which packages are said to be the same software, or not.
    pub fn title_rules(&self) -> Rules {
        self.titles.clone()
    }

    /// The accepted findings and expected owners that apply now.
    pub fn for_check(&self) -> Settings {
        Settings { accepted: self.accepted.clone(), expected: self.expected.clone(), now: process::now() }
    }

    /// The order of sources; none where it is not set.
    pub fn preferences(&self) -> Preferences {
        let Sources { prefer, newest, smallest, confined } = self.sources.clone();
        Preferences { prefer, newest, smallest, confined, file: self.file.clone() }
    }

    /// The directories for bundles, for these users.
    pub fn bundle_dirs(&self, users: &[User]) -> Vec<ByteString> {
        let of_one = |dir: &String| -> Vec<ByteString> {
            match dir.strip_prefix("~/") {
                Some(below) => users.iter().map(|user| path::join(&user.home, below.as_bytes())).collect(),
                None => vec![path::absolute(dir.as_bytes(), b"/")],
            }
        };
        self.bundles.directories.iter().flat_map(of_one).collect()
    }
}
