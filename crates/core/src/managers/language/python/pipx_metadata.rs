//! pipx's own record of an environment (`pipx_metadata.json`).

use std::collections::BTreeMap;

use serde::Deserialize;

/// `pipx_metadata.json`, as far as it is used.
#[derive(Debug, Deserialize)]
pub struct PipxMetadata {
    /// The application.
    pub main_package: PipxPackage,
    /// Packages that were injected beside it.
    #[serde(default)]
    pub injected_packages: BTreeMap<String, PipxPackage>,
}

/// A package that pipx notes.
#[derive(Debug, Deserialize)]
pub struct PipxPackage {
    /// Its name.
    pub package: Option<String>,
    pub package_or_url: Option<String>,
    #[serde(default)]
    pub apps: Vec<String>,
    #[serde(default)]
    pub apps_of_dependencies: Vec<String>,
    #[serde(default)]
    pub include_dependencies: bool,
    #[serde(default)]
    pub include_apps: bool,
    #[serde(default)]
    pub suffix: String,
    #[serde(default)]
    pub pinned: bool,
}
