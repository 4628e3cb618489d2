//! What differs before and after, with the managers' own lists as the judges, and under which transaction.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::Value;

use super::proofs::TOOLS;
use super::support::{open_dir, text};
use super::trial::Trial;

/// One manager, and what it does.
struct Judged {
    manager: &'static str,
    /// How the ids of its packages begin: of those that a user installed, not of all that a store has.
    ids: &'static str,
    /// Who types.
    user: &'static str,
    plant: &'static str,
    /// Prints a line for each package: its name, a blank, its version.
    list: &'static str,
    /// One after the other, each between two snapshots.
    acts: &'static [&'static str],
    /// Whether its log tells of everything that it did; else of what it installed alone.
    has_log: bool,
}

const LANTERN: &str = r#"for version in 2.0.0 3.0.0; do
    mkdir -p /srv/npm/lantern
    printf '{"name":"lantern","version":"'$version'","bin":{"lamp":"lamp.js"}}' > /srv/npm/lantern/package.json
    printf '#!/usr/bin/env node\nconsole.log(2)\n' > /srv/npm/lantern/lamp.js
    (cd /srv/npm; npm pack --silent ./lantern >/dev/null)
done"#;

const JUDGED: &[Judged] = &[
    Judged {
        manager: "dpkg",
        ids: "dpkg/system/",
        user: "root",
        plant: "script p/usr/bin/wick 1; deb wick 1.0; script p/usr/bin/lamp 1; deb lamp 1.0 'Depends: wick\n'; script p/usr/bin/lamp 2; deb lamp 2.0; listed",
        list: "dpkg-query -W -f '${db:Status-Status} ${Package} ${Version}\\n' | sed -n 's/^installed //p'",
        acts: &["apt-get install -qq -y lamp=1.0", "apt-get install -qq -y lamp", "apt-get purge -qq -y lamp wick"],
        has_log: true,
    },
    Judged {
        manager: "pip",
        ids: "pip/user:maren/",
        user: "maren",
        plant: "wheel knots 2.0; wheel moor 1.0 knots; wheel moor 2.0",
        list: "python3 -m pip list --user --format freeze 2>/dev/null | sed 's/==/ /'",
        acts: &[
            "python3 -m pip install --quiet --user --break-system-packages moor==1.0",
            "python3 -m pip install --quiet --user --break-system-packages --upgrade moor",
            "python3 -m pip uninstall --quiet --break-system-packages -y moor knots",
        ],
        has_log: false,
    },
    Judged {
        manager: "npm",
        ids: "npm/system/",
        user: "root",
        plant: LANTERN,
        list: "npm ls --global --prefix /usr/local --depth 0 --parseable --long | sed -n 's/^[^:]*node_modules[^:]*:\\(.*\\)@\\([^:]*\\).*/\\1 \\2/p'",
        acts: &[
            "npm install --silent --global --prefix /usr/local /srv/npm/lantern-2.0.0.tgz",
            "npm install --silent --global --prefix /usr/local /srv/npm/lantern-3.0.0.tgz",
            "npm uninstall --silent --global --prefix /usr/local lantern",
        ],
        has_log: false,
    },
    Judged {
        manager: "nix",
        ids: "nix/user:maren/",
        user: "maren",
        plant: "tides 2.0; as_user maren 'sed s/2.0/3.0/ tide.nix > tide3.nix; sed \"s/tidegauge-2.0/buoy-1.5/; s,bin/tidegauge,bin/buoy,g\" tide.nix > buoy.nix'",
        list: "nix-env -q | sed 's/-\\([0-9]\\)/ \\1/'",
        acts: &[
            "nix-env --quiet -i -f ~/buoy.nix",
            "nix-env --quiet -i -f ~/tide3.nix",
            "nix-env --quiet -e buoy",
            "nix-env --quiet --rollback",
        ],
        has_log: true,
    },
    Judged {
        manager: "flatpak",
        ids: "flatpak/system/",
        user: "root",
        plant: "flatpaks; flatpak --system remote-add --no-gpg-verify quay file:///srv/fp/repo",
        list: "flatpak list --system --columns=application,branch | sed '/^Application/d; s/\\t/ /'",
        acts: &[
            "flatpak --system install -y --noninteractive quay org.harbour.ChartDesk",
            "flatpak --system uninstall -y --noninteractive org.harbour.ChartDesk",
        ],
        has_log: false,
    },
];

/// What the manager says is there: version by name.
fn listed(trial: &Trial, judged: &Judged) -> BTreeMap<String, String> {
    let output = trial.types(Some(judged.user), judged.list);
    let said = String::from_utf8(output.stdout).unwrap();
    let pair = |line: &str| line.trim().split_once(' ').map(|(name, version)| (name.to_owned(), version.to_owned()));
    said.lines().filter_map(pair).collect()
}

/// What came, went and changed between two lists.
fn between(before: &BTreeMap<String, String>, after: &BTreeMap<String, String>) -> BTreeSet<String> {
    let names: BTreeSet<&String> = before.keys().chain(after.keys()).collect();
    let row = |name: &String| match (before.get(name), after.get(name)) {
        (None, Some(_)) => Some(format!("added {name}")),
        (Some(_), None) => Some(format!("removed {name}")),
        (from, to) if from != to => Some(format!("changed {name}")),
        _ => None,
    };
    names.into_iter().filter_map(row).collect()
}

#[test]
fn what_differs_is_what_the_manager_did() {
    let Some(trial) = Trial::if_here() else { return };
    trial.plants(TOOLS);
    let kept = open_dir();
    for judged in JUDGED {
        trial.plants(&format!(". /root/tools\n{}", judged.plant));
        let place = |number: usize| {
            let file = kept.path().join(format!("{}-{number}", judged.manager));
            file.to_str().unwrap().to_owned()
        };
        let saves = |number: usize| {
            let saved = trial.runs(&["--user", "root", "--user", "maren", "snapshot", "save", &place(number)]);
            assert_eq!(saved.status, 0, "{}", saved.err);
            listed(&trial, judged)
        };
        let mut before = saves(0);
        for (number, act) in judged.acts.iter().enumerate() {
            let output = trial.types(Some(judged.user), act);
            assert!(output.status.success(), "{act}: {output:?}");
            let after = saves(number + 1);
            let theirs = between(&before, &after);
            assert!(!theirs.is_empty(), "{act} did nothing: {before:?}");
            before = after;
            let states = [place(number), place(number + 1)];
            let told =
                trial.asks(&["--user", "root", "--user", "maren", "compare", "--by-cause", &states[0], &states[1]]);
            let changes = told["changes"].as_array().unwrap();
            let of_manager = |one: &Value| {
                let is_package = one["what"] == "package" && text(&one["subject"]).starts_with(judged.ids);
                is_package && one["of"].as_str().is_none_or(|of| ["up", "down", "version"].contains(&of))
            };
            let places: Vec<usize> = (0..changes.len()).filter(|place| of_manager(&changes[*place])).collect();
            let row = |place: &usize| {
                let (change, subject) = (text(&changes[*place]["change"]), text(&changes[*place]["subject"]));
                let name = subject.split('/').nth(2).unwrap().to_owned();
                format!("{change} {name}")
            };
            let ours: BTreeSet<String> = places.iter().map(row).collect();
            assert_eq!(ours, theirs, "{act}\n{told:#}");
            let by: Vec<&Value> = told["transactions"].as_array().unwrap().iter().collect();
            assert!(by.iter().all(|one| one["manager"] == judged.manager), "{act}\n{told:#}");
            for place in places {
                let is_told = by.iter().any(|one| one["changes"].as_array().unwrap().contains(&place.into()));
                let is_gone = changes[place]["change"] == "removed";
                // That an older generation is in force again stands nowhere.
                let is_logged = judged.has_log && !act.ends_with("--rollback");
                let is_recorded = !judged.has_log && !is_gone;
                assert_eq!(is_told, is_logged || is_recorded, "{act}: {}\n{told:#}", changes[place]);
            }
        }
    }
}
