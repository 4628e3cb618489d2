//! Managers of what one application takes in: its plug-ins, extensions and providers.

pub mod gh;
pub mod helm;
pub mod krew;
pub mod mason;
pub mod terraform;
pub mod vscode;
