//! One file per family of problems; pure functions of what is known already.

pub mod catalogue;
pub mod folders;
pub mod held;
pub mod launchers;
pub mod programs;
pub mod words;
