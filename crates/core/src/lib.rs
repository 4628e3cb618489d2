//! Whodunit's core: every computation, and nothing of the terminal.
//!
//! Data goes one way: [`root`] reads the machine's tree, [`managers`] turn their records in it into
//! packages and claims, [`search`] says what a name reaches, [`survey`] holds it all together, and
//! [`answers`] are pure functions of a survey. See `docs/architecture.md`.
//!
//! Nothing found on the machine is ever executed, and nothing is written.

pub mod answers;
pub mod claims;
pub mod digests;
pub mod findings;
pub mod formats;
pub mod managers;
pub mod model;
pub mod root;
pub mod scene;
pub mod search;
pub mod survey;
pub mod text;
pub mod titles;
pub mod version;
