//! `whodunit explain`.

use clap::Args;
use whodunit_core::checks::catalogue::{self, Explanation, Explanations};
use whodunit_core::model::FindingKind;
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::session::Outcome;
use crate::session::Session;

/// Explain a kind of finding: what it means, why it matters, how to fix it
///
/// Without KIND, lists all kinds.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit explain
  whodunit explain masked-module")]
pub struct Arguments {
    /// Kinds of findings, as `whodunit check` prints them
    #[arg(value_parser = super::check::kind)]
    kind: Vec<FindingKind>,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let session = Session::new(global)?;
    let survey = Survey::of(&session.host);
    let is_wanted = |one: &&Explanation| arguments.kind.is_empty() || arguments.kind.contains(&one.kind);
    let answer = Explanations {
        explanations: catalogue::all().filter(is_wanted).copied().collect(),
        in_full: !arguments.kind.is_empty(),
    };
    output::show(&answer, &survey, &session, global, streams, true)
}

impl Shown for Explanations {
    type Item = Explanation;
    const COMMAND: &'static str = "explain";
    const READS_MANAGERS: bool = false;

    fn items(&self) -> &[Explanation] {
        &self.explanations
    }

    fn grid(&self) -> Grid {
        let row = |one: &Explanation| {
            let texts = [one.means, one.cause, one.matters, one.detected, one.remedy];
            let words = [one.kind.to_string(), one.family.word().to_owned()];
            words.into_iter().chain(texts.map(str::to_owned)).map(Cell::plain).collect()
        };
        let names = ["kind", "family", "means", "cause", "matters", "detected", "remedy"];
        let columns = names.into_iter().map(|name| Column::titled(name, name.replace('_', " ").to_uppercase()));
        Grid { columns: columns.collect(), rows: self.explanations.iter().map(row).collect() }
    }

    fn page(&self, _: &Presenter) -> Vec<Piece> {
        if self.in_full {
            return self.explanations.iter().enumerate().flat_map(|(number, one)| in_full(number, one)).collect();
        }
        let count = output::count(self.explanations.len(), "kind");
        let mut page: Vec<Piece> = vec![Line::of(Tone::Strong, format!("{count} of findings")).into()];
        let mut family = None;
        for one in &self.explanations {
            if family != Some(one.family) {
                family = Some(one.family);
                page.push(Line::blank().into());
                page.push(Line::of(Tone::Faint, one.family.word()).into());
            }
            let label = Line::blank().to(2).and(Tone::Accent, one.kind.to_string());
            page.push(Piece::Paragraph { column: 30, label, tone: Tone::Plain, text: one.means.to_owned() });
        }
        page
    }
}

fn in_full(number: usize, one: &Explanation) -> Vec<Piece> {
    let mut page: Vec<Piece> = Vec::new();
    if number > 0 {
        page.push(Line::blank().into());
    }
    let part = |label: &str, tone: Tone, text: String| Piece::Paragraph {
        column: 18,
        label: Line::blank().to(2).and(Tone::Faint, label.to_owned()),
        tone,
        text,
    };
    let head = Line::of(Tone::Strong, one.kind.to_string()).and(Tone::Faint, format!("   {}", one.family.word()));
    page.push(head.into());
    page.push(part("means", Tone::Plain, one.means.to_owned()));
    page.push(part("cause", Tone::Plain, one.cause.to_owned()));
    page.push(part("why", Tone::Plain, one.matters.to_owned()));
    page.push(part("detection", Tone::Plain, one.detected.to_owned()));
    page.push(part("remedy", Tone::Plain, one.remedy.to_owned()));
    if let Some(example) = &one.example {
        page.push(part("example", Tone::Accent, example.subject.to_owned()));
        page.push(part("", Tone::Plain, example.summary.to_owned()));
    }
    page
}
