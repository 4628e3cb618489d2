//! `whodunit inventory`.

mod columns;

use std::ffi::OsString;

use clap::{Args, ValueEnum};
use whodunit_core::backend::Detail;
use whodunit_core::model::{ManagerId, Reason, Status};
use whodunit_core::queries::inventory::{
    Inventory, Listed as PackageListed, Selection, Sort, Total, Totals, inventory, totals,
};
use whodunit_core::survey::Survey;

pub use columns::ColumnName;

use columns::{FOR_DATA, USUAL, WITH_CONFINEMENT, WITH_ORIGIN};

use crate::args::{self, Format, Global};
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::session::Outcome;
use crate::session::Session;

/// List installed packages
///
/// Lists explicitly installed packages; --all adds dependencies, and removed packages whose configuration files
/// remain. With TEXT, lists only packages whose name contains one of the texts.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit inventory                        what was asked for
  whodunit inventory --all tide             every package with `tide` in its name
  whodunit inventory --sort size --columns name,size,installed
  whodunit inventory --origin third-party   what did not come from the distribution
  whodunit inventory --origin none          what no source has
  whodunit inventory --totals               one row per installation

Columns: name, version, arch, manager, scope, reason, origin, held, status, size, installed, commands,
location, id, upkeep (who keeps it current), publisher, signed, confinement, permissions (what a
confined application may reach). Sorted by name, size (largest first), date (latest first) or manager.")]
pub struct Arguments {
    /// Text that the package name must contain; one of several is enough
    text: Vec<OsString>,

    /// Include dependencies, and removed packages whose configuration files remain
    #[arg(long)]
    all: bool,

    /// List only packages of this manager; can be repeated
    #[arg(long, value_name = "NAME", value_parser = super::manager)]
    manager: Vec<ManagerId>,

    /// List only packages of this scope: `system` or `user:NAME`; can be repeated
    #[arg(long, value_name = "SCOPE")]
    scope: Vec<String>,

    /// List only packages from this origin: `distribution`, `third-party`, `local`, `none`, or part of a source's
    /// name
    #[arg(long, value_name = "SOURCE")]
    origin: Option<String>,

    /// List only packages that run confined
    #[arg(long)]
    confined: bool,

    /// List only packages that no signature vouches for
    #[arg(long)]
    unsigned: bool,

    /// Show one row per installation
    #[arg(long)]
    totals: bool,
}

/// What `--sort` takes.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum SortName {
    Name,
    /// Largest first
    Size,
    /// Most recently installed first
    Date,
    /// By manager and scope, then by name
    Manager,
}

impl From<SortName> for Sort {
    fn from(name: SortName) -> Self {
        match name {
            SortName::Name => Sort::Name,
            SortName::Size => Sort::Size,
            SortName::Date => Sort::Date,
            SortName::Manager => Sort::Manager,
        }
    }
}

/// One of the words that an option takes.
fn word<V: ValueEnum + 'static>(option: &str, text: &str) -> Result<V, CliError> {
    V::from_str(text, false).map_err(|_| {
        let known = args::words::<V>().collect::<Vec<_>>().join(", ");
        CliError::usage(format!("{option} takes no {text}")).with_hint(format!("it takes {known}"))
    })
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let session = Session::new(global)?;
    let survey = Survey::of(&session.host);
    let chosen = match arguments.totals {
        true => Vec::new(),
        false => global.columns.iter().map(|name| word("--columns", name)).collect::<Result<Vec<ColumnName>, _>>()?,
    };
    // Without columns of its own, what is confined is shown with what it may reach.
    let tells_reach = arguments.confined && chosen.is_empty();
    let selection = Selection {
        all: arguments.all,
        texts: super::bytes_of(&arguments.text),
        managers: arguments.manager.clone(),
        scopes: arguments.scope.clone(),
        origin: arguments.origin.clone(),
        confined: arguments.confined,
        unsigned: arguments.unsigned,
        with_facts: tells_reach || chosen.iter().any(|column| column.is_fact()),
    };
    if arguments.totals {
        let answer = totals(&survey, &selection);
        return output::show(&answer, &survey, &session, global, streams, true);
    }
    let sort = global.sort.as_deref().map_or(Ok(SortName::Name), |name| word("--sort", name))?;
    let columns = match (chosen.as_slice(), global.format) {
        ([], Format::Csv) => FOR_DATA.to_vec(),
        ([], _) if arguments.origin.is_some() || arguments.unsigned => WITH_ORIGIN.to_vec(),
        ([], _) if arguments.confined => WITH_CONFINEMENT.to_vec(),
        ([], _) => USUAL.to_vec(),
        (chosen, _) => chosen.to_vec(),
    };
    let detail = match global.format {
        Format::Json | Format::Lines => Detail::FULL,
        _ => Detail {
            programs: columns.contains(&ColumnName::Commands),
            dates: columns.contains(&ColumnName::Installed),
            origins: columns.contains(&ColumnName::Origin),
            ..Detail::default()
        },
    };
    let answer = Listed { inventory: inventory(&survey, &selection, sort.into(), detail), columns, all: arguments.all };
    let found = arguments.text.is_empty() || !answer.inventory.packages.is_empty();
    output::show(&answer, &survey, &session, global, streams, found)
}

/// The answer, with the columns in which it is shown.
#[derive(Clone, serde::Serialize)]
struct Listed {
    #[serde(flatten)]
    inventory: Inventory,
    #[serde(skip)]
    columns: Vec<ColumnName>,
    #[serde(skip)]
    all: bool,
}

impl Shown for Listed {
    type Item = PackageListed;
    const COMMAND: &'static str = "inventory";
    const ARRANGES_ITSELF: bool = true;

    fn items(&self) -> &[PackageListed] {
        &self.inventory.packages
    }

    fn grid(&self) -> Grid {
        let row = |package| self.columns.iter().map(|column| column.cell(package)).collect();
        Grid {
            columns: self.columns.iter().map(|column| column.column()).collect(),
            rows: self.inventory.packages.iter().map(row).collect(),
        }
    }

    fn page(&self, _: &Presenter) -> Vec<Piece> {
        let packages = &self.inventory.packages;
        let installed =
            packages.iter().map(|listed| &listed.package).filter(|package| package.status != Status::ConfigRemains);
        let (mut asked, mut unknown) = (0, 0);
        for package in installed {
            match package.reason {
                Reason::Explicit => asked += 1,
                Reason::Unknown => unknown += 1,
                Reason::Dependency => {}
            }
        }
        let rest = if unknown > 0 { format!(", {unknown} for an unknown reason") } else { String::new() };
        let says = match (packages.len(), self.all) {
            (0, false) => "no matching package (--all includes dependencies)".to_owned(),
            (0, true) => "no matching package".to_owned(),
            (_, false) => {
                format!("{} installed explicitly{rest} (--all adds dependencies)", output::count(asked, "package"))
            }
            (all, true) => format!("{}, {asked} of them installed explicitly{rest}", output::count(all, "package")),
        };
        let mut page = vec![Line::of(Tone::Strong, says).into()];
        if !packages.is_empty() {
            page.push(Line::blank().into());
            page.push(Piece::Table(self.grid()));
        }
        if !self.inventory.notes.is_empty() {
            page.push(Line::blank().into());
            page.extend(self.inventory.notes.iter().map(|note| Line::of(Tone::Warning, note.clone()).into()));
        }
        page
    }
}

impl Shown for Totals {
    type Item = Total;
    const COMMAND: &'static str = "inventory";

    fn items(&self) -> &[Total] {
        &self.totals
    }

    fn grid(&self) -> Grid {
        let row = |total: &Total| {
            vec![
                Cell::toned(Tone::Strong, total.manager.to_string()),
                Cell::plain(total.scope.to_string()),
                Cell::plain(total.location.to_string()),
                Cell::plain(total.packages.to_string()),
                Cell::plain(total.explicit.to_string()),
                Cell::plain(total.held.to_string()),
                Cell::bytes(total.size),
            ]
        };
        Grid {
            columns: vec![
                Column::words("manager", "MANAGER"),
                Column::words("scope", "SCOPE"),
                Column::words("location", "LOCATION"),
                Column::numbers("packages", "PACKAGES"),
                Column::numbers("explicit", "ASKED FOR"),
                Column::numbers("held", "HELD"),
                Column::numbers("size", "SIZE"),
            ],
            rows: self.totals.iter().map(row).collect(),
        }
    }

    fn page(&self, _: &Presenter) -> Vec<Piece> {
        let says = output::count(self.totals.len(), "installation");
        vec![Line::of(Tone::Strong, says).into(), Line::blank().into(), Piece::Table(self.grid())]
    }
}
