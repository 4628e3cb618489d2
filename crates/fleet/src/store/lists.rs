//! Whole lists of packages and of offers, for what compares them: a few values in place of many rows.
//!
//! An item of a list is told by its place, a small number, so that what is to be known of all items is kept in a vector.

use hashbrown::HashMap;

use super::places::{PLACES_FROM, unpack};
use super::{Store, StoreError, ask_in};
use crate::value::Value;

/// On how many machines something is, counted list by list.
#[derive(Debug, Clone, Copy, Default)]
pub struct Tally {
    /// How many.
    pub machines: usize,
    /// The list that was counted last.
    last: usize,
}

impl Tally {
    /// Counts the machines that have a list, once however often it has the thing. The lists are numbered from 1 in the
    /// order in which they are counted. Whether it was new in this one.
    pub fn add(&mut self, list: usize, machines: usize) -> bool {
        let is_new = self.last != list;
        if is_new {
            (self.machines, self.last) = (self.machines + machines, list);
        }
        is_new
    }
}

/// The packages and offers by their places.
///
/// # Errors
/// What the engine says.
pub fn items(store: &mut dyn Store) -> Result<Vec<i64>, StoreError> {
    let mut items = Vec::new();
    for row in store.ask(PLACES_FROM, &[0_i64.into()])? {
        // Places are given one after the other; one far beyond the others is none of ours.
        let place = row[0].count();
        if place >= items.len() && place <= items.len() * 2 + MAX_GAP {
            items.resize(place + 1, 0);
        }
        if let Some(item) = items.get_mut(place) {
            *item = row[1].int();
        }
    }
    Ok(items)
}

/// How far apart places may be.
const MAX_GAP: usize = 1 << 20;

/// The software and the release of the packages, by their places; nothing for offers.
///
/// # Errors
/// What the engine says.
pub fn releases(store: &mut dyn Store) -> Result<Vec<Option<(i64, i64)>>, StoreError> {
    let rows = store.ask("SELECT package, software, release FROM packages", &[])?;
    let known: HashMap<i64, (i64, i64)> = rows.iter().map(|row| (row[0].int(), (row[1].int(), row[2].int()))).collect();
    Ok(items(store)?.iter().map(|item| known.get(item).copied()).collect())
}

/// Shows each of these lists: its number, and the places of its items in their order.
///
/// # Errors
/// What the engine says.
pub fn each(store: &mut dyn Store, numbers: &[i64], show: &mut dyn FnMut(i64, &[usize])) -> Result<(), StoreError> {
    let numbers: Vec<Value> = numbers.iter().map(|number| (*number).into()).collect();
    let mut places = Vec::new();
    ask_in(store, "SELECT list, items FROM packed_lists WHERE list", &numbers, &mut |row| {
        if let Value::Bytes(packed) = &row[1] {
            unpack(packed, &mut places);
            show(row[0].int(), &places);
        }
    })
}
