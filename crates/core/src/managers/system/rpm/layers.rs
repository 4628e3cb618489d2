//! What was put on top of a system that comes as an image (`rpm-ostree(1)`, "Package layering").
//!
//! `/ostree/deploy/OS/deploy/CHECKSUM.NUMBER.origin` is a key file for each deployment: `[packages]` has the names that were
//! asked for, `requested`, and packages from files, `requested-local`, as `DIGEST:NAME-VERSION-RELEASE.ARCH`.
//!
//! Traps: several deployments lie side by side; which of them runs, the kernel's command line tells, and of a tree that does
//! not run only one that is alone can be meant. All other packages are the image's, or came along.

use super::nevra::name_end;
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::model::{Evidence, Loss};
use whodunit_formats::key_file::KeyFile;

const DEPLOYMENTS: &[u8] = b"/ostree/deploy";
const LOST: &str = "which packages were put on top of the image is unknown";

/// The names of the packages that were asked for, each with where that stands.
pub(super) fn requested(root: &Root, notes: &mut Vec<Loss>) -> Vec<(ByteString, Evidence)> {
    let Some(file) = origin(root, notes) else { return Vec::new() };
    let content = match root.read(&file, Limit::SMALL) {
        Ok(content) => KeyFile::parse(&content),
        Err(error) => {
            notes.push(Loss::unread(&error, LOST));
            return Vec::new();
        }
    };
    let mut found = Vec::new();
    for key in ["requested", "requested-local"] {
        for one in content.list("packages", key) {
            let full = one.rsplit(':').next().unwrap_or(one);
            let name = if key == "requested" { Some(one) } else { name_end(full.as_bytes()).map(|end| &full[..end]) };
            let evidence = Evidence::at(file.clone(), key, format!("{full} was put on top of the image"));
            found.extend(name.map(|name| (name.into(), evidence)));
        }
    }
    found
}

/// The file of the deployment that is meant.
fn origin(root: &Root, notes: &mut Vec<Loss>) -> Option<ByteString> {
    let mut files: Vec<ByteString> = Vec::new();
    for (system, _) in root.names_in(DEPLOYMENTS) {
        let deploy = path::join(&path::join(DEPLOYMENTS, &system), b"deploy");
        let names = root.names_in(&deploy);
        files.extend(
            names.iter().filter(|(name, _)| name.ends_with(b".origin")).map(|(name, _)| path::join(&deploy, name)),
        );
    }
    if let Some(running) = (!files.is_empty()).then(|| running(root)).flatten() {
        return Some(running);
    }
    if files.len() > 1 {
        notes.push(Loss::damaged(DEPLOYMENTS, "several deployments, and none is told to be meant", LOST));
    }
    files.pop().filter(|_| files.is_empty())
}

/// The file of the deployment that runs: `ostree=/ostree/boot.1/OS/CHECKSUM/0` is a link to it.
fn running(root: &Root) -> Option<ByteString> {
    let line = root.is_live().then(|| root.read(b"/proc/cmdline", Limit::SMALL).ok()).flatten()?;
    let link = line.split(u8::is_ascii_whitespace).find_map(|word| word.strip_prefix(b"ostree="))?;
    let dir = root.canonicalize_dir(link);
    let file: ByteString = [&dir[..], b".origin"].concat().into();
    // A container sees the command line of the system around it.
    root.entry(&file).is_ok().then_some(file)
}
