//! The demo workstation: `lantern`, in the harbour office of a small island port.
//!
//! [`write()`] lays its tree into an empty directory, in the managers' real formats. All software, users
//! and versions on it are invented; only interpreters and the managers themselves keep their names.
//! The same machine can be had larger ([`Scale`]), for measurements.

mod archive;
mod bill_of_materials;
mod binary;
mod bundle;
mod cast;
mod deb;
mod flatpak;
mod fleet;
mod homes;
mod laptop;
mod logs;
mod machine;
mod nix;
mod python;
mod rpm;
mod snap;
mod sources;
mod tree;
mod workshop;

use std::path::Path;

pub use archive::archive;
pub use bill_of_materials::bill_of_materials;
pub use deb::{Content, Deb, DebFile};
pub use fleet::{FleetScale, write_fleet};
pub use rpm::HeaderBuilder;
pub use tree::WriteError;

use tree::Tree;

/// How large the machine is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Scale {
    /// How often the distribution's packages are there, each time under other names; at least 1.
    pub factor: u32,
    /// Data files added to each package's list.
    pub data_files: u32,
    /// Whether the files of the added packages are written, or only recorded.
    pub write_files: bool,
}

impl Default for Scale {
    fn default() -> Self {
        Scale { factor: 1, data_files: 0, write_files: true }
    }
}

impl Scale {
    /// `factor` times the packages and files.
    #[must_use]
    pub fn times(factor: u32) -> Self {
        Scale { factor: factor.max(1), ..Scale::default() }
    }
}

/// What was written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Written {
    /// Packages in the distribution's record.
    pub packages: usize,
    /// Paths that they claim.
    pub claims: usize,
}

/// Lays the workstation's tree into `dir`, which is made if it is not there.
///
/// # Errors
/// When the directory is not empty, or cannot be written.
pub fn write(dir: &Path, scale: Scale) -> Result<Written, WriteError> {
    let tree = Tree::begin(dir)?;
    machine::write(&tree)?;
    let mut packages = cast::packages();
    let more: Vec<Deb> =
        (1..scale.factor).flat_map(|number| packages.iter().filter_map(move |deb| deb.again(number))).collect();
    packages.extend(more);
    for deb in &mut packages {
        deb.add_data(scale.data_files);
    }
    let claims = deb::write(&tree, &packages, scale.write_files)?;
    sources::write(&tree, &packages, machine::SET_UP + 49 * 86_400)?;
    logs::write(&tree)?;
    cast::by_hand(&tree)?;
    nix::write(&tree)?;
    flatpak::write(&tree)?;
    bundle::write(&tree)?;
    snap::write(&tree)?;
    python::write(&tree)?;
    homes::write(&tree)?;
    Ok(Written { packages: packages.len(), claims })
}

/// Lays `jetty` into `dir`, the machine of the boat builder's workshop: software of every manager that
/// `lantern` does not have, one program of each.
///
/// # Errors
/// As [`write()`].
pub fn write_workshop(dir: &Path) -> Result<(), WriteError> {
    workshop::write(&Tree::begin(dir)?)
}

/// Lays `gannet` into `dir`, the ferry's laptop with macOS: the system, installer packages, bundles, and the two
/// managers that bring more there.
///
/// # Errors
/// As [`write()`].
pub fn write_laptop(dir: &Path) -> Result<(), WriteError> {
    laptop::write(&Tree::begin(dir)?)
}

/// Lays the same workstation into `dir` as it was when nothing was wrong with it: the distribution's packages with an
/// alternative and a diversion, a toolchain that is kept at three versions, a global package of a language's manager.
///
/// # Errors
/// As [`write()`].
pub fn write_healthy(dir: &Path) -> Result<(), WriteError> {
    let tree = Tree::begin(dir)?;
    machine::write_healthy(&tree)?;
    let packages = cast::healthy_packages();
    deb::write(&tree, &packages, true)?;
    sources::write_healthy(&tree, &packages, machine::SET_UP + 49 * 86_400)?;
    cast::alternatives(&tree)?;
    homes::write_healthy(&tree)
}

/// Lays a machine with nothing but a Nix store into `dir`: a database of so many paths, of which a
/// profile of maren's has so many. The store paths themselves are not written. For measurements.
///
/// # Errors
/// As [`write()`].
pub fn write_large_store(dir: &Path, paths: u32, elements: u32) -> Result<(), WriteError> {
    let tree = Tree::begin(dir)?;
    machine::write(&tree)?;
    nix::write_large(&tree, paths, elements)
}

/// Lays a machine into `dir` on which maren has so many Python environments, each with so many
/// distributions. For measurements.
///
/// # Errors
/// As [`write()`].
pub fn write_many_environments(dir: &Path, environments: u32, distributions: u32) -> Result<(), WriteError> {
    let tree = Tree::begin(dir)?;
    machine::write(&tree)?;
    python::write_many(&tree, environments, distributions)
}

/// Lays a machine into `dir` with nothing but a database of rpm: so many packages with so many files
/// each. For measurements.
///
/// # Errors
/// As [`write()`].
pub fn write_large_rpm(dir: &Path, packages: u32, files: u32) -> Result<(), WriteError> {
    let tree = Tree::begin(dir)?;
    machine::write(&tree)?;
    rpm::write_large(&tree, packages, files)
}

/// A bundle of one file, type 2, with this update information and this squashfs image. For tests of readers.
#[must_use]
pub fn bundle_of(update: &str, image: &[u8]) -> Vec<u8> {
    bundle::bundle(update, image)
}

/// A program of the demo's kind: an ELF file that nobody runs, with the packaging note of a
/// distribution. For tests of readers.
#[must_use]
pub fn packaged_program(name: &str, version: &str) -> Vec<u8> {
    binary::packaged(name, version)
}

/// A program with this read-only data and nothing else. For tests of readers.
#[must_use]
pub fn program_with_data(data: &[u8]) -> Vec<u8> {
    binary::elf(&[(".rodata", 1, data.to_vec())])
}
