//! What apt keeps although nobody asked for it (`apt-get(8)`, `autoremove`): what recommendations and suggestions of
//! kept packages name, and what matches `APT::NeverAutoRemove`.
//!
//! Of kernels apt keeps the one that runs and the two latest, with what is built for them
//! (`APT::VersionedKernelPackages`). Which one runs is not recorded: here every kernel counts as kept.

use regex_lite::Regex;

use super::conf;
use crate::fs::Root;
use crate::model::Loss;

/// The rules of one machine.
#[derive(Debug)]
pub struct Rules {
    /// Whether what is recommended is kept.
    pub recommended: bool,
    /// Whether what is suggested is kept.
    pub suggested: bool,
    /// Whether every pattern was understood.
    pub is_whole: bool,
    patterns: Vec<Regex>,
}

impl Rules {
    /// Reads them from apt's settings. `kernels` are the versions of the kernels that are installed.
    pub fn read(root: &Root, kernels: &[String], notes: &mut Vec<Loss>) -> Self {
        let settings = conf::read(root, "which packages apt keeps is unknown", notes);
        let never = settings.list("APT::NeverAutoRemove").map(str::to_owned);
        let versioned = |name: &'_ str| {
            let of_kernel = |version: &String| format!("^{name}-{}$", regex_lite::escape(version));
            kernels.iter().map(of_kernel).collect::<Vec<_>>()
        };
        let kernels = settings.list("APT::VersionedKernelPackages").flat_map(versioned);
        let patterns: Result<Vec<Regex>, _> =
            never.chain(kernels).map(|pattern| Regex::new(&format!("(?i){pattern}"))).collect();
        let is_set = |name: &str| settings.is_set(name, true);
        Rules {
            recommended: is_set("APT::AutoRemove::RecommendsImportant"),
            suggested: is_set("APT::AutoRemove::SuggestsImportant"),
            is_whole: patterns.is_ok(),
            patterns: patterns.unwrap_or_default(),
        }
    }

    /// Whether a package is kept whatever needs it.
    pub fn keeps(&self, name: &[u8]) -> bool {
        std::str::from_utf8(name).is_ok_and(|name| self.patterns.iter().any(|pattern| pattern.is_match(name)))
    }
}

/// The kernels that apt keeps in any case: of more, some are removed.
pub const KERNELS: usize = 2;

/// The version that a kernel's package has in its name: `linux-image-6.1.0-9-amd64`.
pub fn kernel(name: &[u8]) -> Option<String> {
    let version = std::str::from_utf8(name).ok()?.strip_prefix("linux-image-")?;
    version.starts_with(|c: char| c.is_ascii_digit()).then(|| version.to_owned())
}
