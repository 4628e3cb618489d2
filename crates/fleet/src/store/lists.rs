//! Whole lists of packages, for what compares them: a few large values in place of many rows.

use hashbrown::HashMap;

use super::{Store, StoreError, ask_in};
use crate::value::Value;

/// The software and the release of every package.
///
/// # Errors
/// What the engine says.
pub fn releases(store: &mut dyn Store) -> Result<HashMap<i64, (i64, i64)>, StoreError> {
    let rows = store.ask("SELECT package, software, release FROM packages", &[])?;
    Ok(rows.iter().map(|row| (row[0].int(), (row[1].int(), row[2].int()))).collect())
}

/// Shows each of these lists: its number, and those of its packages in their order.
///
/// # Errors
/// What the engine says.
pub fn each(store: &mut dyn Store, numbers: &[i64], show: &mut dyn FnMut(i64, &[i64])) -> Result<(), StoreError> {
    let numbers: Vec<Value> = numbers.iter().map(|number| (*number).into()).collect();
    ask_in(store, "SELECT list, items FROM packed_lists WHERE list", &numbers, &mut |row| {
        if let Value::Bytes(packed) = &row[1] {
            let (numbers, _) = packed.as_chunks::<8>();
            let items: Vec<i64> = numbers.iter().map(|bytes| i64::from_be_bytes(*bytes)).collect();
            show(row[0].int(), &items);
        }
    })
}
