//! Who owns what stands at a path, and what the path finally runs: the core on its own, on trees made for it.

#![expect(clippy::disallowed_methods, reason = "builds the trees that are read")]

use std::fs;
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::Path;

use whodunit_core::backend::Detail;
use whodunit_core::fs::Root;
use whodunit_core::host::{Host, ProcessEnv, UserSelection};
use whodunit_core::model::{CoverageState, NameFilter, Status};
use whodunit_core::resolve::{Context, End, How, SearchPath};
use whodunit_core::survey::Survey;

/// A machine whose `/bin` is a link, with four packages: `pegel` lists its program below `/bin` and has diverted
/// `lamp`'s; `tarn` was removed and left its settings; `swell` brings an alternative.
const FILES: [(&str, &str); 10] = [
    ("etc/passwd", "maren:x:1000:1000::/home/maren:/bin/sh\n"),
    (
        "var/lib/dpkg/status",
        "Package: pegel\nStatus: install ok installed\nArchitecture: amd64\nVersion: 4.2-1\n\n\
         Package: lamp\nStatus: install ok installed\nArchitecture: all\nVersion: 0.4\n\n\
         Package: swell\nStatus: install ok installed\nArchitecture: all\nVersion: 1:2\n\n\
         Package: tarn\nStatus: deinstall ok config-files\nArchitecture: all\nVersion: 3\nConffiles:\n \
         /etc/tarn.conf 00000000000000000000000000000000\n\n",
    ),
    ("var/lib/dpkg/info/pegel.list", "/.\n/bin\n/bin/pegel\n/usr\n/usr/bin\n/usr/bin/gauge\n"),
    ("var/lib/dpkg/info/lamp.list", "/.\n/usr\n/usr/bin\n/usr/bin/gauge\n"),
    ("var/lib/dpkg/info/swell.list", "/.\n/usr\n/usr/bin\n/usr/bin/swell-plain\n"),
    ("var/lib/dpkg/info/tarn.list", "/.\n/etc\n/etc/tarn.conf\n"),
    ("var/lib/dpkg/diversions", "/usr/bin/gauge\n/usr/bin/gauge.lamp\npegel\n"),
    ("var/lib/dpkg/alternatives/swell", "auto\n/usr/bin/swell\n\n/usr/bin/swell-plain\n10\n\n"),
    ("etc/tarn.conf", "depth = 4\n"),
    ("usr/bin/loose", "#!/usr/bin/env pegel\n"),
];

fn machine(dir: &Path) -> Host {
    let write = |path: &str, content: &str| {
        let at = dir.join(path);
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        fs::write(&at, content).unwrap();
        fs::set_permissions(&at, fs::Permissions::from_mode(0o755)).unwrap();
    };
    FILES.iter().for_each(|(path, content)| write(path, content));
    for program in ["pegel", "gauge", "gauge.lamp", "swell-plain"] {
        write(&format!("usr/bin/{program}"), "\x7fELF");
    }
    fs::create_dir_all(dir.join("etc/alternatives")).unwrap();
    for (link, target) in [
        ("bin", "usr/bin"),
        ("usr/bin/swell", "/etc/alternatives/swell"),
        ("etc/alternatives/swell", "/usr/bin/swell-plain"),
        ("usr/bin/circle", "circle"),
    ] {
        symlink(target, dir.join(link)).unwrap();
    }
    Host::new(Root::offline(dir).unwrap(), &UserSelection::All, ProcessEnv::default()).unwrap()
}

#[test]
fn a_path_belongs_to_whom_the_records_say_under_every_spelling() {
    let dir = tempfile::tempdir().unwrap();
    let host = machine(dir.path());
    let survey = Survey::of(&host);
    for (path, owner, status) in [
        ("/usr/bin/pegel", Some("pegel"), Status::Installed),
        ("/bin/pegel", Some("pegel"), Status::Installed),
        ("/usr/../bin/pegel", Some("pegel"), Status::Installed),
        // Diverted: the name is that of whoever diverted it, the other package's file stands beside.
        ("/usr/bin/gauge", Some("pegel"), Status::Installed),
        ("/usr/bin/gauge.lamp", Some("lamp"), Status::Installed),
        ("/usr/bin/swell-plain", Some("swell"), Status::Installed),
        ("/etc/tarn.conf", Some("tarn"), Status::ConfigRemains),
        ("/usr/bin/loose", None, Status::Installed),
        ("/usr/bin/nowhere", None, Status::Installed),
    ] {
        let found = survey.ownership_of(path.as_bytes());
        let named = found.as_ref().map(|owner| owner.name.to_string());
        assert_eq!(named.as_deref(), owner, "{path}");
        assert!(found.is_none_or(|owner| owner.status == status), "{path}");
    }
}

#[test]
fn what_runs_is_followed_through_links_groups_and_interpreters() {
    let dir = tempfile::tempdir().unwrap();
    let host = machine(dir.path());
    let survey = Survey::of(&host);
    let search = SearchPath::of(&host, Context::Login);
    for (path, runs, steps) in [
        ("/usr/bin/pegel", "/usr/bin/pegel", &[How::Itself][..]),
        ("/bin/pegel", "/usr/bin/pegel", &[How::Link, How::Itself]),
        ("/usr/bin/swell", "/usr/bin/swell-plain", &[How::Link, How::Link, How::Itself]),
    ] {
        let found = survey.resolution(&search, path.as_bytes());
        let how: Vec<How> = found.steps.iter().map(|step| step.how).collect();
        assert_eq!((found.steps.last().unwrap().path.to_string(), how), (runs.to_owned(), steps.to_vec()), "{path}");
    }
    let script = survey.resolution(&search, b"/usr/bin/loose").script.expect("its first line");
    let interpreter = script.interpreter.expect("a program of that name is in the search path");
    assert_eq!(interpreter.steps.last().unwrap().path.to_string(), "/usr/bin/pegel");
    assert!(matches!(survey.resolution(&search, b"/usr/bin/circle").end, End::Circle));
    let index = survey.claims(std::iter::once(&b"/usr/bin/swell"[..]));
    let placed = survey.ownership(&index, b"/usr/bin/swell");
    assert!(placed.packages.is_empty() && placed.group.is_some(), "{placed:?}");
}

#[test]
fn what_could_not_be_read_is_in_the_coverage_and_the_rest_is_answered() {
    let dir = tempfile::tempdir().unwrap();
    let host = machine(dir.path());
    fs::write(dir.path().join("var/lib/dpkg/info/lamp.list"), "/.\nusr/bin/gauge\n").unwrap();
    fs::remove_file(dir.path().join("var/lib/dpkg/info/swell.list")).unwrap();
    let survey = Survey::of(&host);
    assert_eq!(survey.packages(Detail::FULL).len(), 4);
    assert_eq!(survey.ownership_of(b"/usr/bin/pegel").map(|owner| owner.name.to_string()).as_deref(), Some("pegel"));
    assert_eq!(survey.ownership_of(b"/usr/bin/gauge.lamp"), None);
    let coverage = survey.coverage();
    let [dpkg] = &coverage[..] else { panic!("one manager: {coverage:?}") };
    let losses: Vec<String> = dpkg.notes.iter().map(ToString::to_string).collect();
    assert_eq!(dpkg.state, CoverageState::Partial);
    assert!(losses.iter().any(|loss| loss.contains("lamp.list: line 2 is damaged")), "{losses:?}");
    assert!(losses.iter().any(|loss| loss.contains("swell")), "{losses:?}");
}

#[test]
fn every_number_means_the_package_that_it_is_given_with() {
    let (lantern, families) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    whodunit_demo::write(lantern.path(), whodunit_demo::Scale::default()).unwrap();
    whodunit_demo::write_large_rpm(families.path(), 5, 2).unwrap();
    for tree in [lantern.path(), families.path()] {
        let host = Host::new(Root::offline(tree).unwrap(), &UserSelection::All, ProcessEnv::default()).unwrap();
        let survey = Survey::of(&host);
        let mut count = 0;
        for held in survey.installations() {
            for (number, package) in held.numbered(Detail::default()) {
                assert_eq!(held.owner(number).id, package.id, "{:?}", held.location());
                count += 1;
            }
        }
        assert!(count >= 5, "{count}");
    }
}

#[test]
fn lists_that_are_kept_say_what_lists_that_are_read_say() {
    let dir = tempfile::tempdir().unwrap();
    let host = machine(dir.path());
    fs::write(dir.path().join("var/lib/dpkg/info/swell.list"), "/.\n/usr/bin/swell-plain\nrelative\n").unwrap();
    let asked: [&[u8]; 7] = [b"pegel", b"gauge", b"gauge.lamp", b"swell-plain", b"swell", b"tarn.conf", b"nowhere"];
    let survey = Survey::of(&host);
    let answer = |survey: &Survey<'_>, names: &[&[u8]]| {
        let index = survey.claims(names.iter().copied());
        let paths = names.iter().flat_map(|name| ["/usr/bin/", "/etc/"].map(|at| [at.as_bytes(), name].concat()));
        let found = paths.map(|path| format!("{:?}", index.on(survey.root(), &path))).collect::<Vec<_>>();
        (index.len(), found)
    };
    // From the third question on they are kept; each is compared with a machine that was never asked before.
    for count in [7, 7, 7, 7, 1, 3] {
        assert_eq!(answer(&survey, &asked[..count]), answer(&Survey::of(&host), &asked[..count]), "{count}");
    }
    let damaged = |survey: &Survey<'_>| survey.coverage()[0].notes.len();
    let fresh = Survey::of(&host);
    answer(&fresh, &asked);
    assert_eq!((damaged(&survey), damaged(&fresh)), (1, 1), "what is damaged is told once");
}

#[test]
fn a_list_that_names_a_path_again_and_again_claims_it_once() {
    let dir = tempfile::tempdir().unwrap();
    let host = machine(dir.path());
    let list = "/.\n".to_owned() + &"/usr/bin/swell-plain\n/usr/bin/swell-fancy\n".repeat(60_000);
    fs::write(dir.path().join("var/lib/dpkg/info/swell.list"), list).unwrap();
    let survey = Survey::of(&host);
    for asked in 0..4 {
        let index = survey.claims([&b"swell-plain"[..], b"swell-fancy"].into_iter());
        assert_eq!(index.len(), 2, "{asked}");
        assert_eq!(index.on(survey.root(), b"/usr/bin/swell-plain").len(), 1, "{asked}");
    }
    assert_eq!(survey.index(&NameFilter::All).on(survey.root(), b"/usr/bin/swell-fancy").len(), 1);
}
