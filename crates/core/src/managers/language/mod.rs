//! Managers of one language each.

pub mod cargo;
pub mod conda;
pub mod gem;
pub mod go;
pub mod javascript;
pub mod python;
