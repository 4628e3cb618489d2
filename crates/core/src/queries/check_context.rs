//! The shared inputs of the families of checks and of the questions that compare contexts.

use crate::bytes::ByteString;
use crate::host::User;
use crate::resolve::{Context, ResolvedContext, SearchPath};
use crate::survey::Survey;

/// What one user's contexts search.
#[derive(Debug, Clone)]
pub struct UserView {
    /// Whose they are; none for a search path that was given.
    pub user: Option<User>,
    /// The search path of each context.
    pub searches: Vec<SearchPath>,
    /// What these contexts start with, in the same order; fewer where a search path was given.
    pub usual: Vec<ResolvedContext>,
}

impl UserView {
    /// The search path that the user types into: that of a terminal, else of a login, else the first.
    #[must_use]
    pub fn typed(&self) -> &SearchPath {
        let of = |context| self.searches.iter().find(|search| search.context == context);
        of(Context::Terminal).or_else(|| of(Context::Login)).unwrap_or(&self.searches[0])
    }
}

/// The inputs of a question about the whole machine, seen by one user after the other.
#[derive(Clone, Copy)]
pub struct CheckContext<'a, 's> {
    /// The machine.
    pub survey: &'a Survey<'s>,
    /// Every user's contexts.
    pub views: &'a [UserView],
    /// The number of the view that is looked at.
    pub view: usize,
    /// The contexts of all users, root's own among them.
    pub resolved: &'a [ResolvedContext],
}

impl<'a, 's> CheckContext<'a, 's> {
    /// The inputs, seen by the first user.
    ///
    /// # Panics
    /// If there is no view.
    #[must_use]
    pub fn new(survey: &'a Survey<'s>, views: &'a [UserView], resolved: &'a [ResolvedContext]) -> Self {
        assert!(!views.is_empty(), "a question is asked by someone");
        CheckContext { survey, views, view: 0, resolved }
    }

    /// The same for each user.
    pub(crate) fn each(&self) -> impl Iterator<Item = CheckContext<'a, 's>> + '_ {
        (0..self.views.len()).map(|view| CheckContext { view, ..*self })
    }

    /// Whose contexts are looked at.
    pub(crate) fn user(&self) -> Option<&'a User> {
        self.views[self.view].user.as_ref()
    }

    /// The search path of each context of that user.
    pub(crate) fn searches(&self) -> &'a [SearchPath] {
        &self.views[self.view].searches
    }

    /// The search paths of every user.
    pub(crate) fn all_searches(&self) -> impl Iterator<Item = &'a SearchPath> + use<'a> {
        self.views.iter().flat_map(|view| &view.searches)
    }

    /// The search path that this user types into.
    pub(crate) fn typed(&self) -> &'a SearchPath {
        self.views[self.view].typed()
    }

    /// Every directory in which programs lie that any context of any user searches, or that a manager fills, each once.
    pub(crate) fn program_dirs(&self) -> Vec<ByteString> {
        let mut dirs: Vec<ByteString> = self.survey.program_dirs();
        dirs.extend(self.all_searches().flat_map(|search| &search.entries).map(|entry| entry.canonical.clone()));
        let mut seen = hashbrown::HashSet::new();
        dirs.retain(|dir| dir.starts_with(b"/") && seen.insert(self.survey.root().canonicalize_dir(dir)));
        dirs
    }

    /// What the context that this user types into starts with.
    pub(crate) fn typed_context(&self) -> Option<&'a ResolvedContext> {
        self.views[self.view].usual.iter().find(|one| one.context == self.typed().context)
    }
}
