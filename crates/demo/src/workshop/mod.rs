//! `jetty`, the machine of the boat builder's workshop, where the port's programs are packaged for every system that
//! the other islands use: it has software of every manager that `lantern` does not have.
//!
//! Each manager has one program of its own, and each program one owner.

mod applications;
mod languages;
mod machine;
mod systems;
mod versions;

use crate::WriteError;
use crate::tree::Tree;

/// Paths and their contents. A content that begins with `-> ` is a link's target.
pub type Records = &'static [(&'static str, &'static str)];

/// Writes the machine.
pub fn write(tree: &Tree) -> Result<(), WriteError> {
    machine::write(tree)?;
    for records in [systems::RECORDS, languages::RECORDS, versions::RECORDS, applications::RECORDS] {
        tree.records(records, machine::SET_UP)?;
    }
    machine::databases(tree)?;
    machine::programs(tree)?;
    tree.date_dirs(machine::SET_UP)
}
