//! Places that managers fill: directories of programs, and self-contained environments.

use super::Survey;
use crate::backend::{Environment, Environments, Launching};
use crate::bytes::ByteString;
use crate::resolve::program_dirs;

impl Survey<'_> {
    /// Every self-contained environment that was found.
    pub(crate) fn environments(&self) -> impl Iterator<Item = Environment> + '_ {
        self.installations().iter().filter_map(|held| held.environments()).flat_map(Environments::environments)
    }

    /// The directories in which programs lie, whether or not a search path names them: the usual ones, and those
    /// that a manager fills.
    #[must_use]
    pub fn program_dirs(&self) -> Vec<ByteString> {
        let of_managers =
            self.installations().iter().filter_map(|held| held.launching()).flat_map(Launching::program_dirs);
        program_dirs(self.host, of_managers)
    }
}
