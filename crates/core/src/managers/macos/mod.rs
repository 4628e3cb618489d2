//! What a macOS disk records of software: the system itself, installer packages, application bundles.

pub mod bundles;
pub mod receipts;
pub mod system;
