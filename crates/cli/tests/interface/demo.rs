//! Every command on the demo workstation: plain use, every format, nothing there, and wrong usage.

use std::fs;

use super::support::{Ran, ask, finish, lantern, program, repository, run};
use whodunit_core::schema::schema;

/// Everything that a run says, with the place of the tree taken out.
fn whole(ran: &Ran) -> String {
    let place = lantern().to_str().unwrap();
    let part = |name: &str, text: &str| match text {
        "" => String::new(),
        text => format!("--- {name}\n{}\n", text.replace(place, "/LANTERN").trim_end()),
    };
    format!("--- status {}\n{}{}", ran.status, part("out", &ran.out), part("err", &ran.err))
}

macro_rules! snapshots {
    ($($name:ident: $arguments:expr;)*) => {
        $(#[test]
        fn $name() {
            let ran = ask(&$arguments);
            if $arguments.contains(&"json") && ran.status < 2 {
                ran.document();
            }
            insta::assert_snapshot!(without_sizes(&whole(&ran)));
        })*
    };
}

snapshots! {
    inventory: ["inventory"];
    inventory_all: ["inventory", "--all", "--columns", "name,version,arch,reason,held,status,size,commands"];
    inventory_json: ["inventory", "tidegauge", "--format", "json"];
    inventory_lines: ["inventory", "ferry", "--format", "lines"];
    inventory_csv: ["inventory", "--all", "--sort", "size", "--format", "csv"];
    inventory_markdown: ["inventory", "--sort", "date", "--format", "markdown"];
    inventory_totals: ["inventory", "--totals", "--all"];
    inventory_of_nothing: ["inventory", "kraken"];
    inventory_of_an_unknown_manager: ["inventory", "--manager", "kraken"];
    inventory_from_a_third_party: ["inventory", "--origin", "third-party"];
    inventory_of_no_source: ["inventory", "ferryboard", "--origin", "none", "--format", "json"];
    offers: ["offers", "chartdesk", "ferryboard", "tidegauge", "kraken"];
    offers_newer: ["offers", "--newer"];
    offers_json: ["offers", "seaglass", "--format", "json"];
    offers_csv: ["offers", "chartdesk", "--format", "csv"];
    owner_of_a_plain_program: ["owner", "tidegauge"];
    owner_of_an_unowned_program: ["owner", "barolog"];
    owner_of_an_alternative: ["owner", "chart-view"];
    owner_of_a_diverted_program: ["owner", "lamp", "/usr/bin/lamp.plain"];
    owner_of_a_script: ["owner", "/usr/bin/lampwick"];
    owner_through_both_spellings: ["owner", "/bin/tidegauge", "/usr/bin/sh", "/lib/x86_64-linux-gnu/libtide.so.2"];
    owner_of_shared_and_left_files: ["owner", "/usr/share/doc/libtide2/copyright", "/etc/pilotbook.conf", "package:libtide2:i386"];
    owner_json: ["owner", "chart-view", "barolog", "--format", "json"];
    owner_csv: ["owner", "tidegauge", "barolog", "/usr/share/doc", "kraken", "--format", "csv"];
    owner_of_many: ["owner", "tidegauge", "barolog", "/usr/share/doc", "kraken"];
    owner_of_nothing: ["owner", "kraken", "/usr/bin/kraken", "package:kraken"];
    owner_of_a_bad_target: ["owner", "command:/usr/bin/lamp"];
    launchers: ["launchers"];
    launchers_json: ["launchers", "--desktop", "Quayside", "--format", "json"];
    launchers_csv: ["launchers", "semaphore", "--format", "csv"];
    launchers_of_nothing: ["launchers", "kraken"];
    launchers_in_given_dirs: ["launchers", "--data-dirs", "/usr/share:/nix/var/nix/profiles/per-user/maren/profile/share", "--format", "lines"];
    shadows: ["shadows"];
    shadows_json: ["shadows", "--format", "json"];
    shadows_of_names: ["shadows", "shoal", "tidegauge", "kraken"];
    shadows_of_a_path: ["shadows", "/usr/bin/lamp"];
    states: ["states"];
    states_json: ["states", "profile", "--format", "json"];
    states_csv: ["states", "--format", "csv"];
    states_of_nothing: ["states", "kraken"];
    states_one: ["states", "profile", "3"];
    states_compared: ["states", "profile", "now", "1"];
    states_compared_json: ["states", "profile", "1", "3", "--format", "json"];
    states_that_are_not_kept: ["states", "profile", "99", "now"];
    owner_in_all_contexts: ["owner", "tidegauge", "/usr/bin/barolog", "--context", "all", "--user", "maren"];
    owner_of_modules: ["owner", "module:mooring", "module:kraken", "library:libkraken.so.1"];
    owner_of_an_alias: ["owner", "ll", "--context", "terminal", "--user", "maren"];
    owner_behind_a_function: ["owner", "barolog", "--context", "terminal", "--user", "tobin"];
    shadows_across: ["shadows", "--across", "--user", "maren"];
    shadows_across_json: ["shadows", "--across", "shoal", "--format", "json"];
    shadows_across_csv: ["shadows", "--across", "--format", "csv", "--user", "tobin"];
    shadows_of_modules: ["shadows", "--kind", "module"];
    shadows_of_modules_json: ["shadows", "--kind", "module", "mooring", "--format", "json"];
    shadows_of_manuals: ["shadows", "--kind", "manual", "--context", "login"];
    shadows_of_launchers: ["shadows", "--kind", "launcher"];
    shadows_of_libraries: ["shadows", "--kind", "library", "libkraken.so.1"];
    shadows_across_of_nothing: ["shadows", "--across", "kraken"];
    paths_of_all_contexts: ["paths", "--context", "all"];
    paths_json: ["paths", "--context", "terminal", "--user", "tobin", "--format", "json"];
    paths_csv: ["paths", "--format", "csv", "--user", "maren"];
    paths_of_data_dirs: ["paths", "XDG_DATA_DIRS", "--context", "desktop", "--user", "maren"];
    paths_of_nothing: ["paths", "KRAKEN_DIRS"];
    paths_of_no_variable: ["paths", "kraken/x"];
    paths_with_another_start: ["paths", "--user", "maren", "--shell", "sh", "--inherit", "PATH=/opt/quay/bin"];
    owner_in_the_store: ["--path", "/home/maren/.nix-profile/bin:/usr/bin", "owner", "tidegauge", "package:libtide", "/nix/store/c5x8rq2b0nv7zk4mj1hwyp9d6sfgli3a-semaphore-1.2-rc1/bin/semaphore"];
    shadows_between_managers: ["--path", "/home/maren/.nix-profile/bin:/usr/bin", "shadows"];
    unowned: ["unowned"];
    unowned_json: ["unowned", "--format", "json"];
    unowned_in_a_dir: ["unowned", "/opt", "--format", "lines"];
    unowned_where_all_is_owned: ["unowned", "/usr/share"];
    unowned_in_no_dir: ["unowned", "/usr/kraken"];
    check: ["check", "--context", "all"];
    check_csv: ["check", "--context", "all", "--kind", "two-owners,version-split", "--format", "csv"];
    check_lines: ["check", "--context", "login", "--kind", "masked-module", "--format", "lines"];
    check_of_no_kind: ["check", "--kind", "kraken"];
    conflicts: ["conflicts", "--context", "all"];
    conflicts_json: ["conflicts", "tidegauge", "--context", "all", "--format", "json"];
    conflicts_of_nothing: ["conflicts", "kraken"];
    verify: ["verify"];
    verify_json: ["verify", "python3-knots", "--format", "json"];
    verify_of_one_manager: ["verify", "--manager", "pip", "--format", "markdown"];
    verify_of_nothing: ["verify", "kraken"];
    impact: ["impact", "python3.11", "--context", "all"];
    impact_json: ["impact", "dpkg/system/harbour-lamps", "--context", "all", "--format", "json"];
    impact_csv: ["impact", "pipx/user:maren/swellplot", "--context", "all", "--format", "csv"];
    impact_of_an_ambiguous_name: ["impact", "swellplot"];
    impact_of_nothing: ["impact", "kraken"];
    why: ["why", "python3.11", "python3-knots", "harbour-lamps"];
    why_across_installations: ["why", "org.harbour.Platform", "nix/system/store/2k1c9hr3v7jd5m0wzq8xn4ba6ygfspil-libtide-4.0.1", "fairlead", "shoal"];
    why_json: ["why", "dpkg/system/python3-knots", "--format", "json"];
    why_csv: ["why", "python3.11", "--format", "csv"];
    why_of_nothing: ["why", "kraken"];
    space_of_nothing: ["space", "kraken", "--format", "lines"];
    explain: ["explain"];
    explain_json: ["explain", "masked-module", "--format", "json"];
    explain_of_one: ["explain", "two-owners"];
    explain_of_nothing: ["explain", "kraken"];
    a_user_who_is_not_there: ["inventory", "--user", "kraken"];
}

#[test]
fn the_search_path_of_a_login_is_the_default_offline() {
    let place = lantern().to_str().unwrap();
    let ran = run(["--root", place, "owner", "shoal", "--format", "json"]);
    let answer = &ran.document()["answers"][0];
    assert_eq!(answer["runs"], "/home/maren/.cargo/bin/shoal");
    let because = &answer["because"][0];
    assert_eq!((&because["file"], &because["at"]), (&"/home/maren/.profile".into(), &"line 6".into()));
    assert!(ran.err.is_empty(), "{ran:?}");
}

#[test]
fn a_program_outside_the_search_path_is_named_with_its_place() {
    let place = lantern().to_str().unwrap();
    let ran = run(["--root", place, "--path", "/usr/games", "owner", "seaglass", "command:lamp", "--format", "json"]);
    let document = ran.document();
    let answers = document["answers"].as_array().unwrap();
    assert_eq!((&answers[0]["kind"], &answers[0]["verdict"]), (&"package".into(), &"owned".into()));
    assert_eq!(answers[1]["verdict"], "not-found");
    assert_eq!(
        answers[1]["elsewhere"][0],
        serde_json::json!({ "id": "dpkg/system/foglight", "start": "/usr/bin/lamp" })
    );
    assert_eq!(ran.status, 1);
}

/// What is freed depends on the file system that has the demo.
fn without_sizes(shown: &str) -> String {
    let is_kept = |line: &&str| {
        !line.ends_with("B are free") && !line.ends_with("B would be free") && !line.starts_with("  \"frees\": ")
    };
    shown.lines().filter(is_kept).map(|line| format!("{line}\n")).collect()
}

/// Nothing on the demo workstation is damaged or closed: whatever is asked, nothing is said to be unknown.
#[test]
fn every_record_of_the_demo_is_read_in_full() {
    for words in [
        "inventory --all",
        "check",
        "leftovers",
        "space",
        "plan tidy --with-caches",
        "verify",
        "sources",
        "timeline",
        "why libtide2",
    ] {
        let ran = run(["--root", lantern().to_str().unwrap()].into_iter().chain(words.split(' ')));
        assert_eq!(ran.err, "", "{words}");
    }
}

#[test]
fn the_tour_is_what_its_commands_say() {
    let dir = tempfile::tempdir().unwrap();
    let place = dir.path().join("lantern");
    let tour = run(["demo", place.to_str().unwrap()]);
    assert_eq!((tour.status, tour.err.as_str()), (0, ""));
    let shown = without_sizes(&tour.out.replace(place.to_str().unwrap(), "/LANTERN"));
    insta::assert_snapshot!(shown);
    // Each command that the tour prints gives just what stands below it.
    let mut checked = 0;
    for block in tour.out.split("\n$ whodunit ").skip(1) {
        let (command, answer) = block.split_once('\n').unwrap();
        // A script has such lines, too: the last one is the next question.
        let answer = answer.rsplit_once("\n\n# ").map_or(answer, |(answer, _)| answer);
        assert!(answer.starts_with(run(command.split(' ')).out.trim_end()), "{command}");
        checked += 1;
    }
    assert_eq!(checked, 27);
    let again = run(["demo", place.to_str().unwrap()]);
    assert!(again.status == 2 && again.err.contains("is not empty"), "{again:?}");
}

#[test]
fn the_published_schema_is_that_of_the_types() {
    let file = repository().join("docs/schema/whodunit-1.json");
    let generated = serde_json::to_string_pretty(&schema()).unwrap() + "\n";
    if std::env::var_os("WHODUNIT_UPDATE_SCHEMA").is_some() {
        fs::create_dir_all(file.parent().unwrap()).unwrap();
        fs::write(&file, &generated).unwrap();
    }
    let published = fs::read_to_string(&file).unwrap_or_default();
    assert!(published == generated, "run the tests once with WHODUNIT_UPDATE_SCHEMA=1 and read the difference");
}

#[test]
fn the_schema_refuses_what_it_does_not_describe() {
    let mut document = ask(&["owner", "tidegauge", "--format", "json"]).document();
    let validator = jsonschema::validator_for(&schema()).unwrap();
    assert!(validator.is_valid(&document));
    document["answers"][0]["verdict"] = "perhaps".into();
    assert!(!validator.is_valid(&document));
    assert!(!validator.is_valid(&serde_json::json!({ "schema": "whodunit/1", "command": "owner" })));
}

#[test]
fn settings_add_dirs_and_mistakes_in_them_are_located() {
    let dir = tempfile::tempdir().unwrap();
    let tree = dir.path().join("tree");
    let put = |path: &str, content: &[u8]| {
        let at = dir.path().join(path);
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        fs::write(&at, content).unwrap();
        at.to_str().unwrap().to_owned()
    };
    put("tree/srv/tools/horn", &whodunit_demo::bundle_of("", b""));
    let sound = put("sound.toml", b"[bundles]\ndirectories = [\"/srv/tools\"]\n");
    let wrong = put("wrong.toml", b"[bundles]\n\nfoldres = []\n");
    let root = tree.to_str().unwrap();
    let asked = |config: &str| run(["--root", root, "--config", config, "inventory", "--format", "json"]);
    assert_eq!(asked(&sound).document()["packages"][0]["id"], "appimage/system/srv/tools/horn");
    let ran = asked(&wrong);
    assert!(ran.status == 2 && ran.err.contains("wrong.toml, line 3: unknown field `foldres`"), "{ran:?}");
    // The order of sources decides which one comes first.
    for (prefer, first) in [("[]", "1.0.7-3"), ("[\"Quay\"]", "1.1.0-1")] {
        let config = put("order.toml", format!("[sources]\nprefer = {prefer}\n").as_bytes());
        let offers = ask(&["--config", &config, "offers", "paperchart", "--format", "json"]).document();
        let preferred = offers["offers"].as_array().unwrap().iter().find(|one| one["preferred"] == true).unwrap();
        assert_eq!(preferred["version"], first);
    }
    assert!(asked("/no/such.toml").err.contains("/no/such.toml: no such file"), "a file that is named must be there");
}

#[test]
fn colour_is_a_matter_of_choice() {
    let escape = '\u{1b}';
    assert!(!ask(&["shadows"]).out.contains(escape));
    assert!(ask(&["shadows", "--color", "always"]).out.contains(escape));
    let place = lantern().to_str().unwrap();
    let mut never = std::process::Command::new(program());
    assert!(!finish(never.args(["--root", place, "shadows"]).env("NO_COLOR", "1")).out.contains(escape));
}

#[test]
fn help_and_version_are_results_and_mistakes_are_not() {
    for (arguments, status, says) in [
        (&["--help"][..], 0, "Exit status"),
        (&["owner", "--help"], 0, "Examples:"),
        (&["--version"], 0, "whodunit 0."),
        (&[], 2, "Usage:"),
        (&["owner"], 2, "required"),
        (
            &["inventory", "--root", "/no/such/place"],
            2,
            "no such directory for --root: /no/such/place (is the disk mounted?)",
        ),
        (&["demo", "--root", "/"], 2, "does not accept --root"),
    ] {
        let ran = run(arguments);
        assert!(ran.status == status && format!("{}{}", ran.out, ran.err).contains(says), "{arguments:?}: {ran:?}");
        assert_eq!(ran.out.is_empty(), status == 2, "{arguments:?}");
    }
}

#[test]
fn search_sources_and_upkeep() {
    for (name, words) in [
        ("search", &["search", "chart"][..]),
        ("search_json", &["search", "tide", "--not", "wave", "--format", "json"]),
        ("search_by_command", &["search", "--provides", "tidegauge"]),
        ("search_in_vain", &["search", "kraken"]),
        ("sources", &["sources"]),
        ("sources_of_one", &["sources", "quay"]),
        ("sources_json", &["sources", "flatpak", "--format", "json"]),
        ("upkeep", &["upkeep"]),
        ("upkeep_of_one", &["upkeep", "chartdesk", "ferryboard"]),
        ("upkeep_json", &["upkeep", "seaglass", "--format", "json"]),
        ("inventory_of_what_is_confined", &["inventory", "--confined"]),
        ("inventory_of_what_is_unsigned", &["inventory", "--all", "--unsigned"]),
        ("inventory_with_upkeep", &["inventory", "--columns", "name,manager,upkeep,publisher,signed"]),
    ] {
        let ran = ask(words);
        if words.contains(&"json") {
            ran.document();
        }
        insta::assert_snapshot!(name, whole(&ran));
    }
    for words in [&["sources", "kraken"][..], &["upkeep", "kraken"]] {
        assert_eq!(ask(words).status, 1, "{words:?}");
    }
}
