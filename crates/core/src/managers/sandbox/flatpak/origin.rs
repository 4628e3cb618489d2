//! Remotes as the origins of what came from them.

use crate::bytes::ByteString;
use crate::host::Host;
use crate::model::Origin;

/// Whether a remote is on this machine: one without an address was made for a bundle.
pub(super) fn is_local(url: Option<&ByteString>) -> bool {
    url.is_none_or(|url| url.starts_with(b"file:"))
}

/// A remote as the origin of what came from it.
pub(super) fn of_remote(host: &Host, name: ByteString, url: Option<ByteString>) -> Origin {
    if is_local(url.as_ref()) {
        return Origin::local("remote", name, url);
    }
    // Some distributions have a remote of their own.
    let is_own = url.as_ref().is_some_and(|url| host.is_distributions(url));
    let origin = Origin::third_party("remote", name, url);
    if is_own { Origin { trust: Some("distribution".to_owned()), ..origin } } else { origin }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fs::Root;
    use crate::host::{ProcessEnv, UserSelection};

    #[test]
    #[expect(clippy::disallowed_methods, reason = "builds the tree that it looks at")]
    fn a_remote_of_the_distribution_is_its_own() {
        let tree = tempfile::tempdir().unwrap();
        std::fs::create_dir(tree.path().join("etc")).unwrap();
        std::fs::write(tree.path().join("etc/os-release"), "ID=breakwater\n").unwrap();
        let host = Host::new(Root::offline(tree.path()).unwrap(), &UserSelection::All, ProcessEnv::default()).unwrap();
        for (url, expected) in [
            (Some("https://flatpaks.breakwater.example/repo"), "distribution"),
            (Some("https://quay.example/repo"), "third-party"),
            (Some("file:///srv/breakwater"), "local"),
            (None, "local"),
        ] {
            let origin = of_remote(&host, "one".into(), url.map(ByteString::from));
            assert_eq!(origin.trust.as_deref(), Some(expected), "{url:?}");
        }
    }
}
