//! Store-based managers.

pub mod nix;
