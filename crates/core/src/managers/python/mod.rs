//! Python: what pip and uv installed into interpreters and environments, and the applications that pipx and
//! uv keep in environments of their own.
//!
//! | what | where |
//! |---|---|
//! | pip, for all | `/usr/local/lib/pythonX.Y/{dist,site}-packages`; by force also `/usr/lib/python3/dist-packages` and the like |
//! | pip, for a person | `~/.local/lib/pythonX.Y/site-packages` (`PYTHONUSERBASE`) |
//! | environments | a folder with `pyvenv.cfg`, or `conda-meta`, or a whole interpreter that a version manager keeps |
//!
//! Nothing is imported, and no `.pth` file is evaluated. What lies in a folder that a distribution's manager
//! fills as well is that manager's where it claims the metadata ([`Holdings::yields`]).

mod distribution;
mod facts;
mod find;
mod holdings;
mod record;
pub mod requirement;
pub mod requirements;
mod site;
mod tools;

use super::{Holdings, Manager};
use crate::model::ManagerId;
use crate::scene::Scene;

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

    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>> {
        let people = scene.people.iter().map(Some).chain([None]);
        people.map(|person| Box::new(holdings::PythonHoldings::new(scene, person)) as Box<dyn Holdings + 's>).collect()
    }
}

/// pipx.
#[derive(Debug)]
pub struct Pipx;

impl Manager for Pipx {
    fn id(&self) -> ManagerId {
        PIPX
    }

    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>> {
        tools::pipx(scene)
    }
}

/// uv: its tools and interpreters.
#[derive(Debug)]
pub struct Uv;

impl Manager for Uv {
    fn id(&self) -> ManagerId {
        UV
    }

    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>> {
        tools::uv(scene)
    }
}
