//! The demo's tree with one record damaged, of which every question is asked.
//!
//! An input is the number of a file (two bytes), then changes to it of four bytes each: a place, a byte, a kind. A kind
//! above 239 takes all that follows for the file's new content.

#![no_main]

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use libfuzzer_sys::fuzz_target;

#[path = "../../crates/core/tests/support/everything.rs"]
mod everything;

/// The tree, and the files in it that a manager or a user wrote, in order of their paths.
struct Demo {
    tree: PathBuf,
    files: Vec<(PathBuf, Vec<u8>)>,
}

/// Larger files are what a package brings, not a record of it.
const MAX_RECORD: u64 = 64 << 10;

fn demo() -> &'static Demo {
    static DEMO: OnceLock<Demo> = OnceLock::new();
    DEMO.get_or_init(|| {
        // In memory where the system has such a place.
        let beside = ["/dev/shm", "/tmp"].into_iter().find(|dir| Path::new(dir).is_dir()).unwrap();
        let tree = tempfile::Builder::new().prefix("whodunit-fuzz-").tempdir_in(beside).unwrap().keep();
        whodunit_demo::write(&tree, whodunit_demo::Scale::default()).unwrap();
        let records = ["etc", "var", "home", "root", "nix", "opt", "usr/lib/os-release"];
        let all = records.iter().flat_map(|dir| walkdir::WalkDir::new(tree.join(dir)).sort_by_file_name());
        let files = all
            .filter_map(Result::ok)
            .filter(|entry| entry.file_type().is_file())
            .filter(|entry| entry.metadata().is_ok_and(|metadata| metadata.len() <= MAX_RECORD))
            .map(|entry| (entry.path().to_owned(), fs::read(entry.path()).unwrap()))
            .collect();
        Demo { tree, files }
    })
}

/// The content with an input's changes made to it.
fn damaged(content: &[u8], changes: &[u8]) -> Vec<u8> {
    let mut bytes = content.to_vec();
    let mut rest = changes;
    while let [low, high, byte, kind, more @ ..] = rest {
        let at = usize::from(u16::from_le_bytes([*low, *high])) % (bytes.len() + 1);
        match kind {
            240.. => return more.to_vec(),
            0..80 if at < bytes.len() => bytes[at] = *byte,
            80..130 if at < bytes.len() => drop(bytes.remove(at)),
            130..150 => bytes.truncate(at),
            _ => bytes.insert(at, *byte),
        }
        rest = more;
    }
    bytes
}

fuzz_target!(|data: &[u8]| {
    let [low, high, changes @ ..] = data else { return };
    let demo = demo();
    let (file, content) = &demo.files[usize::from(u16::from_le_bytes([*low, *high])) % demo.files.len()];
    fs::write(file, damaged(content, changes)).unwrap();
    everything::ask_everything(
        &demo.tree,
        &["chartdesk", "python3", "/usr/bin/tidegauge", "package:swellplot", "/home/maren/.local/bin/swellplot"],
        &["chartdesk", "tidegauge", "swellplot"],
    );
    fs::write(file, content).unwrap();
});
