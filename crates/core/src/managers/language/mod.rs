//! Managers of one language each.

pub mod cargo;
mod cargo_registries;
pub mod conda;
mod conda_channels;
pub mod gem;
mod gem_sources;
pub mod go;
pub mod javascript;
pub mod python;
