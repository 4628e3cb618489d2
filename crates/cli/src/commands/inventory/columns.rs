//! The columns of `whodunit inventory`.

use clap::ValueEnum;
use whodunit_core::model::{Package, Status};
use whodunit_core::queries::inventory::Listed as PackageListed;

use crate::output::{self, Cell, Column, Tone};

/// A column, by the name that `--columns` takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ColumnName {
    Name,
    Version,
    Arch,
    Manager,
    Scope,
    Reason,
    /// Source that the package came from
    Origin,
    Held,
    Status,
    Size,
    /// Date on which this version was installed
    Installed,
    Commands,
    Location,
    Id,
    /// Who keeps it current: `automatic`, `command`, `by-hand`, `nobody` or `unknown`
    Upkeep,
    /// Who published it
    Publisher,
    /// Whether a signature vouches for it
    Signed,
    Confinement,
    /// What a confined application may reach
    Permissions,
}

pub(super) const USUAL: [ColumnName; 6] = [
    ColumnName::Name,
    ColumnName::Version,
    ColumnName::Manager,
    ColumnName::Reason,
    ColumnName::Size,
    ColumnName::Installed,
];

pub(super) const WITH_ORIGIN: [ColumnName; 6] = [
    ColumnName::Name,
    ColumnName::Version,
    ColumnName::Manager,
    ColumnName::Origin,
    ColumnName::Reason,
    ColumnName::Installed,
];

pub(super) const WITH_CONFINEMENT: [ColumnName; 5] =
    [ColumnName::Name, ColumnName::Version, ColumnName::Manager, ColumnName::Confinement, ColumnName::Permissions];

/// The columns for machine-readable rows: every plain fact.
pub(super) const FOR_DATA: [ColumnName; 12] = [
    ColumnName::Id,
    ColumnName::Name,
    ColumnName::Version,
    ColumnName::Arch,
    ColumnName::Manager,
    ColumnName::Scope,
    ColumnName::Location,
    ColumnName::Reason,
    ColumnName::Held,
    ColumnName::Status,
    ColumnName::Size,
    ColumnName::Installed,
];

impl ColumnName {
    pub(super) fn column(self) -> Column {
        match self {
            ColumnName::Name => Column::words("name", "NAME"),
            ColumnName::Version => Column::words("version", "VERSION"),
            ColumnName::Arch => Column::words("arch", "ARCH"),
            ColumnName::Manager => Column::words("manager", "MANAGER"),
            ColumnName::Scope => Column::words("scope", "SCOPE"),
            ColumnName::Reason => Column::words("reason", "REASON"),
            ColumnName::Origin => Column::words("origin", "ORIGIN"),
            ColumnName::Held => Column::words("held", "HELD"),
            ColumnName::Status => Column::words("status", "STATUS"),
            ColumnName::Size => Column::numbers("size", "SIZE"),
            ColumnName::Installed => Column::words("installed", "INSTALLED"),
            ColumnName::Commands => Column::words("commands", "COMMANDS"),
            ColumnName::Location => Column::words("location", "LOCATION"),
            ColumnName::Id => Column::words("id", "ID"),
            ColumnName::Upkeep => Column::words("upkeep", "KEPT CURRENT"),
            ColumnName::Publisher => Column::words("publisher", "PUBLISHER"),
            ColumnName::Signed => Column::words("signed", "SIGNED"),
            ColumnName::Confinement => Column::words("confinement", "CONFINEMENT"),
            ColumnName::Permissions => Column::words("permissions", "MAY REACH"),
        }
    }

    /// Whether catalogues and settings have to be asked for it.
    pub(super) fn is_fact(self) -> bool {
        matches!(self, ColumnName::Upkeep | ColumnName::Publisher | ColumnName::Signed | ColumnName::Permissions)
    }

    pub(super) fn cell(self, listed: &PackageListed) -> Cell {
        let package = &listed.package;
        let facts = listed.facts.as_ref();
        let known = |text: Option<String>| Cell::plain(text.unwrap_or_default());
        match self {
            ColumnName::Name => Cell {
                text: package.name.to_string(),
                shown: Some(package.full_name().to_string()),
                tone: Tone::Strong,
            },
            ColumnName::Version => known(package.version.as_ref().map(ToString::to_string)),
            ColumnName::Arch => known(package.arch.as_ref().map(ToString::to_string)),
            ColumnName::Manager => Cell::plain(package.manager.to_string()),
            ColumnName::Scope => Cell::plain(package.scope.to_string()),
            ColumnName::Reason => reason(package),
            ColumnName::Origin => match &package.origin {
                Some(origin) => Cell::plain(origin.name.to_string()),
                None => Cell::shown(String::new(), "none"),
            },
            ColumnName::Held => Cell::shown(package.held.to_string(), if package.held { "held" } else { "" }),
            ColumnName::Status => {
                let tone = if package.status == Status::Broken { Tone::Warning } else { Tone::Plain };
                Cell::toned(tone, package.status.word())
            }
            ColumnName::Size => Cell::bytes(package.size),
            ColumnName::Installed => match package.installed_at {
                Some(time) => Cell::shown(output::time(time), output::date(time)),
                None => Cell::plain(""),
            },
            ColumnName::Commands => {
                let commands: Vec<String> = package.commands.iter().map(ToString::to_string).collect();
                Cell::plain(commands.join(" "))
            }
            ColumnName::Location => Cell::plain(package.location.to_string()),
            ColumnName::Id => Cell::plain(package.id.to_string()),
            ColumnName::Upkeep => known(facts.and_then(|facts| facts.upkeep).map(|mode| mode.word().to_owned())),
            ColumnName::Publisher => known(facts.and_then(|facts| facts.publisher.as_ref()).map(ToString::to_string)),
            ColumnName::Signed => match facts.and_then(|facts| facts.signed) {
                Some(true) => Cell::plain("yes"),
                Some(false) => Cell::toned(Tone::Warning, "no"),
                None => Cell::plain(""),
            },
            ColumnName::Confinement => known(package.confinement.clone()),
            ColumnName::Permissions => known(facts.map(|facts| facts.permissions.join(", "))),
        }
    }
}

/// Why it is there; what is out of the ordinary is said with it.
fn reason(package: &Package) -> Cell {
    if package.status == Status::ConfigRemains {
        let shown = Some("removed, configuration files remain".to_owned());
        return Cell { text: package.reason.word().to_owned(), shown, tone: Tone::Faint };
    }
    let word = package.reason.word();
    let mut words = vec![word];
    if package.held {
        words.push("held");
    }
    let tone = match package.status {
        Status::Installed => Tone::Plain,
        Status::Broken => Tone::Warning,
        _ => Tone::Faint,
    };
    if package.status != Status::Installed {
        words.push(package.status.word());
    } else if !package.active {
        words.push("not in use");
    }
    Cell { text: word.to_owned(), shown: Some(words.join(", ")), tone }
}
