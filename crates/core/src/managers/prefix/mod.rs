//! Managers of a prefix of their own.

pub mod homebrew;
pub mod macports;
pub mod stow;
