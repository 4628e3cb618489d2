//! Every kind of finding, on a small machine that has it, and on one that nearly has it.

#![expect(clippy::disallowed_methods, reason = "builds the trees that are read")]

mod files;
#[path = "../support/machine.rs"]
mod machine;
mod search_path;
mod shadowing;
mod state;

use machine::Machine;
use whodunit_core::checks::leftovers::leftovers;
use whodunit_core::checks::{Accepted, Expected, FindingFilter, Settings, check};
use whodunit_core::model::{Depth, Evidence, FindingKind, ManagerId};
use whodunit_core::queries::owner::{Target, owners};
use whodunit_core::queries::verify::{Question, verify};
use whodunit_core::resolve::Context;

/// A kind of finding.
pub struct Case {
    /// Its kind.
    pub kind: FindingKind,
    /// The healthy machine with the problem on it.
    pub planted: fn(Machine) -> Machine,
    /// All that is found there, as `SEVERITY KIND SUBJECT`.
    pub found: &'static [&'static str],
    /// The healthy machine with what looks like the problem and is none.
    pub righted: fn(Machine) -> Machine,
    /// All that is found there.
    pub remains: &'static [&'static str],
}

/// Cargo's record of one program.
pub const CRATES: &str =
    "[v1]\n\"gaugeline 4.4.0 (registry+https://github.com/rust-lang/crates.io-index)\" = [\"gaugeline\"]\n";

const CASES: &[&[Case]] = &[shadowing::CASES, files::CASES, search_path::CASES, state::CASES];

/// What `check` finds, as `SEVERITY KIND SUBJECT`, and what only `leftovers` does, as `left KIND SUBJECT`.
fn found(machine: &Machine) -> Vec<String> {
    found_with(machine, &Settings::default())
}

/// The same with these settings.
fn found_with(machine: &Machine, settings: &Settings) -> Vec<String> {
    machine.ask(|cx| {
        let checked = check(cx, settings, &FindingFilter::default()).findings;
        let left = leftovers(cx).findings.into_iter().map(|one| one.finding);
        let left =
            left.filter(|one| !checked.iter().any(|other| (other.kind, &other.subject) == (one.kind, &one.subject)));
        let checked = checked.iter().map(|one| format!("{} {} {}", one.severity.word(), one.kind, one.subject));
        checked.chain(left.map(|one| format!("left {} {}", one.kind, one.subject))).collect()
    })
}

#[test]
fn of_a_healthy_machine_there_is_nothing_to_tell() {
    assert_eq!(found(&Machine::healthy()), [""; 0]);
}

/// Kinds that need more than a tree of small files, and the tests of the program from outside that plant them.
const ELSEWHERE: &[(FindingKind, &str)] = &[
    (FindingKind::MaskedLibrary, "real_loaders.rs: real libraries"),
    (FindingKind::MissingLibrary, "real_loaders.rs: real programs"),
    (FindingKind::UnsignedBundle, "demo_check.rs: a real image"),
    (FindingKind::DeadOrigin, "real_flatpak.rs"),
    (FindingKind::UnusedRuntime, "real_flatpak.rs"),
    (FindingKind::UnreferencedObject, "real_space.rs: a real repository"),
    (FindingKind::UnreferencedStorePath, "real_nix.rs"),
    (FindingKind::OldGeneration, "real_nix.rs"),
    (FindingKind::ExpiredKey, "real_sources.rs: a real key"),
    (FindingKind::StaleCatalogue, "demo_check.rs: a clock"),
    (FindingKind::StaleSession, "real_shells.rs: real sessions"),
];

#[test]
fn no_kind_is_without_a_machine() {
    let here =
        CASES.iter().copied().flatten().map(|case| case.kind).chain(OF_CONTENT).chain(OF_SETTINGS).chain([OF_A_NAME]);
    let mut kinds: Vec<FindingKind> = here.chain(ELSEWHERE.iter().map(|(kind, _)| *kind)).collect();
    kinds.sort();
    kinds.dedup();
    assert_eq!(kinds, FindingKind::ALL);
}

#[test]
fn each_kind_is_found_where_it_is_and_nowhere_else() {
    let mut wrong = Vec::new();
    for case in CASES.iter().copied().flatten() {
        let planted = found(&(case.planted)(Machine::healthy()));
        if planted != case.found {
            wrong.push(format!("{}: planted: {planted:#?}", case.kind));
        }
        let righted = found(&(case.righted)(Machine::healthy()));
        if righted != case.remains {
            wrong.push(format!("{}: put right: {righted:#?}", case.kind));
        }
        if !case.found.iter().any(|line| line.contains(&case.kind.to_string())) {
            wrong.push(format!("{}: not among what its machine has", case.kind));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// The kinds that only a comparison of contents finds.
const OF_CONTENT: [FindingKind; 2] = [FindingKind::AlteredFile, FindingKind::AlteredSettings];

#[test]
fn what_differs_from_its_record_is_found_by_its_content() {
    // The digests of `depth = 4` and of `4`, each with its end of line.
    let fields = "Conffiles:\n /etc/lamp.conf c262d554863986ecd49337ecf6070cb6\n";
    let digests = "48a24b70a0b376535542b996af517398  usr/share/lamp/depths\n";
    let compared = |settings: &str, data: &str| {
        let machine = Machine::healthy()
            .deb("lamp", "1", fields, &[])
            .owned("lamp", "etc/lamp.conf", settings)
            .owned("lamp", "usr/share/lamp/depths", data)
            .file("var/lib/dpkg/info/lamp.md5sums", digests);
        machine.ask(|cx| {
            let question = Question { packages: None, managers: &[], depth: Depth::Content };
            let found = verify(cx.survey, question, &()).findings;
            found.iter().map(|one| format!("{} {} {}", one.severity.word(), one.kind, one.paths[0])).collect::<Vec<_>>()
        })
    };
    assert_eq!(compared("depth = 4\n", "4\n"), [""; 0]);
    assert_eq!(compared("depth = 5\n", "4\n"), ["note altered-settings /etc/lamp.conf"]);
    assert_eq!(compared("depth = 4\n", "5\n"), ["warning altered-file /usr/share/lamp/depths"]);
    // Of the same size, and longer.
    assert_eq!(compared("depth = 4\n", "44\n"), ["warning altered-file /usr/share/lamp/depths"]);
}

/// The kinds that depend on the day, or on what the user wrote down.
const OF_SETTINGS: [FindingKind; 3] =
    [FindingKind::EndOfLife, FindingKind::StaleCatalogue, FindingKind::UnmetExpectation];

#[test]
fn what_depends_on_the_day_and_on_the_settings_is_found_by_them() {
    let machine = Machine::healthy().append("etc/os-release", "SUPPORT_END=2026-06-10\n");
    assert_eq!(found_with(&machine, &Settings { now: Some(1_780_000_000), ..Settings::default() }), [""; 0]);
    let ended = Settings { now: Some(1_790_000_000), ..Settings::default() };
    assert_eq!(found_with(&machine, &ended), ["warning end-of-life debian"]);
    let machine = Machine::healthy();

    let expect = |manager: &'static str, contexts: &[Context]| Settings {
        expected: vec![Expected {
            command: "pegel".into(),
            manager: ManagerId(manager),
            contexts: contexts.to_vec(),
            place: Evidence::line("/etc/whodunit.toml", 3, ""),
        }],
        ..Settings::default()
    };
    assert_eq!(found_with(&machine, &expect("dpkg", &[])), [""; 0]);
    assert_eq!(found_with(&machine, &expect("snap", &[])), ["warning unmet-expectation pegel"]);
    let machine = machine.file("usr/local/bin/pegel", "-> /usr/bin/pegel");
    assert_eq!(found_with(&machine, &expect("dpkg", &[Context::Login])), [""; 0]);
}

#[test]
fn an_accepted_finding_is_marked_and_counted_apart() {
    let machine = Machine::healthy().file("usr/local/bin/tides", "-> /opt/tides/tides");
    let accept = |kind, subject: Option<&str>, until| Settings {
        accepted: vec![Accepted {
            kind,
            subject: subject.map(Into::into),
            reason: "until the pier is mended".to_owned(),
            until,
            day: None,
            place: Evidence::line("/etc/whodunit.toml", 3, ""),
        }],
        now: Some(1_790_000_000),
        ..Settings::default()
    };
    let (kind, link) = (FindingKind::DanglingLink, "/usr/local/bin/tides");
    for (why, settings, accepted) in [
        ("its subject", accept(kind, Some(link), None), 1),
        ("a pattern", accept(kind, Some("/usr/local/*"), None), 1),
        ("every subject", accept(kind, None, None), 1),
        ("until later", accept(kind, None, Some(1_790_000_001)), 1),
        ("until now", accept(kind, None, Some(1_790_000_000)), 0),
        ("another subject", accept(kind, Some("/opt/*"), None), 0),
        ("another kind", accept(FindingKind::DoomedLink, Some(link), None), 0),
    ] {
        let counts = machine.ask(|cx| check(cx, &settings, &FindingFilter::default()).counts);
        assert_eq!((counts.accepted, counts.warning), (accepted, 1 - accepted), "{why}");
    }
}

/// The kind that is told where a name is asked about.
const OF_A_NAME: FindingKind = FindingKind::BuiltinHidesCommand;

#[test]
fn a_shell_s_own_command_hides_the_program_of_its_name_in_that_shell_alone() {
    let machine = Machine::healthy().user_shell("/usr/bin/bash").deb("coreutils", "9.1-1", "", &["usr/bin/printf"]);
    let told = |name: &str| {
        machine.ask(|cx| {
            let target = Target::parse(name.as_bytes()).unwrap();
            let typed = cx.views[0].searches.iter().find(|search| search.context == Context::Terminal).unwrap();
            let answers = owners(cx.survey, typed, &[target]).answers;
            answers[0].findings.iter().map(|one| format!("{} {}", one.kind, one.subject)).collect::<Vec<_>>()
        })
    };
    assert_eq!(told("printf"), ["builtin-hides-command printf"]);
    assert_eq!(told("/usr/bin/printf"), [""; 0]);
    assert_eq!(told("pegel"), [""; 0]);
}
