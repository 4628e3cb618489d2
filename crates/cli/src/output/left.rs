//! What is left, and what is cached, each with its size and what to type.

use whodunit_core::bytes::ByteString;
use whodunit_core::checks::leftovers::Leftover;
use whodunit_core::queries::space::Cache;

use super::{Line, Piece, Presenter, Tone, findings, names, safe, size};

/// Leftovers below a heading, where there are any.
pub fn part(title: &str, listed: &[&Leftover], presenter: &Presenter) -> Vec<Piece> {
    if listed.is_empty() {
        return Vec::new();
    }
    let head: [Piece; 2] = [Line::blank().into(), Line::of(Tone::Strong, title).into()];
    head.into_iter().chain(listed.chunk_by(is_together).flat_map(|some| in_full(some, presenter))).collect()
}

/// Whether one command removes both.
fn is_together(a: &&Leftover, b: &&Leftover) -> bool {
    let command = |one: &Leftover| one.finding.remedies.first().map(|remedy| remedy.command.clone());
    a.finding.kind == b.finding.kind && command(a).is_some() && command(a) == command(b)
}

/// What one command removes: its size, what it is, and what to type.
fn in_full(together: &[&Leftover], presenter: &Presenter) -> Vec<Piece> {
    let one = together[0];
    let bytes: Option<u64> = together.iter().map(|one| one.bytes).sum();
    let size = bytes.map(size).unwrap_or_default();
    let label = Line::blank().to(2).and(Tone::Plain, format!("{size:>9}"));
    let whose = presenter.whose(&one.finding.users).map(|whose| format!(" ({whose})")).unwrap_or_default();
    let mut summary = safe(&one.finding.summary);
    if together.len() > 1 {
        let others: Vec<ByteString> = together[1..].iter().map(|one| one.finding.subject.clone()).collect();
        summary = format!("{summary}; likewise {}", names(&others));
    }
    let mut lines = vec![Piece::Paragraph { column: 13, label, tone: Tone::Plain, text: format!("{summary}{whose}") }];
    for remedy in one.finding.remedies.iter().take(1) {
        let command = safe(&remedy.command);
        lines.push(Piece::Whole(Line::blank().to(13).and(Tone::Accent, command)));
        lines.extend(findings::remarks(remedy).map(|says| Line::blank().to(13).and(Tone::Faint, says).into()));
    }
    lines
}

/// The caches, where there are any.
pub fn caches(all: &[Cache], presenter: &Presenter) -> Vec<Piece> {
    if all.is_empty() {
        return Vec::new();
    }
    let title: [Piece; 2] = [Line::blank().into(), Line::of(Tone::Strong, "Caches").into()];
    title.into_iter().chain(all.iter().flat_map(|cache| of_cache(cache, presenter))).collect()
}

/// A cache, and the command that empties it.
fn of_cache(cache: &Cache, presenter: &Presenter) -> Vec<Piece> {
    let size = cache.bytes.map_or_else(|| "unknown".to_owned(), size);
    let line = Line::blank().to(2).and(Tone::Plain, format!("{size:>9}")).to(13);
    let what = format!("{} · {}", cache.manager, cache.what);
    let mut lines: Vec<Piece> =
        vec![line.and(Tone::Plain, what).to(60).and(Tone::Faint, presenter.path(&cache.path)).into()];
    let ways = cache.remedies.iter();
    lines.extend(ways.map(|way| Piece::Whole(Line::blank().to(13).and(Tone::Accent, way.command.clone()))));
    lines
}
