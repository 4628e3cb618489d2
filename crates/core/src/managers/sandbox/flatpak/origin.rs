//! Remotes as the origins of what came from them.

use crate::bytes::ByteString;
use crate::model::Origin;

/// Whether a remote is on this machine: one without an address was made for a bundle.
pub(super) fn is_local(url: Option<&ByteString>) -> bool {
    url.is_none_or(|url| url.starts_with(b"file:"))
}

/// A remote as the origin of what came from it.
pub(super) fn of_remote(name: ByteString, url: Option<ByteString>) -> Origin {
    match is_local(url.as_ref()) {
        true => Origin::local("remote", name, url),
        false => Origin::third_party("remote", name, url),
    }
}
