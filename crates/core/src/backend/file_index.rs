//! Who claims a path.

use crate::bytes::ByteString;
use crate::model::{Claim, Claimant, Digest, Evidence, NameFilter, PathClaim, RecordPosition, Remedy};

/// The capability of a manager that knows which package a path belongs to: by lists of files, or because it owns whole
/// directory trees.
pub trait FileIndex {
    /// Hands every claim on a single path that `filter` selects to `take`, in any order.
    fn claims(&self, filter: &NameFilter, take: &mut dyn FnMut(Claim<'_>)) {
        let _ = (filter, take);
    }

    /// The canonical directories, or single files, outside of which [`FileIndex::claims_on`] claims nothing and no program
    /// is a wrapper or shim of this manager; `None` where that is not known. It is asked once.
    fn domain(&self) -> Option<Vec<ByteString>> {
        None
    }

    /// Claims on one canonical path by a manager whose own directories show at once whether the path can be its
    /// business: one that owns whole trees, such as store paths and deployed bundles, or one whose records are beside
    /// the files, such as a language's environments.
    fn claims_on(&self, canonical: &[u8]) -> Vec<PathClaim> {
        self.tree_over(canonical).map(|(package, tree)| PathClaim::tree(package, tree)).into_iter().collect()
    }

    /// The package that owns the whole tree in which a canonical path is, and that tree; `None` from a manager that
    /// owns no trees.
    fn tree_over(&self, canonical: &[u8]) -> Option<(u32, ByteString)> {
        let _ = canonical;
        None
    }

    /// Where a claim on `path`, as the record spells it, is recorded, and what the record says. Empty if that is the
    /// record of the package itself.
    fn claim_evidence(&self, claimant: Claimant, path: &[u8], position: RecordPosition) -> Vec<Evidence> {
        let _ = (claimant, path, position);
        Vec::new()
    }

    /// The name of a group of links, such as `alternatives/GROUP`, and what its manager says of the current choice.
    ///
    /// Called only for groups that this manager has claimed for; `None` from a manager without groups.
    fn group(&self, group: u32) -> Option<(ByteString, Vec<Evidence>)> {
        let _ = group;
        None
    }

    /// The file that a group of links leads to once some files are gone: the manager chooses again. `None` if nothing is
    /// left to choose.
    fn next_of_group(&self, group: u32, is_gone: &dyn Fn(&ByteString) -> bool) -> Option<ByteString> {
        let _ = (group, is_gone);
        None
    }

    /// The command that repairs a group of links of which one leads nowhere, or removes the group where nothing is left
    /// to choose.
    fn repair_group(&self, group: u32) -> Option<Remedy> {
        let _ = group;
        None
    }

    /// The digest recorded for a path of a package.
    fn digest(&self, package: u32, path: &[u8]) -> Option<Digest> {
        let _ = (package, path);
        None
    }
}
