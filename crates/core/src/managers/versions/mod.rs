//! Version managers: which versions of a tool they keep, and which of them a command would start here.
//!
//! Versions that stand side by side are kept on purpose. Two kinds of manager: those with *shims*, one directory of
//! small programs that choose anew at each start (`shims`, `asdf`, `mise`, `volta`), and those that put
//! the chosen version's own directory on the search path (`nodes`, `sdkman`), where a file in the current
//! directory counts only once it is asked for.

mod asdf;
mod ghcup;
mod juliaup;
mod mise;
mod nodes;
pub mod rustup;
mod sdkman;
mod shims;
mod stack;
mod swiftly;
mod volta;
mod wrappers;
mod zvm;

pub use asdf::Asdf;
pub use ghcup::Ghcup;
pub use juliaup::Juliaup;
pub use mise::Mise;
pub use nodes::{Fnm, Nvm};
pub use sdkman::Sdkman;
pub use shims::{GOENV, JENV, NODENV, PYENV, RBENV, ShimManager};
pub use stack::Stack;
pub use swiftly::Swiftly;
pub use volta::Volta;
pub use wrappers::{GRADLE, MAVEN, Wrapper};
pub use zvm::Zvm;

use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, ExecDestination, ExecTarget};
use crate::version::Scheme;

/// A directory and all those above it, nearest first.
fn upwards(dir: &[u8]) -> impl Iterator<Item = &[u8]> {
    std::iter::successors(Some(dir), |at| (at.len() > 1).then(|| path::parent(at)))
}

/// The nearest file of this name, from a directory upwards.
fn nearest(host: &Host, start: &[u8], name: &str) -> Option<(ByteString, Vec<u8>)> {
    upwards(start).find_map(|dir| {
        let file = path::join(dir, name.as_bytes());
        host.root.read(&file, Limit::SMALL).ok().map(|content| (file, content))
    })
}

/// A shim that would start nothing, and why.
fn nowhere(why: Vec<Evidence>) -> ExecTarget {
    ExecTarget { to: ExecDestination::Nowhere, is_shim: true, why }
}

/// The highest of some versions that a partial one means: `3.11` is the highest `3.11.x`.
fn highest<'v>(versions: &'v [ByteString], partial: &[u8], scheme: Scheme) -> Option<&'v ByteString> {
    let fits = |version: &&ByteString| {
        let rest = version.strip_prefix(b"v").unwrap_or(version).strip_prefix(partial);
        rest.is_some_and(|rest| rest.is_empty() || rest.starts_with(b"."))
    };
    versions.iter().filter(fits).max_by(|a, b| scheme.compare(a, b))
}
