//! Which packages need which.

use super::dependency_graph::{Need, Node, Order, TooManyWays, Want, edges};
use crate::bytes::ByteString;
use crate::model::{CommandLine, Evidence, Owner, Relation, Remedy};

/// The capability of a manager that records dependencies.
pub trait Relations {
    /// The packages that cannot stay as they are once these are removed, by what they themselves declare, each with
    /// where it says so. `None` if that is not read of this manager: then nothing may be concluded.
    fn dependents(&self, removed: &[u32]) -> Option<Vec<(u32, Evidence)>>;

    /// Which package needs which other one of this installation, by what they declare. `None` if that is not read of
    /// this manager.
    fn requirements(&self) -> Option<Vec<Requirement>>;

    /// The packages of this installation that need packages of another installation of the same manager:
    /// [`Requirement::needs`] is a place in `needed`.
    fn dependents_on(&self, needed: &[Owner]) -> Vec<Requirement> {
        let _ = needed;
        Vec::new()
    }

    /// What packages need hard and no installed package meets. `None` where the manager's own rule for it is not known
    /// here.
    fn unmet(&self) -> Option<Vec<Unmet>> {
        None
    }

    /// The command that installs what is needed and not there, and removes nothing.
    fn meet_needs(&self) -> Option<CommandLine> {
        None
    }

    /// The packages that the manager keeps by a rule of its own, although nobody asked for them and nothing needs them.
    fn kept(&self) -> Vec<(u32, Evidence)> {
        Vec::new()
    }

    /// What keeps packages on disk that is no package itself: a path for each, with where it stands.
    fn keepers(&self, packages: &[u32]) -> Vec<(u32, ByteString, Evidence)> {
        let _ = packages;
        Vec::new()
    }

    /// The packages that came along with others, and that nothing needs any more, by the manager's own rule. `None` where
    /// that rule is not known here, or what was asked for is not recorded.
    fn unneeded(&self) -> Option<Unneeded> {
        None
    }

    /// The packages of a name that lie inside others, so that the manager neither lists nor removes them by themselves.
    fn inner(&self, name: &[u8]) -> Vec<Inner> {
        let _ = name;
        Vec::new()
    }

    /// Why the manager does not remove a package without being forced to, if it does not.
    fn protection(&self, package: u32) -> Option<Evidence> {
        let _ = package;
        None
    }
}

/// A package that lies inside another one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Inner {
    /// The package of the installation that brought it.
    pub outer: u32,
    /// From what the outer one needs down to it.
    pub chain: Vec<InnerPackage>,
}

/// A package on the way to one that lies inside another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InnerPackage {
    /// Its name.
    pub name: ByteString,
    /// Its version.
    pub version: Option<ByteString>,
    /// Where it lies.
    pub dir: ByteString,
    /// Where the one before it says that it needs it.
    pub evidence: Evidence,
}

/// That a package needs what is not there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unmet {
    /// The package.
    pub package: u32,
    /// What it needs, as it is written.
    pub says: String,
    /// What would do.
    pub any_of: Vec<Want>,
    /// Where it says so.
    pub evidence: Evidence,
}

/// That one package needs another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Requirement {
    /// The package that needs the other.
    pub package: u32,
    /// The package that is needed.
    pub needs: u32,
    /// How.
    pub relation: Relation,
    /// Where it says so.
    pub evidence: Evidence,
}

impl Requirement {
    /// The requirements among packages whose needs and offers are known, each with the evidence of its package's need.
    ///
    /// # Errors
    /// When there are too many ways to meet the needs.
    pub(crate) fn among(
        nodes: &[Node],
        order: Order<'_>,
        evidence: &dyn Fn(u32, &Need) -> Evidence,
    ) -> Result<Vec<Self>, TooManyWays> {
        let of_edge = |(package, needs, need): (u32, u32, &Need)| Requirement {
            package,
            needs,
            relation: need.relation,
            evidence: evidence(package, need),
        };
        Ok(edges(nodes, order)?.into_iter().map(of_edge).collect())
    }
}

/// Packages that nothing needs any more.
#[derive(Debug, Clone, Default)]
pub struct Unneeded {
    /// Each, with where it says that it came along with others.
    pub packages: Vec<(u32, Evidence)>,
    /// The command that removes these and nothing else.
    pub remedy: Option<Remedy>,
}
