//! What is missing together: files that are gone because a directory around them is.

use std::cell::RefCell;

use hashbrown::{HashMap, HashSet};

use crate::bytes::{ByteString, path};
use crate::model::{Finding, FindingKind};
use crate::survey::Survey;

/// What is missing from the tree, each directory looked up once.
pub(super) struct Absent<'a, 's> {
    survey: &'a Survey<'s>,
    /// The first part that is missing of each directory that was asked about; none of one that is there.
    dirs: RefCell<HashMap<ByteString, Option<ByteString>>>,
    /// What several packages miss.
    shared: HashSet<ByteString>,
}

impl<'a, 's> Absent<'a, 's> {
    pub(super) fn among<'f>(survey: &'a Survey<'s>, findings: impl Iterator<Item = &'f Finding>) -> Self {
        let mut absent = Absent { survey, dirs: RefCell::default(), shared: HashSet::new() };
        let mut first: HashMap<ByteString, &[ByteString]> = HashMap::new();
        for finding in findings {
            let Some(gone) = absent.behind(finding) else { continue };
            if **first.entry(gone.clone()).or_insert(&finding.packages) != *finding.packages {
                absent.shared.insert(gone);
            }
        }
        absent
    }

    /// Of what is missing, the first part: what lies in a directory that is gone is gone because of that. That a
    /// directory at the top is missing, such as `/opt`, is no cause of its own.
    pub(super) fn first_part(&self, file: &ByteString) -> ByteString {
        let dir = path::parent(file);
        let known = self.dirs.borrow().get(dir).cloned();
        let of_dir = known.unwrap_or_else(|| {
            let is_gone = !dir.is_empty()
                && !is_at_top(dir)
                && self.survey.root().entry(dir).is_err_and(|error| error.is_missing());
            let found = is_gone.then(|| self.first_part(&dir.into()));
            self.dirs.borrow_mut().insert(dir.into(), found.clone());
            found
        });
        of_dir.unwrap_or_else(|| super::plain(self.survey, file))
    }

    /// The one missing part, a file or a directory, that explains all that a finding says is missing.
    pub(super) fn behind(&self, finding: &Finding) -> Option<ByteString> {
        if finding.kind != FindingKind::MissingFile {
            return None;
        }
        let (first, others) = finding.paths.split_first()?;
        let gone = self.first_part(first);
        // As the record spells them: nothing of it is there whose links could be followed.
        let is_it = |file: &ByteString| path::within(file, &gone) || self.first_part(file) == gone;
        others.iter().all(is_it).then_some(gone)
    }

    /// Whether several packages miss it, so that it is no matter of any of them.
    pub(super) fn is_shared(&self, gone: &ByteString) -> bool {
        self.shared.contains(gone)
    }
}

/// Whether a directory is one at the top, or the root itself.
fn is_at_top(dir: &[u8]) -> bool {
    path::parent(dir).len() <= 1
}
