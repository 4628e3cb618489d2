//! Whodunit's core: every computation, and nothing of the terminal.
//!
//! Data goes one way: [`fs`] reads the machine's tree, [`managers`] turn their records in it into
//! packages and claims, [`resolve`] finds what a name reaches, [`survey`] holds it all together, and
//! [`queries`] and [`checks`] are pure functions of a survey. See `docs/architecture.md`.
//!
//! Nothing found on the machine is ever executed, and nothing is written.

pub use whodunit_formats::bytes;

pub mod backend;
pub mod checks;
pub mod digests;
pub mod findings;
pub mod fs;
pub mod history;
pub mod host;
pub mod identity;
pub mod index;
pub mod managers;
pub mod model;
pub mod plans;
pub mod queries;
pub mod resolve;
pub mod schema;
pub mod survey;
pub mod threads;
pub mod version;
