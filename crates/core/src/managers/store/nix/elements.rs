//! What one generation of a profile holds, whichever way it records that.

use super::manifest::{self, Element};
use super::store::{Store, is_internal};
use super::{guix, layout::GUIX};
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::version::nix;

/// How a profile is recorded; it decides which command changes it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ProfileFormat {
    /// By `nix-env`.
    NixEnv,
    /// By `nix profile`.
    NixProfile,
    /// By `guix package`, or by the configuration of a Guix system or home, which has the same record.
    Guix,
    /// By a configuration of the system or of a home: what it refers to is what it holds.
    Configuration,
}

/// The elements of a generation, and the file that records them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Held {
    pub recorded: ProfileFormat,
    pub file: ByteString,
    pub elements: Vec<Element>,
}

impl ProfileFormat {
    /// The name and version of an element that is recorded so.
    pub fn name_and_version(self, store: &Store<'_>, element: &Element) -> (ByteString, Option<ByteString>) {
        match (&element.name, element.paths.first()) {
            (Some(name), _) if self == ProfileFormat::Guix => (name.clone(), element.version.clone()),
            // `nix-env` records the whole name; `nix profile` a word for the element, which is no name.
            (Some(name), _) if self == ProfileFormat::NixEnv => {
                let (name, version) = nix::split(name);
                (name.into(), version.map(ByteString::from))
            }
            (_, Some(path)) => store.name_and_version(path),
            (Some(name), None) => (name.clone(), None),
            (None, None) => ("unnamed".into(), None),
        }
    }
}

/// Reads what the store path of a generation holds.
///
/// # Errors
/// In words, naming the file.
pub fn read(root: &Root, store: &Store<'_>, generation: &[u8]) -> Result<Held, String> {
    if store.layout.id == GUIX.id {
        return of_guix(root, generation);
    }
    let json = path::join(generation, b"manifest.json");
    match root.read(&json, Limit::LIST) {
        Ok(content) => {
            let elements = manifest::of_nix_profile(&content).map_err(|error| format!("{json}: {error}"))?;
            return Ok(Held { recorded: ProfileFormat::NixProfile, file: json, elements });
        }
        Err(error) if !error.is_missing() => return Err(error.to_string()),
        Err(_) => {}
    }
    let nix = path::join(generation, b"manifest.nix");
    match root.read(&nix, Limit::LIST) {
        Ok(content) => {
            let elements =
                manifest::of_nix_env(&content).map_err(|at| format!("{nix}: not what nix-env writes, at byte {at}"))?;
            return Ok(Held { recorded: ProfileFormat::NixEnv, file: nix, elements });
        }
        Err(error) if !error.is_missing() => return Err(error.to_string()),
        Err(_) => {}
    }
    // A NixOS system has its programs in `sw`, a home configuration in `home-path`; else it is the tree itself.
    for part in [&b"sw"[..], b"home-path"] {
        let link = path::join(generation, part);
        if root.entry(&link).is_ok() {
            let tree = root.canonicalize_dir(&link);
            return Ok(Held { recorded: ProfileFormat::Configuration, elements: referred(store, &tree), file: link });
        }
    }
    match root.entry(generation) {
        Ok(_) => Ok(Held {
            recorded: ProfileFormat::Configuration,
            elements: referred(store, generation),
            file: generation.into(),
        }),
        Err(error) => Err(error.to_string()),
    }
}

/// Where Guix records it: in the profile itself, or in that of a system or a home.
fn of_guix(root: &Root, generation: &[u8]) -> Result<Held, String> {
    let places = ["manifest", "profile/manifest"].map(|below| path::join(generation, below.as_bytes()));
    let mut last = None;
    for file in places {
        match root.read(&file, Limit::LIST) {
            Ok(content) => {
                let elements = guix::of_manifest(&content).map_err(|error| format!("{file}: {error}"))?;
                return Ok(Held { recorded: ProfileFormat::Guix, file, elements });
            }
            Err(error) if !error.is_missing() => return Err(error.to_string()),
            Err(error) => last = last.or(Some(error.to_string())),
        }
    }
    Err(last.unwrap_or_default())
}

fn referred(store: &Store<'_>, tree: &[u8]) -> Vec<Element> {
    let software = store.references(tree).into_iter().filter(|row| !is_internal(&row.path));
    software.map(|row| Element { paths: vec![row.path.clone()], active: true, ..Element::default() }).collect()
}
