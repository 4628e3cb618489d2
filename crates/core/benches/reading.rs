//! Reading records, building the claim index, and answering, on the demo workstation at three sizes.

#![expect(clippy::disallowed_methods, reason = "keeps its trees in the build folder")]

use std::path::{Path, PathBuf};
use std::sync::Mutex;

use whodunit_core::answers::owner::{Target, owners};
use whodunit_core::managers::Detail;
use whodunit_core::model::Wanted;
use whodunit_core::root::Root;
use whodunit_core::scene::{Here, People, Scene};
use whodunit_core::search::{Context, SearchPath};
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
        write(&place, Scale::times(factor)).expect("the build folder can be written");
    }
    place
}

fn scene(factor: u32) -> Scene {
    let root = Root::offline(&lantern(factor)).expect("it was written");
    Scene::new(root, &People::Everyone, Here::default()).expect("everyone is known")
}

#[divan::bench(args = SIZES)]
fn packages_in_full(bencher: divan::Bencher<'_, '_>, factor: u32) {
    let scene = scene(factor);
    bencher.bench(|| Survey::of(&scene).packages(Detail::FULL).len());
}

#[divan::bench(args = SIZES)]
fn index_of_all_claims(bencher: divan::Bencher<'_, '_>, factor: u32) {
    let scene = scene(factor);
    bencher.bench(|| Survey::of(&scene).index(&Wanted::All).len());
}

#[divan::bench(args = SIZES)]
fn owner_of_one_path(bencher: divan::Bencher<'_, '_>, factor: u32) {
    let scene = scene(factor);
    let target = [Target::parse(b"/usr/bin/chart-view").expect("a path")];
    bencher.bench(|| {
        let search = SearchPath::of(&scene, Context::Login);
        owners(&Survey::of(&scene), &search, &target)
    });
}
