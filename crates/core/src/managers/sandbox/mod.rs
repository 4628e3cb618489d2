//! Sandboxed formats and single-file bundles.

pub mod appimage;
mod container_store;
pub mod containers;
pub mod distrobox;
pub mod flatpak;
pub mod snap;
