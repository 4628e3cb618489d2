//! What can be shown on the right.

use whodunit_core::bytes::ByteString;

/// Something that can be shown. Numbers are those of the list it stands in.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Target {
    /// Every installation.
    Machine,
    /// One installation.
    Installation(usize),
    /// Findings with one cause.
    Group(usize),
    /// What a name starts.
    Name(ByteString),
    /// A package, by its id.
    Package(ByteString),
    /// The files of a package.
    Files(ByteString),
    /// Whose a file is, and who else claims it.
    File(ByteString),
    /// A launcher.
    Launcher(usize),
    /// The search path of a context.
    Context(usize),
    /// A source.
    Source(usize),
    /// Something that was done.
    Event(usize),
}
