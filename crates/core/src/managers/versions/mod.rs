//! Version managers: which versions of a tool they keep, and which of them a command would start here.
//!
//! Versions that stand side by side are kept on purpose. Two kinds of manager: those with *shims*, one folder of
//! small programs that choose anew at each start (`shims`, `asdf`, `mise`, `volta`), and those that put
//! the chosen version's own folder on the search path (`nodes`, `sdkman`), where a file in the current
//! folder counts only once it is asked for.

mod asdf;
mod mise;
mod nodes;
mod sdkman;
mod shims;
mod volta;

pub use asdf::Asdf;
pub use mise::Mise;
pub use nodes::{Fnm, Nvm};
pub use sdkman::Sdkman;
pub use shims::{GOENV, JENV, NODENV, PYENV, RBENV, ShimManager};
pub use volta::Volta;

use crate::model::{Evidence, Lead, LeadTo};
use crate::root::Limit;
use crate::scene::Scene;
use crate::text::{Text, path};

/// A folder and all those above it, nearest first.
fn upwards(folder: &[u8]) -> impl Iterator<Item = &[u8]> {
    std::iter::successors(Some(folder), |at| (at.len() > 1).then(|| path::folder(at)))
}

/// The nearest file of this name, from a folder upwards.
fn nearest(scene: &Scene, start: &[u8], name: &str) -> Option<(Text, Vec<u8>)> {
    upwards(start).find_map(|folder| {
        let file = path::join(folder, name.as_bytes());
        scene.root.read(&file, Limit::SMALL).ok().map(|content| (file, content))
    })
}

/// A shim that would start nothing, and why.
fn nowhere(why: Vec<Evidence>) -> Lead {
    Lead { to: LeadTo::Nowhere, is_shim: true, why }
}

/// The highest of some versions that a partial one means: `3.11` is the highest `3.11.x`.
fn highest<'v>(
    versions: &'v [Text],
    partial: &[u8],
    order: fn(&[u8], &[u8]) -> std::cmp::Ordering,
) -> Option<&'v Text> {
    let fits = |version: &&Text| {
        let rest = version.strip_prefix(b"v").unwrap_or(version).strip_prefix(partial);
        rest.is_some_and(|rest| rest.is_empty() || rest.starts_with(b"."))
    };
    versions.iter().filter(fits).max_by(|a, b| order(a, b))
}
