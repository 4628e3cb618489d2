//! Snapshots of many machines in one store, and the questions that are asked of it.
//!
//! A snapshot is taken on each machine and brought here by whatever a site has. [`load`] adds snapshots to a [`store`];
//! [`questions`] ask it in SQL that every engine understands. Nothing listens on a network.

pub mod load;
pub mod questions;
pub mod rows;
pub mod schema;
pub mod store;
pub mod tables;
pub mod value;
