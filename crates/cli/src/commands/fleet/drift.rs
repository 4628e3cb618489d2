//! `whodunit fleet drift`.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt as _;

use whodunit_core::bytes::ByteString;
use whodunit_fleet::questions::Fleet;
use whodunit_fleet::questions::drift::{Distance, Drift, Reference, drift, furthest, of_machine};

use super::{cell, number, optional, show, strong};
use crate::args::Global;
use crate::commands::manifest;
use crate::error::CliError;
use crate::output::{self, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::session::Outcome;

/// Answers.
pub fn run(
    reference: &OsString,
    fleet: &mut Fleet,
    global: &Global,
    streams: &mut Streams,
) -> Result<Outcome, CliError> {
    let bytes = reference.as_bytes();
    let name = ByteString::from(bytes).to_string();
    let answer = if bytes.contains(&b'/') || bytes.ends_with(b".toml") {
        drift(fleet, &name, &of_manifest(reference)?, false, None)?
    } else {
        let machine = match fleet.named(&name)?[..] {
            [machine] => machine,
            [] => return Err(CliError::NoMachine { name: bytes.into() }),
            _ => {
                return Err(CliError::usage(format!("several machines are called {name}"))
                    .with_hint("give the beginning of its identity: whodunit fleet machines --format json"));
            }
        };
        let of = of_machine(fleet, machine)?;
        drift(fleet, &name, &of, true, Some(machine))?
    };
    show(&answer, global, streams, true)
}

/// What a manifest asks for.
fn of_manifest(file: &OsString) -> Result<Reference, CliError> {
    let mut reference = Reference::new();
    for package in manifest::read(file)?.packages {
        let versions = reference.entry((package.manager, package.name)).or_default();
        versions.extend(package.version.map(Some));
    }
    Ok(reference)
}

impl Shown for Drift {
    type Item = Distance;
    const COMMAND: &'static str = "fleet drift";
    const READS_MANAGERS: bool = false;

    fn items(&self) -> &[Distance] {
        &self.distances
    }

    fn grid(&self) -> Grid {
        grid(&self.distances)
    }

    fn page(&self, _: &Presenter) -> Vec<Piece> {
        let reference = output::safe(&self.reference);
        let machines = output::count(self.of, "machine");
        let first = match (self.of, self.same) {
            (0, _) => format!("there is no other machine to compare with {reference}"),
            (of, same) if of == same => format!("{machines}: all as {reference}"),
            (_, same) => {
                let same = if same == 0 { "none".to_owned() } else { same.to_string() };
                format!(
                    "{machines} against {reference}: {same} alike, median {}",
                    output::count(self.median, "difference")
                )
            }
        };
        let mut page: Vec<Piece> = vec![Line::of(Tone::Strong, first).into()];
        if self.same == self.of {
            return page;
        }
        page.extend([Line::blank().into(), Line::of(Tone::Strong, "Furthest").into()]);
        page.push(Piece::Table(grid(furthest(self))));
        page.extend([Line::blank().into(), Line::of(Tone::Strong, "What differs most often").into()]);
        let rows = self.differs_most.iter().map(|one| {
            vec![number(one.machines), cell(&one.how), cell(&one.manager), strong(&one.name), optional(&one.version)]
        });
        let columns = vec![
            Column::numbers("machines", "MACHINES"),
            Column::words("how", "HOW"),
            Column::words("manager", "MANAGER"),
            Column::words("name", "PACKAGE"),
            Column::words("version", "REFERENCE"),
        ];
        page.push(Piece::Table(Grid { columns, rows: rows.collect() }));
        page
    }
}

fn grid(distances: &[Distance]) -> Grid {
    let row = |one: &Distance| {
        vec![
            strong(&one.machine),
            number(one.distance),
            number(one.missing),
            number(one.surplus),
            number(one.other_version),
        ]
    };
    let columns = vec![
        Column::words("machine", "MACHINE"),
        Column::numbers("distance", "DISTANCE"),
        Column::numbers("missing", "MISSING"),
        Column::numbers("surplus", "SURPLUS"),
        Column::numbers("other_version", "OTHER VERSION"),
    ];
    Grid { columns, rows: distances.iter().map(row).collect() }
}
