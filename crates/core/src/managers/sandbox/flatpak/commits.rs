//! From one commit of a reference to another: a version of Flatpak's has a name only in its app's own metadata, so what it
//! goes back to is a commit.

use gvariant::aligned_bytes::copy_to_align;
use gvariant::{Marker as _, Structure as _, gv};

use super::deploy::is_commit;
use super::installation::{Deployed, FlatpakInstallation};
use crate::backend::{Builds, Rehearsal, Removal};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::model::{Actor, CommandLine, Loss, Remedy, RemedyKind};

/// The commit before this one: a GVariant of type `(a{sv}aya(say)sstayay)` (*OSTree: Commit metadata*), whose second part
/// it is, as 32 bytes; there are none in the first commit of a branch.
fn parent(content: &[u8]) -> Option<ByteString> {
    let aligned = copy_to_align(content);
    let (_, parent, ..) = gv!("(a{sv}aya(say)sstayay)").cast(aligned.as_ref()).to_tuple();
    (parent.len() == 32).then(|| hex::encode(parent).into())
}

impl FlatpakInstallation<'_> {
    /// What is deployed, and what its publisher had built before it.
    pub(super) fn builds_of(&self, deployed: &Deployed, lost: &mut Vec<Loss>) -> Builds {
        let commit = &deployed.deploy.commit;
        let (start, rest) = commit.split_at(2);
        let file = path::join(&self.base.dir, format!("repo/objects/{start}/{rest}.commit").as_bytes());
        let before = match self.host.root.read(&file, Limit::SMALL) {
            Ok(content) => parent(&content),
            Err(error) => {
                lost.push(Loss::unread(&error, format!("what {} was before is unknown", deployed.id)));
                None
            }
        };
        Builds { now: commit.as_str().into(), before }
    }

    /// To a commit that its remote still has.
    pub(super) fn to_commit(&self, deployed: &Deployed, commit: &[u8]) -> Option<Removal> {
        let remote = self.origin(deployed)?.name;
        if !is_commit(commit) {
            return None;
        }
        let option = [b"--commit=", commit].concat();
        let reference = deployed.reference();
        let update = self.flatpak("update").arg(option.clone()).operand(reference.clone());
        let asks = self.flatpak("remote-info").words("--show-commit").arg(option).operand(remote).operand(reference);
        let rehearsal = Rehearsal::prints(asks, None, vec![ByteString::from(commit).to_string()]);
        let rehearsal = Rehearsal { actor: Actor::Owner, ..rehearsal };
        Some(Removal { remedy: Remedy::new(RemedyKind::Choose, update), rehearsal })
    }

    /// What tells that this commit is in force.
    pub(super) fn is_deployed(&self, deployed: &Deployed) -> Rehearsal {
        let link = path::join(path::parent(&deployed.dir), b"active");
        Rehearsal::prints(CommandLine::new("readlink --").arg(link), None, vec![deployed.deploy.commit.clone()])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_commit_of_a_branch_has_none_before_it() {
        assert_eq!(parent(b""), None);
        assert!(is_commit(&[b'a'; 64]));
        for not in [&b"3.0"[..], &[b'a'; 63], &[b'g'; 64]] {
            assert!(!is_commit(not), "{not:?}");
        }
    }

    proptest::proptest! {
        #[test]
        fn what_is_no_commit_names_none_or_one_of_32_bytes(content: Vec<u8>) {
            proptest::prop_assert!(parent(&content).is_none_or(|commit| is_commit(&commit)));
        }
    }
}
