//! Bytes on the disk, by manager and title.

use std::collections::BTreeMap;

use plotters::prelude::*;
use plotters::style::text_anchor::HPos;
use treemap::{MapItem, Mappable, Rect, TreemapLayout};
use whodunit_core::queries::space::Space;

use super::{Figure, Palette, WIDTH, cut, drawn, fill, pixels, write};
use crate::commands::report::table::{Field, Table};
use crate::output;

/// Titles of one manager that have a tile of their own; the others share one.
const MAX_TILES: usize = 24;
const HEIGHT: u32 = 420;

/// What each title takes, by its manager.
pub type Tiles<'t> = BTreeMap<&'t str, Vec<(String, u64)>>;

/// What is measured.
pub fn tiles_of(space: &Space) -> Tiles<'_> {
    let mut of_manager = Tiles::new();
    for title in &space.titles {
        for part in &title.installations {
            let tiles = of_manager.entry(part.manager.0).or_default();
            tiles.push((title.title.to_string(), part.cost.total()));
        }
    }
    of_manager
}

/// The figure: a tile for each title, as large as what it takes.
pub fn bytes(of_manager: Tiles<'_>, palette: &Palette) -> Figure {
    let mut managers: Vec<(&str, Vec<(String, u64)>)> = of_manager.into_iter().collect();
    for (_, tiles) in &mut managers {
        tiles.retain(|(_, bytes)| *bytes > 0);
        tiles.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        if tiles.len() > MAX_TILES {
            let others: u64 = tiles[MAX_TILES - 1..].iter().map(|(_, bytes)| bytes).sum();
            let count = tiles.len() - MAX_TILES + 1;
            tiles.truncate(MAX_TILES - 1);
            tiles.push((format!("{count} more"), others));
        }
    }
    managers.retain(|(_, tiles)| !tiles.is_empty());
    let total = |tiles: &[(String, u64)]| tiles.iter().map(|(_, bytes)| bytes).sum::<u64>();
    managers.sort_by_key(|(_, tiles)| std::cmp::Reverse(total(tiles)));
    let svg = drawn(HEIGHT, |area| {
        let whole = Rect::from_points(0.0, 0.0, f64::from(WIDTH), f64::from(HEIGHT));
        let sizes: Vec<u64> = managers.iter().map(|(_, tiles)| total(tiles)).collect();
        for ((manager, tiles), place) in managers.iter().zip(places(&sizes, whole)) {
            let sizes: Vec<u64> = tiles.iter().map(|(_, bytes)| *bytes).collect();
            for ((title, bytes), tile) in tiles.iter().zip(places(&sizes, place)) {
                let (left, top) = (pixels(tile.x), pixels(tile.y));
                let (right, bottom) = (pixels(tile.x + tile.w), pixels(tile.y + tile.h));
                fill(area, (left + 1, top + 1), (right - 1, bottom - 1), palette.color(manager))?;
                let room = right - left - 12;
                if room > 40 && bottom - top > 18 {
                    write(area, &cut(title, room), (left + 6, top + 12), WHITE, HPos::Left)?;
                }
                if room > 60 && bottom - top > 36 {
                    let says = format!("{manager} {}", output::size(*bytes));
                    write(area, &cut(&says, room), (left + 6, top + 28), WHITE, HPos::Left)?;
                }
            }
        }
        Ok(())
    });
    let rows = managers.iter().flat_map(|(manager, tiles)| {
        tiles.iter().map(|(title, bytes)| vec![Field::text(*manager), Field::text(title), Field::bytes(Some(*bytes))])
    });
    let most = managers.first().map(|(manager, tiles)| {
        format!("{manager} takes the most, {}; within it {}", output::size(total(tiles)), tiles[0].0)
    });
    Figure {
        id: "bytes",
        title: "Bytes on the disk, by manager and title".to_owned(),
        says: most.unwrap_or_else(|| "No sizes are known".to_owned()),
        svg,
        table: [Table::new(
            "bytes-table",
            "Bytes by manager and title",
            &["manager", "title", "#bytes"],
            rows.collect(),
        )],
    }
}

/// Rectangles in the proportions of these sizes, within another.
fn places(sizes: &[u64], within: Rect) -> Vec<Rect> {
    // A size of no area has no place.
    #[expect(clippy::cast_precision_loss, reason = "the figure shows proportions")]
    let mut items: Vec<Box<dyn Mappable>> =
        sizes.iter().map(|size| Box::new(MapItem::with_size((*size).max(1) as f64)) as Box<dyn Mappable>).collect();
    TreemapLayout::new().layout_items(&mut items, within);
    items.iter().map(|item| *item.bounds()).collect()
}
