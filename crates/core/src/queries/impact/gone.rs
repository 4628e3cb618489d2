//! What would be gone from the disk if packages were removed.

use hashbrown::HashSet;
use rayon::prelude::*;

use crate::backend::Launching;
use crate::bytes::{ByteString, path};
use crate::fs::Kind;
use crate::index::{ClaimIndex, FoundClaim};
use crate::model::{Claimant, Depth};
use crate::queries::by_holder;
use crate::survey::Survey;

/// What would be gone.
pub(super) struct Gone<'a, 's> {
    pub(super) survey: &'a Survey<'s>,
    files: HashSet<ByteString>,
    pub(super) packages: HashSet<(u16, u32)>,
    /// No records: the claims of places only, which need no look through them.
    places: ClaimIndex,
}

impl<'a, 's> Gone<'a, 's> {
    /// These packages (holder and number), and the canonical paths of every file that only they record.
    pub(super) fn of(survey: &'a Survey<'s>, packages: &[(u16, u32)]) -> Self {
        let places = survey.claims(std::iter::empty());
        let mut gone = Gone { survey, files: HashSet::new(), packages: packages.iter().copied().collect(), places };
        let mut files = Vec::new();
        for (holder, wanted) in by_holder(packages.iter().copied()) {
            if let Some(records) = survey.installations()[usize::from(holder)].file_records() {
                files.extend(records.file_records(&wanted, Depth::Presence).into_iter().map(|one| one.path));
            }
        }
        let root = survey.root();
        let canonical: Vec<ByteString> = files.par_iter().map(|file| root.canonicalize(file)).collect();
        let index = survey.claims(canonical.iter().map(|file| &**file));
        let is_theirs = |file: &ByteString| {
            gone.takes(&survey.ownership(&index, file).packages)
                && root.entry(file).is_ok_and(|meta| meta.kind != Kind::Dir)
        };
        let files = canonical.into_iter().filter(is_theirs).collect();
        gone.files = files;
        gone
    }

    /// The files that would be deleted, in order.
    pub(super) fn into_files(self) -> Vec<ByteString> {
        let mut files: Vec<ByteString> = self.files.into_iter().collect();
        files.sort_unstable();
        files
    }

    /// The directories of programs that the managers of what would go keep for themselves.
    pub(super) fn own_dirs(&self) -> Vec<ByteString> {
        let root = self.survey.root();
        let mut dirs = Vec::new();
        for (holder, held) in (0..).zip(self.survey.installations()) {
            if !self.packages.iter().any(|(of, _)| *of == holder) {
                continue;
            }
            let own = held.launching().map(Launching::own_dirs).unwrap_or_default();
            dirs.extend(own.iter().map(|dir| root.canonicalize_dir(dir)));
            for dir in held.launching().map(Launching::program_dirs).unwrap_or_default() {
                let canonical = root.canonicalize_dir(&dir);
                if canonical != dir || path::within(&canonical, &held.location().dir) {
                    dirs.push(canonical);
                }
            }
        }
        dirs
    }

    /// Whether a claim is that of a package that would go.
    fn claims(&self, claim: &FoundClaim) -> bool {
        matches!(claim.claimant, Claimant::Package(number) if self.packages.contains(&(claim.holder, number)))
    }

    /// Whether what these claims are on would be deleted: a manager deletes what it recorded for a package, unless
    /// another package of its own has it too. What other managers recorded, it does not know.
    fn takes(&self, claims: &[FoundClaim]) -> bool {
        claims.iter().any(|claim| {
            self.claims(claim) && claims.iter().all(|other| other.holder != claim.holder || self.claims(other))
        })
    }

    /// Whether nothing would be left at a canonical path.
    pub(super) fn has(&self, canonical: &ByteString) -> bool {
        self.has_by(&self.places, canonical)
    }

    /// The same, with what the records of this index claim.
    pub(super) fn has_by(&self, index: &ClaimIndex, canonical: &ByteString) -> bool {
        if self.files.contains(canonical) {
            return true;
        }
        self.takes(&self.survey.ownership(index, canonical).packages)
    }
}
