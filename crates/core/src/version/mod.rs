//! Version text and scheme → ordering. One file per scheme; versions are only ordered within one.

pub mod debian;
pub mod nix;
