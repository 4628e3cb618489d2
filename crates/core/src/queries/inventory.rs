//! What is installed, and by whom.

use hashbrown::HashSet;
use schemars::JsonSchema;
use serde::Serialize;

use super::inventory_facts::{self, Facts};
use crate::backend::{Catalogue, Detail};
use crate::bytes::ByteString;
use crate::findings::held;
use crate::model::{Finding, ManagerId, Package, Reason, Scope, Status};
use crate::survey::Survey;

/// Which packages are asked for.
#[derive(Debug, Clone, Default)]
pub struct Selection {
    /// Also what came along as a dependency, and what was removed but left its settings.
    pub all: bool,
    /// Names, or parts of names, any of which must be there; none for all.
    pub texts: Vec<ByteString>,
    /// Only of these managers; none for all.
    pub managers: Vec<ManagerId>,
    /// Only of these scopes, as spelled in the output; none for all.
    pub scopes: Vec<String>,
    /// Only what is confined.
    pub confined: bool,
    /// Only what nobody vouches for with a signature.
    pub unsigned: bool,
    /// Whether catalogues and settings are asked, too; see [`Facts`].
    pub with_facts: bool,
    /// Only from there: `distribution`, `third-party`, `local`, `none`, or a part of a source's name.
    pub origin: Option<String>,
}

/// How the packages are ordered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Sort {
    /// By name.
    #[default]
    Name,
    /// Largest first.
    Size,
    /// Latest first.
    Date,
    /// By manager and scope, then by name.
    Manager,
}

/// A package with what else was asked about it.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Listed {
    /// The package.
    #[serde(flatten)]
    pub package: Package,
    /// What catalogues and settings tell; only where that was asked for.
    #[serde(flatten)]
    pub facts: Option<Facts>,
}

/// The answer.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Inventory {
    /// The packages, in order.
    pub packages: Vec<Listed>,
    /// Packages that no source has; only where sources are asked about.
    pub findings: Vec<Finding>,
    /// Findings about the sources themselves; only if they are asked about.
    pub notes: Vec<String>,
}

/// One installation in numbers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Total {
    /// Whose state it is.
    pub manager: ManagerId,
    /// Whose installation it is.
    pub scope: Scope,
    /// Where it lies.
    pub location: ByteString,
    /// Packages selected.
    pub packages: usize,
    /// How many of them were asked for.
    pub explicit: usize,
    /// How many of them are held back.
    pub held: usize,
    /// Bytes on disk, as far as recorded; `null` where the manager records no sizes.
    pub size: Option<u64>,
}

/// The answer to `--totals`.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Totals {
    /// One row per installation.
    pub totals: Vec<Total>,
}

/// Selects and orders packages.
#[must_use]
pub fn inventory(survey: &Survey<'_>, selection: &Selection, sort: Sort, mut detail: Detail) -> Inventory {
    detail.dates |= sort == Sort::Date;
    detail.asked_for_only = !selection.all;
    let with_facts = selection.with_facts || selection.unsigned;
    detail.origins |= selection.origin.is_some() || with_facts;
    // Titles are told where everything is.
    let in_full = detail.programs && detail.evidence;
    let mut packages = if in_full { survey.titled_in(detail).packages } else { survey.packages(detail) };
    let notes = if detail.origins {
        survey.installations().iter().filter_map(|held| held.catalogue()).flat_map(Catalogue::source_notes).collect()
    } else {
        Vec::new()
    };
    let lost = if detail.origins { held::without_origin(&packages) } else { Vec::new() };
    packages.retain(|package| selection.has(package));
    let selected: HashSet<&ByteString> =
        if lost.is_empty() { HashSet::new() } else { packages.iter().map(|package| &package.id).collect() };
    let findings = lost.into_iter().filter(|one| one.packages.iter().any(|id| selected.contains(id))).collect();
    drop(selected);
    let by_name = |a: &Package, b: &Package| (&a.name, &a.id).cmp(&(&b.name, &b.id));
    packages.sort_by(|a, b| match sort {
        Sort::Name => by_name(a, b),
        Sort::Size => b.size.cmp(&a.size).then_with(|| by_name(a, b)),
        Sort::Date => b.installed_at.cmp(&a.installed_at).then_with(|| by_name(a, b)),
        Sort::Manager => (a.manager, &a.scope).cmp(&(b.manager, &b.scope)).then_with(|| by_name(a, b)),
    });
    let facts: Vec<Option<Facts>> = match with_facts {
        true => inventory_facts::of(survey, &packages).into_iter().map(Some).collect(),
        false => vec![None; packages.len()],
    };
    let listed = packages.into_iter().zip(facts).map(|(package, facts)| Listed { package, facts });
    let is_unsigned = |one: &Listed| one.facts.as_ref().is_some_and(|facts| facts.signed == Some(false));
    let packages = listed.filter(|one| !selection.unsigned || is_unsigned(one)).collect();
    Inventory { packages, findings, notes }
}

/// Counts the selected packages of each installation.
#[must_use]
pub fn totals(survey: &Survey<'_>, selection: &Selection) -> Totals {
    // What there is, whether or not it was asked for.
    let selection = &Selection { all: true, ..selection.clone() };
    let mut totals: Vec<Total> = Vec::new();
    for (parts, packages) in survey.by_installation(Detail { asked_for_only: !selection.all, ..Detail::default() }) {
        let first = totals.len();
        totals.extend(parts.into_iter().filter_map(|part| {
            Some(Total {
                manager: part.manager?,
                scope: part.scope,
                location: part.location,
                packages: 0,
                explicit: 0,
                held: 0,
                size: None,
            })
        }));
        for package in packages.iter().filter(|package| selection.has(package)) {
            // Installations in one place need not say of each package that it is there.
            let rows = &mut totals[first..];
            let fits = |row: &Total| row.scope == package.scope && row.location == package.location;
            let place = rows.iter().position(fits).unwrap_or_default();
            if let Some(row) = rows.get_mut(place) {
                row.packages += 1;
                let is_there = package.status != Status::ConfigRemains;
                row.explicit += usize::from(package.reason == Reason::Explicit && is_there);
                row.held += usize::from(package.held);
                if let Some(size) = package.size {
                    *row.size.get_or_insert(0) += size;
                }
            }
        }
    }
    Totals { totals }
}

impl Selection {
    fn has(&self, package: &Package) -> bool {
        let is_confined =
            || package.confinement.as_deref().is_some_and(|word| !matches!(word, "none" | "classic" | "devmode"));
        if self.confined && !is_confined() {
            return false;
        }
        let wanted = self.all || (package.reason != Reason::Dependency && package.status != Status::ConfigRemains);
        wanted
            && (self.managers.is_empty() || self.managers.contains(&package.manager))
            && (self.scopes.is_empty() || self.scopes.contains(&package.scope.to_string()))
            && self.origin.as_ref().is_none_or(|origin| comes_from(package, origin))
            && (self.texts.is_empty() || self.texts.iter().any(|text| contains(&package.name, text)))
    }
}

fn comes_from(package: &Package, origin: &str) -> bool {
    match &package.origin {
        None => origin == "none",
        Some(from) if origin == "third-party" => from.is_third_party(),
        Some(from) => from.trust.as_deref() == Some(origin) || contains(&from.name, origin.as_bytes()),
    }
}

fn contains(name: &[u8], text: &[u8]) -> bool {
    memchr::memmem::find(&name.to_ascii_lowercase(), &text.to_ascii_lowercase()).is_some()
}
