//! `whodunit fleet load`.

use std::ffi::OsString;
use std::io::Write as _;

use whodunit_core::bytes::{ByteString, path};
use whodunit_core::fs::Root;
use whodunit_fleet::load::{Loaded, Refused, files, load};
use whodunit_fleet::store::{self, Purpose, is_dataset, is_url};

use super::{cell, place, show, strong};
use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::process;
use crate::session::Outcome;

/// Loads snapshots.
pub fn run(
    places: &[OsString],
    into: Option<&str>,
    global: &Global,
    streams: &mut Streams,
) -> Result<Outcome, CliError> {
    let into = place(into)?;
    let root = Root::live();
    let here = process::process_env().dir;
    let places: Vec<ByteString> =
        super::super::bytes_of(places).iter().map(|place| path::absolute(place, &here)).collect();
    let (files, refused) = files(&root, &places);
    if !is_url(&into) && !is_dataset(&into) {
        // It tells of all machines: only its owner may read it.
        process::make_private(into.as_bytes())
            .map_err(|cause| CliError::Write { file: into.as_bytes().into(), cause })?;
    }
    let mut store = store::open(&into, Purpose::Load, &process::database_access())?;
    let form = "{bar:20} {pos} of {len} snapshots, {eta} left";
    let bar = output::progress::bar(global.quiet, Some(files.len() as u64), form);
    let loaded_at = process::now().map(output::time).unwrap_or_default();
    let result = load(&mut *store, &root, &files, &loaded_at, &mut |done| bar.inc(done as u64));
    bar.finish_and_clear();
    let mut answer = result?;
    answer.refused.splice(0..0, refused);
    for one in answer.refused.iter().filter(|_| !global.quiet) {
        let _ = writeln!(streams.err, "whodunit: {}: not loaded: {}", one.file, output::safe(&one.problem));
    }
    let outcome = show(&answer, global, streams, answer.loaded + answer.known > 0)?;
    Ok(Outcome { incomplete: outcome.incomplete || !answer.refused.is_empty(), ..outcome })
}

impl Shown for Loaded {
    type Item = Refused;
    const COMMAND: &'static str = "fleet load";
    const READS_MANAGERS: bool = false;

    fn items(&self) -> &[Refused] {
        &self.refused
    }

    fn grid(&self) -> Grid {
        let row = |one: &Refused| vec![strong(&one.file.to_string()), cell(&one.problem)];
        let columns = vec![Column::words("file", "FILE"), Column::words("problem", "PROBLEM")];
        Grid { columns, rows: self.refused.iter().map(row).collect() }
    }

    fn page(&self, _: &Presenter) -> Vec<Piece> {
        let mut says = format!("loaded {}", output::count(self.loaded, "snapshot"));
        if self.known > 0 {
            says.push_str(&format!(
                "; {} there already",
                if self.known == 1 { "1 was".to_owned() } else { format!("{} were", self.known) }
            ));
        }
        let mut first = Line::of(Tone::Strong, says);
        if !self.refused.is_empty() {
            first =
                first.and(Tone::Warning, format!("; {} could not be used", output::count(self.refused.len(), "file")));
        }
        vec![first.into()]
    }
}
