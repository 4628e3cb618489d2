//! The shared inputs of the families of checks and of the questions that compare contexts.

use crate::bytes::ByteString;
use crate::resolve::{Context, ResolvedContext, SearchPath};
use crate::survey::Survey;

/// The inputs of a question about the whole machine: every context of every user.
pub struct CheckContext<'a, 's> {
    /// The machine.
    pub survey: &'a Survey<'s>,
    /// The search path of each context of the user whose login stands for all.
    pub searches: &'a [SearchPath],
    /// What these contexts start with, in the same order; fewer where a search path was given.
    pub usual: &'a [ResolvedContext],
    /// The contexts of all users.
    pub resolved: &'a [ResolvedContext],
}

impl CheckContext<'_, '_> {
    /// The search path that a user at this machine types into: that of a terminal, else of a login, else the first.
    pub(crate) fn typed(&self) -> &SearchPath {
        let of = |context| self.searches.iter().find(|search| search.context == context);
        of(Context::Terminal).or_else(|| of(Context::Login)).unwrap_or(&self.searches[0])
    }

    /// Every directory in which programs lie that any context searches, or that a manager fills, each once.
    pub(crate) fn program_dirs(&self) -> Vec<ByteString> {
        let mut dirs: Vec<ByteString> = self.survey.program_dirs();
        dirs.extend(self.searches.iter().flat_map(|search| &search.entries).map(|entry| entry.canonical.clone()));
        let mut seen = hashbrown::HashSet::new();
        dirs.retain(|dir| dir.starts_with(b"/") && seen.insert(self.survey.root().canonicalize_dir(dir)));
        dirs
    }

    /// What that context starts with.
    pub(crate) fn typed_context(&self) -> Option<&ResolvedContext> {
        self.usual.iter().find(|one| one.context == self.typed().context)
    }
}
