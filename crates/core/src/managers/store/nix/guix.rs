//! Guix, whose store is built like that of Nix: the same database, profiles and roots at other places ([`GUIX`]).
//!
//! Follows its manual (chapters "Invoking guix package", "Invoking guix gc", "The Store").
//!
//! | what | where |
//! |---|---|
//! | profiles and their numbered generations | `/var/guix/profiles`, `per-user/NAME` there: `guix-profile`, `current-guix` (the manager itself), `guix-home`; `system` of a whole system |
//! | what a generation holds | `manifest` in it, or in the `profile` of a system or a home: lists in parentheses, versions 3 and 4 |
//! | store paths, sizes, dates, references | `/var/guix/db/db.sqlite` |
//! | what keeps a path alive | links below `/var/guix/gcroots` and the profiles |
//!
//! Traps: of one package several outputs can be installed, each an entry of its own; what an entry brings along stands in
//! it and is no entry.

use super::layout::GUIX;
use super::manifest::Element;
use super::open;
use crate::backend::{Installation, Manager};
use crate::bytes::ByteString;
use crate::host::Host;
use crate::model::{Affix, ManagerId, ManagerKind, Profile};
use whodunit_formats::parentheses::{self, Value};

/// The manager.
#[derive(Debug)]
pub struct Guix;

impl Manager for Guix {
    fn id(&self) -> ManagerId {
        GUIX.id
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Store).affix(Affix::Build)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        open(host, &GUIX)
    }
}

/// Reads a `manifest`.
///
/// # Errors
/// In words: the version is not known, or the file is not what Guix writes.
pub fn of_manifest(content: &[u8]) -> Result<Vec<Element>, String> {
    let whole = parentheses::parse(content).map_err(|error| error.to_string())?;
    let parts = whole.items().split_first().filter(|(first, _)| first.is_word(b"manifest")).map(|(_, parts)| parts);
    let parts = parts.ok_or("not a manifest")?;
    let part =
        |name: &[u8]| parts.iter().map(Value::items).find(|part| part.first().is_some_and(|it| it.is_word(name)));
    match part(b"version").and_then(|part| part.get(1)) {
        Some(Value::Word(version)) if matches!(&version[..], b"3" | b"4") => {}
        _ => return Err("its version is none of those that are known, 3 and 4".to_owned()),
    }
    let packages = part(b"packages").and_then(|part| part.get(1)).ok_or("it has no packages")?;
    packages
        .items()
        .iter()
        .map(|entry| element(entry.items()).ok_or_else(|| "an entry is incomplete".to_owned()))
        .collect()
}

/// `("tern" "3.1" "out" "/gnu/store/…" …)`.
fn element(entry: &[Value]) -> Option<Element> {
    let text = |at: usize| entry.get(at).and_then(Value::text);
    let (name, version, output, path) = (text(0)?, text(1)?, text(2)?, text(3)?);
    let attribute = (output != b"out").then(|| ByteString::from(output));
    Some(Element {
        name: Some(name.into()),
        version: Some(version.into()),
        paths: vec![path.into()],
        active: true,
        attribute,
        ..Element::default()
    })
}
