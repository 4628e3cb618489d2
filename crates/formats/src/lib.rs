//! Readers of file formats. They know no package manager and no path: they take bytes, or something to read and seek
//! in, and return typed values and typed errors. The caller decides which file is read, and how much of it.

pub mod accounts;
pub mod appstream;
pub mod appstream_yaml;
pub mod berkeley;
pub mod bill_of_materials;
pub mod binary;
pub mod bolt;
pub mod bundle;
pub mod bytes;
pub mod caught;
pub mod database;
pub mod desktop_entry;
pub mod dynamic;
pub mod key_file;
pub mod loader_cache;
pub mod lua_table;
pub mod manual;
pub mod modulemd;
pub mod ndb;
pub mod opam;
pub mod openpgp;
pub mod packed;
pub mod parentheses;
pub mod plist;
pub mod primary;
pub mod pyvenv;
pub mod quoted_pairs;
pub mod rpm_header;
pub mod settings;
pub mod shebang;
pub mod squashfs;
pub mod stanza;
pub mod versioned;
pub mod yaml;
pub mod zipped;
