//! yum's notes about packages (`yumdb`): `/var/lib/yum/yumdb/LETTER/DIGEST-NAME-VERSION-RELEASE-ARCH/` with a small file
//! for each note; `reason` is `user` or `dep`, `from_repo` the repository.
//!
//! Trap: the epoch is in none of it.

use crate::bytes::{ByteString, path};
use crate::fs::{FsError, Kind, Limit, Root};
use crate::model::{Evidence, Loss, Reason};

const PLACE: &[u8] = b"/var/lib/yum/yumdb";
const LOST: &str = "which packages were requested, and from where, is unknown of yum";

/// What is noted of one package.
pub struct Note {
    pub name: ByteString,
    pub arch: ByteString,
    /// `VERSION-RELEASE`.
    pub version: ByteString,
    /// Whether it was asked for, and where that stands.
    pub reason: Option<(Reason, Evidence)>,
    pub repository: Option<ByteString>,
}

/// `DIGEST-NAME-VERSION-RELEASE-ARCH` → name, version with release, and architecture.
fn parts(dir: &[u8]) -> Option<(&[u8], &[u8], &[u8])> {
    let rest = &dir[memchr::memchr(b'-', dir)? + 1..];
    let arch = memchr::memrchr(b'-', rest)?;
    let release = memchr::memrchr(b'-', &rest[..arch])?;
    let version = memchr::memrchr(b'-', &rest[..release]).filter(|at| *at > 0)?;
    Some((&rest[..version], &rest[version + 1..arch], &rest[arch + 1..]))
}

/// What yum noted; `None` where it noted nothing here. A place that cannot be read is added to `losses`.
pub fn notes(root: &Root, losses: &mut Vec<Loss>) -> Option<Vec<Note>> {
    let dirs_in = |dir: &[u8]| -> Result<Vec<ByteString>, FsError> {
        let dirs = root.dir(dir)?.list()?.into_iter().filter(|(_, kind)| *kind == Kind::Dir);
        Ok(dirs.map(|(name, _)| path::join(dir, &name)).collect())
    };
    match dirs_in(PLACE) {
        Ok(letters) => {
            let dirs = letters.iter().flat_map(|letter| dirs_in(letter).unwrap_or_default());
            Some(dirs.filter_map(|dir| note(root, &dir)).collect())
        }
        Err(error) => {
            if !error.is_missing() {
                losses.push(Loss::unread(&error, LOST));
            }
            None
        }
    }
}

fn note(root: &Root, dir: &ByteString) -> Option<Note> {
    let (name, version, arch) = parts(path::name(dir))?;
    let text = |file: &ByteString| {
        let content = root.read(file, Limit::SMALL).ok()?;
        Some(ByteString::from(content.trim_ascii()))
    };
    let file = path::join(dir, b"reason");
    let reason = text(&file).map(|says| {
        let reason = match &*says {
            b"user" => Reason::Explicit,
            b"dep" => Reason::Dependency,
            _ => Reason::Unknown,
        };
        (reason, Evidence::whole(file, format!("reason: {says}")))
    });
    let repository = text(&path::join(dir, b"from_repo"));
    Some(Note { name: name.into(), arch: arch.into(), version: version.into(), reason, repository })
}

#[cfg(test)]
mod tests {
    #[test]
    fn a_directory_names_its_package() {
        let digest = "0123456789012345678901234567890123456789";
        let dir = format!("{digest}-tide-gauge-3.1-2.el7-x86_64");
        let expected = (&b"tide-gauge"[..], &b"3.1-2.el7"[..], &b"x86_64"[..]);
        assert_eq!(super::parts(dir.as_bytes()), Some(expected));
        for dir in ["x", "a-b-c", "0-1-2-3"] {
            assert_eq!(super::parts(dir.as_bytes()), None, "{dir}");
        }
    }
}
