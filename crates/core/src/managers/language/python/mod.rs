//! Python: what pip and uv installed into interpreters and environments, and the applications that pipx and
//! uv keep in environments of their own.
//!
//! | what | where |
//! |---|---|
//! | pip, for all | `/usr/local/lib/pythonX.Y/{dist,site}-packages`; by force also `/usr/lib/python3/dist-packages` and the like |
//! | pip, for a user | `~/.local/lib/pythonX.Y/site-packages` (`PYTHONUSERBASE`) |
//! | environments | a directory with `pyvenv.cfg`, or `conda-meta`, or a whole interpreter that a version manager keeps |
//!
//! Nothing is imported, and no `.pth` file is evaluated. What lies in a directory that a distribution's manager
//! fills as well is that manager's where it claims the metadata ([`SharedDirs::foreign_packages`](crate::backend::SharedDirs::foreign_packages)).

mod contract;
mod distribution;
mod facts;
mod find;
mod indexes;
mod installation;
mod pipx_metadata;
mod record;
pub mod requirement;
pub mod requirements;
mod site;
mod tools;
mod uv_receipt;

use crate::backend::{CachePlace, Installation, Manager, Unattended, UpgradeCall};
use crate::host::Host;
use crate::model::{Affix, Language, Loss, ManagerId, Profile, Source};

const PIP: ManagerId = ManagerId("pip");
const PIPX: ManagerId = ManagerId("pipx");
const UV: ManagerId = ManagerId("uv");

/// pip, and every environment whoever filled it.
#[derive(Debug)]
pub struct Pip;

impl Manager for Pip {
    fn id(&self) -> ManagerId {
        PIP
    }

    fn unattended(&self) -> &'static [Unattended] {
        &[("pip uninstall", "pip uninstall --yes"), ("pip3 uninstall", "pip3 uninstall --yes")]
    }

    fn profile(&self) -> Profile {
        Profile { fills: Some(Language::Python), ..Profile::language(Language::Python, Affix::None) }
    }

    fn indexes(&self, host: &Host, notes: &mut Vec<Loss>) -> Vec<Source> {
        indexes::of_pip(host, PIP, notes)
    }

    fn caches(&self) -> &'static [CachePlace] {
        const {
            &[CachePlace::cleared_by(
                "packages that pip downloaded or built",
                "~/.cache/pip",
                "python3 -m pip cache purge",
            )]
        }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let users = host.users.iter().map(Some).chain([None]);
        users
            .map(|user| Box::new(installation::PythonInstallation::new(host, user)) as Box<dyn Installation + 'h>)
            .collect()
    }
}

/// pipx.
#[derive(Debug)]
pub struct Pipx;

impl Manager for Pipx {
    fn id(&self) -> ManagerId {
        PIPX
    }

    fn profile(&self) -> Profile {
        Profile { fills: Some(Language::Python), ..Profile::language(Language::Python, Affix::None) }
    }

    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[("pipx", &["upgrade-all"])]
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        tools::pipx(host)
    }
}

/// uv: its tools and interpreters.
#[derive(Debug)]
pub struct Uv;

impl Manager for Uv {
    fn id(&self) -> ManagerId {
        UV
    }

    fn profile(&self) -> Profile {
        Profile { fills: Some(Language::Python), ..Profile::language(Language::Python, Affix::None) }
    }

    fn indexes(&self, host: &Host, notes: &mut Vec<Loss>) -> Vec<Source> {
        indexes::of_uv(host, UV, notes)
    }

    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[("uv", &["upgrade"])]
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::cleared_by("packages that uv downloaded or built", "~/.cache/uv", "uv cache clean")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        tools::uv(host)
    }
}
