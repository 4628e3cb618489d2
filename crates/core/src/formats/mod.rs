//! Readers for file formats that know no manager. They take bytes, or something to read and seek in,
//! and never a path: what is read, and how much of it, is decided above.

pub mod accounts;
pub mod appstream;
pub mod binary;
pub mod bolt;
pub mod bundle;
pub mod database;
pub mod desktop_entry;
pub mod dynamic;
pub mod key_file;
pub mod loader_cache;
pub mod manual;
pub mod ndb;
pub mod packed;
pub mod primary;
pub mod pyvenv;
pub mod rpm_header;
pub mod settings;
pub mod shebang;
pub mod shell;
pub mod squashfs;
pub mod stanza;
pub mod yaml;
