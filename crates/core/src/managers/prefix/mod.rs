//! Managers of a prefix of their own.

pub mod android_sdk;
pub mod gcloud;
pub mod homebrew;
pub mod jetbrains;
pub mod legendary;
pub mod macports;
pub mod steam;
pub mod stow;
pub mod texlive;
