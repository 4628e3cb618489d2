//! What start-up files of shells do to search paths, aliases and functions, without running anything.
//!
//! [`syntax`] parses bash, dash, zsh and fish. [`eval`] evaluates the parsed commands over values that are known or
//! unknown: builtins are implemented, programs are answered by rule or not at all, and an unknown value is carried
//! along with the place that it comes from. The evaluator sees a machine's files through the trait [`Files`] only.
//!
//! Evaluation is bounded in steps, depth and the size of values; what the bounds cut off becomes an unknown.

pub mod eval;
mod files;
pub mod syntax;
mod unknown;

pub use files::{FileType, Files, Metadata, ReadError};
pub use unknown::{Unknown, UnknownId};
