//! Managers of a prefix of their own.

pub mod android_sdk;
pub mod gcloud;
pub mod homebrew;
pub mod jetbrains;
pub mod legendary;
pub mod lutris;
pub mod macports;
pub mod steam;
pub mod stow;
pub mod texlive;
