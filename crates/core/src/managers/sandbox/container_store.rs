//! The store of containers that podman keeps (`containers-storage.conf(5)`): below it, for each driver, a directory with a
//! document of its containers, and one with a document of its images.

use crate::backend::simple::dirs_in;
use crate::bytes::{ByteString, path};
use crate::host::Host;

/// The documents of a store, each of one driver: of its `containers`, or of its `images`.
pub(super) fn documents(host: &Host, store: &[u8], what: &str) -> Vec<ByteString> {
    let ending = format!("-{what}");
    let of_drivers = dirs_in(host, store, false).into_iter().filter(|(name, _)| name.ends_with(ending.as_bytes()));
    let file = format!("{what}.json");
    of_drivers.map(|(name, _)| path::join(&path::join(store, &name), file.as_bytes())).collect()
}
