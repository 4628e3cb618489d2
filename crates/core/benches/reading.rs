//! Reading records, building the claim index, and answering, on the demo workstation at three sizes.

#![expect(clippy::disallowed_methods, reason = "keeps its trees in the build directory")]

use std::path::{Path, PathBuf};
use std::sync::Mutex;

use whodunit_core::backend::Detail;
use whodunit_core::fs::Root;
use whodunit_core::host::{Host, ProcessEnv, UserSelection};
use whodunit_core::model::NameFilter;
use whodunit_core::queries::owner::{Target, owners};
use whodunit_core::resolve::{Context, SearchPath};
use whodunit_core::survey::Survey;
use whodunit_demo::{Scale, write};

fn main() {
    divan::main();
}

const SIZES: [u32; 3] = [1, 10, 100];

fn lantern(factor: u32) -> PathBuf {
    static WRITING: Mutex<()> = Mutex::new(());
    let _one_at_a_time = WRITING.lock();
    let place = Path::new(env!("CARGO_TARGET_TMPDIR")).join(format!("lantern-{factor}"));
    if !place.join("var/lib/dpkg/status").exists() {
        let _ = std::fs::remove_dir_all(&place);
        write(&place, Scale::times(factor)).expect("the build directory can be written");
    }
    place
}

fn host(factor: u32) -> Host {
    let root = Root::offline(&lantern(factor)).expect("it was written");
    Host::new(root, &UserSelection::All, ProcessEnv::default()).expect("every user is known")
}

#[divan::bench(args = SIZES)]
fn packages_in_full(bencher: divan::Bencher<'_, '_>, factor: u32) {
    let host = host(factor);
    bencher.bench(|| Survey::of(&host).packages(Detail::FULL).len());
}

#[divan::bench(args = SIZES)]
fn index_of_all_claims(bencher: divan::Bencher<'_, '_>, factor: u32) {
    let host = host(factor);
    bencher.bench(|| Survey::of(&host).index(&NameFilter::All).len());
}

#[divan::bench(args = SIZES)]
fn owner_of_one_path(bencher: divan::Bencher<'_, '_>, factor: u32) {
    let host = host(factor);
    let target = [Target::parse(b"/usr/bin/chart-view").expect("a path")];
    bencher.bench(|| {
        let search = SearchPath::of(&host, Context::Login);
        owners(&Survey::of(&host), &search, &target)
    });
}
