//! Reading records, building the claim index, and answering, on the demo workstation at three sizes.

#![expect(clippy::disallowed_methods, reason = "keeps its trees in the build directory")]

use std::path::{Path, PathBuf};
use std::sync::Mutex;

use whodunit_core::backend::Detail;
use whodunit_core::fs::Root;
use whodunit_core::host::{Host, ProcessEnv, UserSelection};
use whodunit_core::model::{Depth, NameFilter};
use whodunit_core::queries::owner::{Target, owners};
use whodunit_core::queries::verify::{Question, verify};
use whodunit_core::resolve::{Context, SearchPath};
use whodunit_core::survey::Survey;
use whodunit_demo::{Scale, write};

fn main() {
    divan::main();
}

const SIZES: [u32; 3] = [1, 10, 100];

/// Packages of a machine on which every package has files of the same names.
const ALIKE: [u32; 3] = [100, 1_000, 6_000];
/// The files of each.
const FILES: u32 = 170;

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

/// Records of packages whose files all have one of five names; none of the files is there.
fn alike(packages: u32) -> PathBuf {
    static WRITING: Mutex<()> = Mutex::new(());
    let _one_at_a_time = WRITING.lock();
    let place = Path::new(env!("CARGO_TARGET_TMPDIR")).join(format!("alike-{packages}"));
    let info = place.join("var/lib/dpkg/info");
    let status = place.join("var/lib/dpkg/status");
    if status.exists() {
        return place;
    }
    let written = "the build directory can be written";
    std::fs::create_dir_all(&info).expect(written);
    std::fs::create_dir_all(place.join("etc")).expect(written);
    std::fs::write(place.join("etc/passwd"), "root:x:0:0::/root:/bin/sh\n").expect(written);
    let mut all = String::new();
    for package in 0..packages {
        all += &format!("Package: quay{package}\nStatus: install ok installed\nVersion: 1\nArchitecture: all\n\n");
        let mut list = format!("/.\n/usr\n/usr/share\n/usr/share/quay{package}\n");
        for file in 0..FILES {
            let name = ["copyright", "changelog.gz", "index.html", "__init__.py", "README"][file as usize % 5];
            list += &format!("/usr/share/quay{package}/d{}/{name}\n", file / 5);
        }
        std::fs::write(info.join(format!("quay{package}.list")), list).expect(written);
    }
    std::fs::write(status, all).expect(written);
    place
}

/// The time per claim is to be the same at every size.
#[divan::bench(args = ALIKE, sample_count = 5)]
fn equal_names_and_every_file_missing(bencher: divan::Bencher<'_, '_>, packages: u32) {
    let root = Root::offline(&alike(packages)).expect("it was written");
    let host = Host::new(root, &UserSelection::All, ProcessEnv::default()).expect("every user is known");
    let question = Question { packages: None, managers: &[], depth: Depth::Presence };
    bencher
        .counter(divan::counter::ItemsCount::new(packages * FILES))
        .bench(|| verify(&Survey::of(&host), question, &()).findings.len());
}
