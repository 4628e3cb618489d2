//! The figures of the report, each with the table that it draws.

mod bars;
mod graph;
mod matrix;
mod treemap;
mod versions;

use plotters::coord::Shift;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use whodunit_core::managers;
use whodunit_core::model::{ManagerId, Package};

use super::table::Table;

pub use bars::{ages, changes, counts, needed};
pub use graph::holds_up;
pub use matrix::winners;
pub use treemap::{Tiles, bytes, tiles_of};
pub use versions::versions;

/// One figure.
#[derive(Debug)]
pub struct Figure {
    /// Its anchor.
    pub id: &'static str,
    /// What it shows, in a few words.
    pub title: String,
    /// What it says, in a sentence.
    pub says: String,
    /// The drawing.
    pub svg: String,
    /// The same, in numbers.
    pub table: [Table; 1],
}

/// Where a figure is drawn.
type Area<'a> = DrawingArea<SVGBackend<'a>, Shift>;

/// Drawing into a text fails only where the text is too long to be held.
type Drawn = Result<(), DrawingAreaErrorKind<std::io::Error>>;

/// The width of every figure, in pixels: it fits a page of 1280.
const WIDTH: u32 = 1160;

/// Colours of tiles and dots: each is told from the page, light or dark, and white text on it can be read.
const COLORS: [RGBColor; 10] = [
    RGBColor(0x0b, 0x6e, 0x99),
    RGBColor(0x2e, 0x6b, 0x34),
    RGBColor(0x8a, 0x2d, 0x3b),
    RGBColor(0x5b, 0x4b, 0x8a),
    RGBColor(0x7a, 0x4b, 0x00),
    RGBColor(0x00, 0x67, 0x67),
    RGBColor(0x7a, 0x3e, 0x8c),
    RGBColor(0x4a, 0x5a, 0x6a),
    RGBColor(0x9c, 0x3f, 0x10),
    RGBColor(0x5b, 0x60, 0x00),
];

/// Colours that the page's style replaces by its own: of text, of what matters less, of lines, of the ground.
const TEXT: RGBColor = RGBColor(0x11, 0x11, 0x11);
const FAINT: RGBColor = RGBColor(0x77, 0x77, 0x77);
const LINE: RGBColor = RGBColor(0xcc, 0xcc, 0xcc);
const SOFT: RGBColor = RGBColor(0xee, 0xee, 0xee);

/// The colours of the managers of one machine, the same in every figure.
#[derive(Debug)]
pub struct Palette(Vec<ManagerId>);

impl Palette {
    /// Of the managers that have these packages: each has a colour of its own, as far as there are enough.
    pub fn of(packages: &[Package]) -> Self {
        Palette::named(|id| packages.iter().any(|package| package.manager.0 == id))
    }

    /// Of the managers with these names.
    pub fn named(is_there: impl Fn(&str) -> bool) -> Self {
        let has = |id: &ManagerId| is_there(id.0);
        Palette(managers::ALL.iter().map(|manager| manager.id()).filter(has).collect())
    }

    /// The colour of a manager.
    fn color(&self, manager: &str) -> RGBColor {
        let place = self.0.iter().position(|id| id.0 == manager);
        place.map_or(FAINT, |place| COLORS[place % COLORS.len()])
    }
}

/// Draws a figure of this height.
fn drawn(height: u32, paint: impl FnOnce(&Area<'_>) -> Drawn) -> String {
    let mut svg = String::new();
    {
        let area = SVGBackend::with_string(&mut svg, (WIDTH, height)).into_drawing_area();
        let _ = paint(&area).and_then(|()| area.present());
    }
    svg
}

/// Writes a text whose left, middle or right end is at a place, in the middle of its line.
fn write(area: &Area<'_>, text: &str, at: (i32, i32), color: RGBColor, side: HPos) -> Drawn {
    let style = ("sans-serif", 13).into_font().color(&color).pos(Pos::new(side, VPos::Center));
    area.draw(&Text::new(text.to_owned(), at, style))
}

/// A filled rectangle.
fn fill(area: &Area<'_>, from: (i32, i32), to: (i32, i32), color: RGBColor) -> Drawn {
    area.draw(&Rectangle::new([from, to], color.filled()))
}

/// A text cut to what fits into so many pixels.
fn cut(text: &str, width: i32) -> String {
    // The widest letters of this size are a little wider than this; most are narrower.
    const LETTER: i32 = 7;
    let room = usize::try_from(width / LETTER).unwrap_or(0);
    if text.chars().count() <= room {
        return text.to_owned();
    }
    text.chars().take(room.saturating_sub(1)).chain(['…']).collect()
}

/// A whole number of pixels.
#[expect(clippy::cast_possible_truncation, reason = "a figure is a thousand pixels wide")]
fn pixels(length: f64) -> i32 {
    length.round() as i32
}
