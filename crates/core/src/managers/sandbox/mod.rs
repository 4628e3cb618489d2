//! Sandboxed formats and single-file bundles.

pub mod appimage;
pub mod containers;
pub mod distrobox;
pub mod flatpak;
pub mod snap;
