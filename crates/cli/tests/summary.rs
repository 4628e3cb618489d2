//! The last line of the suite: how many comparisons with real managers ran, and how many did not.
//!
//! Cargo runs test binaries in the order of their names, so this one comes after `interface`, which noted them.

#![expect(clippy::disallowed_methods, reason = "reads what the tests before it noted")]

use std::io::Write as _;
use std::path::Path;

#[test]
fn comparisons_are_summed_up() {
    let file = Path::new(env!("CARGO_TARGET_TMPDIR")).join("comparisons.txt");
    let notes = std::fs::read_to_string(file).unwrap_or_default();
    let ran = notes.lines().filter(|line| line.starts_with("ran ")).count();
    let absent: Vec<&str> = notes.lines().filter_map(|line| line.strip_prefix("absent ")).collect();
    // Past the test harness, which keeps what a passing test prints.
    let mut out = std::io::stderr();
    writeln!(out, "comparisons with real managers: {ran} ran, {} did not", absent.len()).unwrap();
    let required = std::env::var_os("WHODUNIT_REAL_MANAGERS").is_some_and(|value| value == "required");
    assert!(!required || ran > 0, "real managers are required, and nothing was compared: {notes:?}");
}
