//! The versions of one title, over its managers.

use std::collections::BTreeMap;

use plotters::prelude::*;
use plotters::style::text_anchor::HPos;
use whodunit_core::managers;
use whodunit_core::model::Package;
use whodunit_core::version::upstream;

use super::{FAINT, Figure, LINE, Palette, TEXT, WIDTH, cut, drawn, write};
use crate::commands::report::table::{Field, Table};

const ROW: i32 = 44;
const NAME: i32 = 190;
const MAX_DRAWN: usize = 14;

/// The figure: for each title at several versions a line, with a dot for each version in upstream's order.
pub fn versions(packages: &[Package], palette: &Palette) -> Figure {
    let part = |package: &Package| {
        let notation = managers::profile(package.manager).notation;
        upstream::part(notation, package.version.as_deref().unwrap_or_default())
    };
    let mut titles: BTreeMap<String, Vec<&Package>> = BTreeMap::new();
    for package in packages.iter().filter(|package| package.active && package.version.is_some()) {
        if let Some(title) = &package.title {
            titles.entry(title.to_string()).or_default().push(package);
        }
    }
    for of_title in titles.values_mut() {
        of_title.sort_by(|a, b| upstream::compare(&part(a), &part(b)).then_with(|| a.id.cmp(&b.id)));
    }
    let is_same = |a: &&Package, b: &&Package| upstream::compare(&part(a), &part(b)).is_eq();
    titles.retain(|_, of_title| of_title.chunk_by(is_same).count() > 1);
    let shown: Vec<(&String, &Vec<&Package>)> = titles.iter().take(MAX_DRAWN).collect();
    let height = ROW * i32::try_from(shown.len()).unwrap_or(0) + 16;
    let right = WIDTH.cast_signed() - 80;
    let svg = drawn(height.unsigned_abs(), |area| {
        for ((title, of_title), top) in shown.iter().zip((ROW / 2..).step_by(ROW.unsigned_abs() as usize)) {
            write(area, &cut(title, NAME), (NAME - 10, top), TEXT, HPos::Right)?;
            area.draw(&PathElement::new(vec![(NAME, top), (right, top)], LINE.stroke_width(1)))?;
            let groups: Vec<&[&Package]> = of_title.chunk_by(is_same).collect();
            let step = (right - NAME) / i32::try_from(groups.len()).unwrap_or(1).max(1);
            for (group, left) in groups.iter().zip((NAME + step / 2..).step_by(step.unsigned_abs() as usize)) {
                for (package, at) in group.iter().zip((left..).step_by(16)) {
                    area.draw(&Circle::new((at, top), 6, palette.color(package.manager.0).filled()))?;
                }
                let who: Vec<&str> = group.iter().map(|package| package.manager.0).collect();
                let version = part(group[0]).to_string();
                write(
                    area,
                    &cut(&format!("{version} {}", who.join(", ")), step),
                    (left, top + 16),
                    FAINT,
                    HPos::Center,
                )?;
            }
        }
        Ok(())
    });
    let rows = titles.iter().flat_map(|(title, of_title)| {
        of_title.iter().map(move |package| {
            let version = package.version.as_ref().map(ToString::to_string).unwrap_or_default();
            vec![
                Field::text(title),
                Field::text(version),
                Field::text(package.manager.0),
                Field::text(package.scope.to_data()),
            ]
        })
    });
    let says = match titles.len() {
        0 => "No title is installed at several versions".to_owned(),
        count => format!("{} at several versions, the oldest on the left", crate::output::count(count, "title")),
    };
    Figure {
        id: "versions",
        title: "Versions of one title over its managers".to_owned(),
        says,
        svg,
        table: [Table::new(
            "versions-table",
            "Versions by title",
            &["title", "version", "manager", "scope"],
            rows.collect(),
        )],
    }
}
