//! Managers of what one application takes in: its plug-ins, extensions and providers.

pub mod krew;
pub mod terraform;
pub mod vscode;
