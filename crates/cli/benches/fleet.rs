//! A fleet in a file: what loading costs beside reading the same documents, and how each question grows with the number
//! of machines. Ratios of medians in one run are what counts.

#![expect(clippy::disallowed_methods, clippy::disallowed_types, reason = "starts the processes that it compares")]

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use whodunit_core::history::Snapshot;
use whodunit_demo::{FleetScale, write_fleet};

const PROGRAM: &str = env!("CARGO_BIN_EXE_whodunit");
const ROUNDS: usize = 5;
const QUESTIONS: [&[&str]; 8] = [
    &["machines"],
    &["where", "tidelog"],
    &["versions", "tidelog"],
    &["findings"],
    &["drift", "--reference", "lantern"],
    &["changes", "--since", "2026-11-02T00:00:00Z"],
    &["rare"],
    &["outdated"],
];

fn main() {
    if std::env::args().any(|argument| argument == "--test") {
        return; // Benchmarks are no tests.
    }
    let dir = std::env::temp_dir().join(format!("whodunit-fleet-bench-{}", std::process::id()));
    println!("{:<32} {:>12} {:>12} {:>7}", "", "100 machines", "400 machines", "ratio");
    let sizes = [100, 400].map(|machines| {
        let (from, store) = (dir.join(machines.to_string()), dir.join(format!("{machines}.sqlite")));
        let count =
            write_fleet(&from, FleetScale { machines, packages: 1000, days: 2 }).expect("snapshots are written");
        let loading = time(&["fleet", "load", &shown(&from), "--into", &shown(&store), "--quiet"]);
        (shown(&from), shown(&store), loading / count)
    });
    row("loading, per snapshot", sizes[0].2, sizes[1].2);
    for question in QUESTIONS {
        let ask = |store: &str| {
            let words = [&["fleet", "--store", store, "--format", "json"], question].concat();
            median((0..ROUNDS).map(|_| time(&words)).collect())
        };
        row(&question.join(" "), ask(&sizes[0].1), ask(&sizes[1].1));
    }
    println!("{:<32} {:>12} {:>12} {:>7}", "", "load", "read only", "ratio");
    let begun = Instant::now();
    let read = read_all(Path::new(&sizes[0].0));
    row("per snapshot", sizes[0].2, begun.elapsed() / read);
    std::fs::remove_dir_all(&dir).expect("what was written can be removed");
}

/// Unpacks and parses every snapshot below a directory.
fn read_all(dir: &Path) -> u32 {
    let mut count = 0;
    for machine in std::fs::read_dir(dir).expect("a directory").flatten() {
        for file in std::fs::read_dir(machine.path()).expect("a directory").flatten() {
            let bytes = std::fs::read(file.path()).expect("a file");
            assert!(!Snapshot::read(&bytes).expect("a snapshot").packages.is_empty());
            count += 1;
        }
    }
    count
}

fn shown(path: &Path) -> String {
    path.display().to_string()
}

fn time(words: &[&str]) -> Duration {
    let begun = Instant::now();
    let ran = Command::new(PROGRAM).args(words).stdout(Stdio::null()).status().expect("the program starts");
    assert!(ran.success(), "{words:?}");
    begun.elapsed()
}

fn median(mut times: Vec<Duration>) -> Duration {
    times.sort_unstable();
    times[times.len() / 2]
}

fn row(name: &str, ours: Duration, other: Duration) {
    let (ours, other) = (ours.as_secs_f64() * 1e3, other.as_secs_f64() * 1e3);
    println!("{name:<32} {ours:>9.1} ms {other:>9.1} ms {:>7.2}", other / ours);
}
