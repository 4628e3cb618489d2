//! The settings file.
//!
//! ```toml
//! [bundles]
//! # More folders in which bundles of one file are kept; `~` stands for each person's home.
//! folders = ["/srv/tools", "~/bundles"]
//!
//! [sources]
//! # Which sources come first: managers, names of sources, `distribution`, `sandboxed`.
//! prefer = ["distribution", "sandboxed"]
//! ```

use std::os::unix::ffi::OsStrExt as _;
use std::path::Path;

use serde::Deserialize;
use whodunit_core::root::{Limit, Root, RootError};
use whodunit_core::scene::Person;
use whodunit_core::text::{Text, path};

use crate::run::Failure;
use crate::surroundings;

/// The settings.
#[derive(Debug, Clone, PartialEq, Eq, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Config {
    bundles: Bundles,
    sources: Sources,
}

#[derive(Debug, Clone, PartialEq, Eq, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Sources {
    prefer: Vec<String>,
}

#[derive(Debug, Clone, PartialEq, Eq, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Bundles {
    folders: Vec<String>,
}

impl Config {
    /// Reads the file that was given, which must be there, else the first usual one that is.
    pub fn read(given: Option<&Path>) -> Result<Self, Failure> {
        let here = surroundings::here();
        let usual =
            surroundings::config_folder().into_iter().map(|folder| path::join(&folder, b"whodunit/config.toml"));
        let files: Vec<Text> = match given {
            Some(file) => vec![path::absolute(file.as_os_str().as_bytes(), &here.folder)],
            None => usual.chain(["/etc/whodunit/config.toml".into()]).collect(),
        };
        let root = Root::live();
        for file in files {
            match root.read(&file, Limit::SMALL) {
                Ok(content) => return Self::parse(&String::from_utf8_lossy(&content), &file),
                // The usual places may be missing, or in a home that is not this person's.
                Err(RootError::Missing { .. } | RootError::Denied { .. }) if given.is_none() => {}
                Err(error) => return Err(Failure::usage(format!("settings: {error}"))),
            }
        }
        Ok(Config::default())
    }

    fn parse(content: &str, file: &Text) -> Result<Self, Failure> {
        toml::from_str(content).map_err(|error| {
            let line = error.span().map_or(1, |span| content[..span.start].matches('\n').count() + 1);
            Failure::usage(format!("settings: {file} line {line}: {}", error.message()))
        })
    }

    /// The order of sources; none where it is not set.
    pub fn preferred_sources(&self) -> Vec<String> {
        self.sources.prefer.clone()
    }

    /// The folders for bundles, for these people.
    pub fn bundle_folders(&self, people: &[Person]) -> Vec<Text> {
        let of_one = |folder: &String| -> Vec<Text> {
            match folder.strip_prefix("~/") {
                Some(below) => people.iter().map(|person| path::join(&person.home, below.as_bytes())).collect(),
                None => vec![path::absolute(folder.as_bytes(), b"/")],
            }
        };
        self.bundles.folders.iter().flat_map(of_one).collect()
    }
}
