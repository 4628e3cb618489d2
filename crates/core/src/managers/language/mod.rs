//! Managers of one language each.

pub mod cabal;
pub mod cargo;
mod cargo_registries;
pub mod composer;
pub mod conda;
mod conda_channels;
pub mod coursier;
pub mod dart;
pub mod deno;
pub mod dotnet;
pub mod gem;
mod gem_sources;
pub mod go;
pub mod javascript;
pub mod luarocks;
pub mod mix;
pub mod opam;
pub mod perl;
pub mod python;
pub mod r;
