//! One file per family of problems; pure functions of what is known already.

pub mod held;
pub mod launchers;
pub mod programs;
pub mod search_path;
pub mod words;
