//! The package managers: one file or directory each, none of which knows another. [`ALL`] is the registry.

pub mod language;
pub mod macos;
pub mod plugins;
pub mod prefix;
pub mod sandbox;
pub mod store;
pub mod system;
pub mod versions;

use crate::backend::{self, Manager};
use crate::bytes::ByteString;
use crate::model::{CommandLine, ManagerId, ManagerKind, Profile};
use crate::version::upstream;

/// Every manager that is read.
pub const ALL: &[&dyn Manager] = &[
    &system::dpkg::Dpkg,
    &system::rpm::Rpm,
    &system::pacman::Pacman,
    &system::apk::Apk,
    &system::portage::Portage,
    &system::eopkg::Eopkg,
    &system::xbps::Xbps,
    &system::slackware::Slackware,
    &system::opkg::Opkg,
    &system::sysext::Sysext,
    &system::fwupd::Fwupd,
    &macos::system::MacOs,
    &macos::receipts::Receipts,
    &macos::bundles::AppBundles,
    &prefix::macports::MacPorts,
    &store::nix::Nix,
    &store::nix::Guix,
    &sandbox::flatpak::Flatpak,
    &sandbox::snap::Snap,
    &sandbox::appimage::AppImage,
    &sandbox::distrobox::Distrobox,
    &sandbox::containers::Containers,
    &prefix::homebrew::Homebrew,
    &language::python::Pip,
    &language::python::Pipx,
    &language::python::Uv,
    &language::conda::Conda,
    &language::javascript::Npm,
    &language::javascript::Pnpm,
    &language::javascript::Yarn,
    &language::javascript::Bun,
    &language::deno::Deno,
    &language::cargo::Cargo,
    &versions::rustup::Rustup,
    &language::go::Go,
    &language::gem::Gem,
    &language::perl::Cpan,
    &language::composer::Composer,
    &language::luarocks::LuaRocks,
    &language::opam::Opam,
    &language::dart::Pub,
    &language::dotnet::Dotnet,
    &language::r::R,
    &language::mix::Mix,
    &language::cabal::Cabal,
    &language::coursier::Coursier,
    &plugins::gh::Gh,
    &plugins::helm::Helm,
    &plugins::krew::Krew,
    &plugins::mason::Mason,
    &plugins::terraform::Terraform,
    &plugins::vscode::VsCode,
    &prefix::texlive::TexLive,
    &prefix::android_sdk::AndroidSdk,
    &prefix::jetbrains::JetBrainsToolbox,
    &prefix::steam::Steam,
    &prefix::legendary::Legendary,
    &prefix::lutris::Lutris,
    &prefix::gcloud::Gcloud,
    &versions::Sdkman,
    &versions::PYENV,
    &versions::RBENV,
    &versions::NODENV,
    &versions::GOENV,
    &versions::JENV,
    &versions::Nvm,
    &versions::Fnm,
    &versions::Volta,
    &versions::Asdf,
    &versions::Mise,
    &versions::GRADLE,
    &versions::MAVEN,
    &versions::Ghcup,
    &versions::Stack,
    &versions::Juliaup,
    &versions::Swiftly,
    &versions::Zvm,
    &prefix::stow::Stow,
];

/// What is known of a manager without looking at a machine.
#[must_use]
pub fn profile(id: ManagerId) -> Profile {
    let known = ALL.iter().find(|manager| manager.id() == id);
    known.map_or(Profile::of(ManagerKind::Language), |manager| manager.profile())
}

/// The part of a manager's version that is upstream's; the empty text where there is no version.
#[must_use]
pub fn upstream_part(id: ManagerId, version: Option<&ByteString>) -> ByteString {
    upstream::part(profile(id).notation, version.map_or(&b""[..], |version| version))
}

/// The manager of a name, as ids of packages begin with it.
#[must_use]
pub fn named(name: &[u8]) -> Option<ManagerId> {
    ALL.iter().map(|manager| manager.id()).find(|id| id.0.as_bytes() == name)
}

/// A command of any manager in the form in which it asks nothing.
#[must_use]
pub fn unattended(line: &CommandLine) -> CommandLine {
    backend::unattended(line, &ALL.iter().flat_map(|manager| manager.unattended()))
}

/// Whether a manager keeps several versions of one thing side by side on purpose.
#[must_use]
pub fn keeps_versions(id: ManagerId) -> bool {
    profile(id).keeps_versions
}

/// Whether a manager installs the distribution's own packages.
#[must_use]
pub fn is_system(id: ManagerId) -> bool {
    profile(id).kind == ManagerKind::System
}
