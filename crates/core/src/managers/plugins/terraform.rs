//! Providers of Terraform in a mirror on this machine (Terraform documentation, "CLI Configuration File", "Implied Local
//! Mirror Directories").
//!
//! Below a mirror: `HOST/NAMESPACE/TYPE/VERSION/OS_ARCH/` where it is unpacked, or one archive
//! `HOST/NAMESPACE/TYPE/terraform-provider-TYPE_VERSION_OS_ARCH.zip`. Mirrors are at the implied places, and where a
//! `filesystem_mirror` or `plugin_cache_dir` of the configuration says.
//!
//! Traps: one provider is there in several versions on purpose; a cache has the same layout as a mirror.

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, at_each, dirs_in, is_dir, of, scope_of};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, Location, ManagerId, ManagerKind, Origin, Profile, Scope};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("terraform");

/// The manager.
#[derive(Debug)]
pub struct Terraform;

struct Mirror;

impl Manager for Terraform {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile { keeps_versions: true, ..Profile::of(ManagerKind::Language) }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let shared = ["/usr/local/share/terraform/plugins", "/usr/share/terraform/plugins"];
        let mut mirrors: Vec<(Scope, ByteString)> = shared.map(|dir| (Scope::System, dir.into())).to_vec();
        for user in &host.users {
            let own = [".terraform.d/plugins", ".terraform.d/plugin-cache", ".local/share/terraform/plugins"];
            mirrors.extend(own.map(|dir| (of(user), host.user_dir(user, "", dir))));
            let file = host.user_dir(user, "TF_CLI_CONFIG_FILE", ".terraformrc");
            let content = host.root.read(&file, Limit::SMALL).unwrap_or_default();
            let home = host.root.canonicalize_dir(&user.home);
            // A mirror can serve more than the user whose configuration names it.
            mirrors.extend(configured(&content).map(|dir| {
                let dir = host.root.canonicalize_dir(&path::absolute(dir, &home));
                (scope_of(host, &dir), dir)
            }));
        }
        at_each(host, ID, mirrors, |dir| is_dir(host, dir), |_| Mirror)
    }
}

/// The directories that a configuration names: the value of `path` or `plugin_cache_dir`, where it is a plain text.
fn configured(content: &[u8]) -> impl Iterator<Item = &[u8]> {
    content.split(|b| matches!(b, b'\n' | b'{')).filter_map(|line| {
        let (name, value) = bstr::ByteSlice::split_once_str(line.trim_ascii(), "=")?;
        let value = value.trim_ascii().strip_prefix(b"\"")?;
        let end = value.iter().position(|&b| b == b'"')?;
        matches!(name.trim_ascii(), b"path" | b"plugin_cache_dir").then_some(&value[..end])
    })
}

/// `terraform-provider-tide_1.2.0_linux_amd64.zip` of `tide` → the version, and what it runs on.
fn archive<'a>(name: &'a [u8], kind: &[u8]) -> Option<(&'a [u8], &'a [u8])> {
    let rest = name.strip_prefix(b"terraform-provider-")?.strip_prefix(kind)?.strip_prefix(b"_")?;
    let rest = rest.strip_suffix(b".zip")?;
    let end = rest.iter().position(|&b| b == b'_')?;
    Some((&rest[..end], &rest[end + 1..]))
}

/// A provider of one version, which lies at `tree`.
fn provider(
    address: &[u8],
    host_name: &ByteString,
    version: &[u8],
    platform: &[u8],
    tree: ByteString,
) -> InstalledPackage {
    let mut item = InstalledPackage::kept("provider", address, version);
    item.arch = Some(platform.into());
    item.tail = Some([address, b"/", version, b"/", platform].concat().into());
    item.origin = Some(Origin::third_party("registry", host_name.clone(), None));
    item.evidence.push(Evidence::directory(tree.clone(), item.with_version()));
    item.trees.push(tree);
    item
}

impl SimpleBackend for Mirror {
    // Providers do not need one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let below = |dir: &ByteString| -> Vec<(ByteString, ByteString)> {
            dirs_in(host, dir, false).into_iter().map(|(name, _)| (path::join(dir, &name), name)).collect()
        };
        // Only what is called like a machine on the network holds providers.
        for (registry, host_name) in below(&at.dir).into_iter().filter(|(_, name)| name.contains(&b'.')) {
            for (dir, kind) in below(&registry).iter().flat_map(|(dir, _)| below(dir)) {
                let address = dir.strip_prefix(&*registry).map_or(&b""[..], |rest| &rest[1..]);
                for (version_dir, version) in below(&dir) {
                    for (tree, platform) in below(&version_dir) {
                        record.items.push(provider(address, &host_name, &version, &platform, tree));
                    }
                }
                for (name, _) in host.root.names_in(&dir) {
                    if let Some((version, platform)) = archive(&name, &kind) {
                        record.items.push(provider(address, &host_name, version, platform, path::join(&dir, &name)));
                    }
                }
            }
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Semver
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn directories_of_a_configuration() {
        let text = b"provider_installation {\n  filesystem_mirror {\n    path    = \"/opt/harbour\"\n    include = [\"quay.example/*/*\"]\n  }\n  direct { exclude = [\"x\"] }\n}\n# path = \"no\nplugin_cache_dir=\"cache\"\n";
        assert_eq!(configured(text).collect::<Vec<_>>(), [&b"/opt/harbour"[..], b"cache"]);
    }

    #[test]
    fn archives_name_version_and_platform() {
        let name = b"terraform-provider-tide_1.2.0_linux_amd64.zip";
        assert_eq!(archive(name, b"tide"), Some((&b"1.2.0"[..], &b"linux_amd64"[..])));
        assert_eq!(archive(name, b"rope"), None);
    }
}
