//! Where managers keep what they fetched, or can make again.

/// A place with files that the manager fetches, or makes, again when it needs them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CachePlace {
    /// What is in it.
    pub what: &'static str,
    /// The directory: absolute, or below a user's home where it begins with `~/`.
    pub dir: &'static str,
    /// The manager's own command that empties it, typed by the user in whose home it is, else by root. `None` where the
    /// manager has none that touches nothing else.
    pub clear: Option<&'static str>,
}

impl CachePlace {
    /// A place that a command of the manager empties.
    #[must_use]
    pub const fn cleared_by(what: &'static str, dir: &'static str, command: &'static str) -> Self {
        CachePlace { what, dir, clear: Some(command) }
    }

    /// A place that no command of the manager empties without touching more.
    #[must_use]
    pub const fn without_command(what: &'static str, dir: &'static str) -> Self {
        CachePlace { what, dir, clear: None }
    }
}
