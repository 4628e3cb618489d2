//! `space` and `leftovers`, judged: sizes by `du`, what is freed by a real removal, and every command that empties a
//! cache by being typed as printed, by the user it names.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::MetadataExt as _;

use serde_json::Value;

use super::proofs::TOOLS;
use super::support::{can_mount, has, lantern, not_compared, open_dir, output, program, run};
use super::trial::Trial;

fn part<'d>(document: &'d Value, title: &str, manager: &str) -> &'d Value {
    let titles = document["titles"].as_array().unwrap().iter().filter(|one| one["title"] == title);
    let mut parts = titles.flat_map(|one| one["installations"].as_array().unwrap());
    parts.find(|part| part["manager"] == manager).unwrap_or_else(|| panic!("no {title} of {manager}: {document:#}"))
}

/// The number that a command prints first.
fn number(trial: &Trial, lines: &str) -> u64 {
    let printed = trial.types(None, lines);
    let text = String::from_utf8(printed.stdout).unwrap();
    let first = text.split_whitespace().next().unwrap_or_else(|| panic!("{lines}: nothing"));
    first.parse().unwrap_or_else(|_| panic!("{lines}: {text}"))
}

#[test]
fn sizes_are_what_du_says_and_what_is_freed_is_free_afterwards() {
    let Some(trial) = Trial::if_here() else { return };
    trial.plants(TOOLS);
    trial.plants(
        ". /root/tools
        head -c 300000 /dev/urandom > data
        install -D -m 644 data p/usr/share/tide/chart; ln p/usr/share/tide/chart p/usr/share/tide/same; deb tide-data 1.0
        install -D -m 644 data p/usr/lib/tide/table; deb tide-tables 1.0
        script p/usr/bin/tide 1; install -D -m 644 data p/usr/lib/tide/more; deb tide 1.0 'Depends: tide-data, tide-tables\n'
        script p/usr/bin/buoy 1; deb buoy 1.0 'Depends: tide-tables\n'
        script p/usr/bin/lamp 1; deb lamp 1.0; script p/usr/bin/candle 1; deb candle 1.0
        installs tide buoy lamp candle; ln -f /usr/bin/lamp /usr/bin/candle
        truncate -s 50M /usr/share/tide/sparse; chmod 644 /usr/share/tide/sparse
        wheel swellplot 1.0 knots swellplot; wheel knots 2.0
        as_user maren 'pipx install swellplot >/dev/null
            mkdir -p .nvm/versions/node/v20.1.0/bin .nvm/versions/node/v20.1.0/lib/node_modules/mooring
            cp /root/data .nvm/versions/node/v20.1.0/bin/node 2>/dev/null || head -c 99999 /dev/urandom > .nvm/versions/node/v20.1.0/bin/node
            chmod 755 .nvm/versions/node/v20.1.0/bin/node; ln .nvm/versions/node/v20.1.0/bin/node .nvm/versions/node/v20.1.0/bin/twin
            truncate -s 9M .nvm/versions/node/v20.1.0/hollow
            echo \"{\\\"name\\\":\\\"mooring\\\",\\\"version\\\":\\\"1.0.0\\\"}\" > .nvm/versions/node/v20.1.0/lib/node_modules/mooring/package.json'",
    );
    let told = trial.asks(&["space"]);
    for package in ["tide-data", "tide", "buoy", "tide-tables"] {
        let files =
            format!("dpkg -L {package} | while read -r f; do [ -d \"$f\" ] || echo \"$f\"; done | xargs du -c -B1");
        let theirs = number(&trial, &format!("{files} | tail -n 1"));
        assert_eq!(part(&told, package, "dpkg")["own"], theirs, "{package}");
    }
    let app = "/home/maren/.local/share/pipx/venvs/swellplot";
    let theirs =
        number(&trial, &format!("du -s -B1 {app} $(ls -d /home/maren/.local/pipx/venvs/swellplot) 2>/dev/null"));
    assert_eq!(part(&told, "swellplot", "pipx")["reclaimable"], theirs, "all of an environment goes with it");
    let theirs = number(&trial, "du -s -B1 /home/maren/.nvm/versions/node/v20.1.0");
    let own = |title: &str, manager: &str| part(&told, title, manager)["own"].as_u64().unwrap();
    assert_eq!(own("node", "nvm") + own("mooring", "npm"), theirs, "every file once, holes not at all");
    // A file of two packages is shared, and freed by neither.
    assert_eq!(part(&told, "candle", "dpkg")["own"], 0);
    assert!(part(&told, "candle", "dpkg")["shared"].as_u64().unwrap() > 0);
    assert_eq!(part(&told, "candle", "dpkg")["reclaimable"], 0);
    // What others need is not freed, and what only it needs goes along.
    assert_eq!(part(&told, "tide-tables", "dpkg")["reclaimable"], 0);
    let foretold = part(&told, "tide", "dpkg")["reclaimable"].as_u64().unwrap();
    let used = "find /usr -xdev -type f -printf '%b %i\\n' | sort -u -k2 | awk '{ sum += $1 * 512 } END { print sum }'";
    let before = number(&trial, used);
    trial.plants("apt-get -qq -y autoremove --purge tide >/dev/null 2>&1");
    assert_eq!(before - number(&trial, used), foretold);
    let gone = trial.asks(&["space"]);
    assert!(!gone["titles"].as_array().unwrap().iter().any(|one| one["title"] == "tide-data"), "{gone:#}");
}

#[test]
fn what_old_generations_hold_is_what_the_store_is_smaller_by_without_them() {
    let Some(trial) = Trial::if_here() else { return };
    trial.plants(TOOLS);
    trial.plants(". /root/tools; tides 1 2 3; as_user maren 'nix-store --gc >/dev/null 2>&1'");
    let told = trial.asks(&["leftovers"]);
    let found = told["findings"].as_array().unwrap().iter().find(|one| one["kind"] == "old-generation");
    let size = "su -s /bin/sh maren -c 'for path in /nix/store/*; do nix-store --query --size $path; done' 2>/dev/null | \
        awk '{ sum += $1 } END { print sum }'";
    let before = number(&trial, size);
    trial.plants("su -s /bin/bash - maren -c 'nix-env --delete-generations old && nix-store --gc' >/dev/null 2>&1");
    let freed = before - number(&trial, size);
    assert!(freed > 0);
    assert_eq!(found.unwrap()["bytes"], freed, "{told:#}");
}

/// The caches that a command empties, by their directories.
fn cleared(document: &Value) -> BTreeMap<String, Value> {
    let caches = document["caches"].as_array().unwrap().iter();
    let with = caches.filter(|cache| !cache["remedies"].as_array().unwrap().is_empty());
    with.map(|cache| (cache["path"].as_str().unwrap().to_owned(), cache["remedies"][0].clone())).collect()
}

#[test]
fn a_cache_is_emptied_by_the_command_that_is_printed() {
    let Some(trial) = Trial::if_here() else { return };
    trial.plants(TOOLS);
    trial.plants(
        ". /root/tools
        head -c 100000 /dev/urandom > data; chmod 644 data
        install -D data p/usr/share/lamp; deb lamp 1.0; listed; cp /srv/debs/lamp_1.0_all.deb /var/cache/apt/archives/
        mkdir -p /var/cache/pacman/pkg; cp data /var/cache/pacman/pkg/lamp-1.0-1-any.pkg.tar.zst
        printf '[options]\\nArchitecture = auto\\nSigLevel = Never\\n' > /etc/pacman.conf; mkdir -p /var/lib/pacman/sync
        mkdir -p /etc/yum.repos.d; createrepo_c -q /srv/rpms
        printf '[quay]\\nname=Quay\\nbaseurl=file:///srv/rpms\\ngpgcheck=0\\n' > /etc/yum.repos.d/quay.repo
        dnf -q -y --releasever=1 makecache >/dev/null 2>&1
        install -D data $(ls -d /var/cache/dnf/quay-*/)packages/lamp-1.0-1.noarch.rpm; cp data /home/maren/data
        as_user maren 'mkdir -p lamp .cache/pip/wheels/ab .cache/yarn/v6 && cd lamp && cp ~/data .
            echo \"{\\\"name\\\":\\\"lamp\\\",\\\"version\\\":\\\"1.0.0\\\"}\" > package.json && npm pack --silent >/dev/null
            npm cache add ./lamp-1.0.0.tgz && cp ~/data ~/.cache/pip/wheels/ab/lamp-1.0-py3-none-any.whl
            cp ~/data ~/.cache/yarn/v6/lamp'",
    );
    let before = trial.asks(&["space"]);
    let caches = cleared(&before);
    let places = ["apt/archives", "pacman/pkg", "/var/cache/dnf", ".npm/_cacache", ".cache/pip", ".cache/yarn"];
    for place in places {
        assert!(caches.keys().any(|path| path.ends_with(place)), "{place} of {before:#}");
    }
    for (path, remedy) in &caches {
        let command = remedy["command"].as_str().unwrap();
        let typed = trial.types(remedy["as_user"].as_str(), &format!("cd /\n{command}"));
        assert!(typed.status.success(), "{command}: {typed:?}");
        let after = trial.asks(&["space"]);
        assert!(!cleared(&after).contains_key(path), "{command} leaves {path}: {after:#}");
    }
}

/// Managers that are not on the machine on which advice is tried.
#[test]
fn caches_of_uv_and_go_are_emptied_by_the_commands_that_are_printed() {
    if !has(&["uv", "go"]) {
        return;
    }
    let made = open_dir();
    let home = made.path().join("home/maren");
    fs::create_dir_all(home.join("tide")).unwrap();
    fs::create_dir_all(made.path().join("etc")).unwrap();
    fs::write(made.path().join("etc/passwd"), "maren:x:1000:1000::/home/maren:/bin/bash\n").unwrap();
    fs::write(home.join("tide/go.mod"), "module quay.example/tide\n\ngo 1.19\n").unwrap();
    fs::write(home.join("tide/main.go"), "package main\n\nfunc main() {}\n").unwrap();
    fs::create_dir_all(home.join(".cache/uv/wheels-v5")).unwrap();
    let large = "1".repeat(100_000);
    fs::write(home.join(".cache/uv/wheels-v5/lamp.whl"), &large).unwrap();
    fs::create_dir_all(home.join("go/pkg/mod/quay.example/lamp@v1.0.0")).unwrap();
    fs::write(home.join("go/pkg/mod/quay.example/lamp@v1.0.0/lamp.go"), format!("package lamp\n// {large}\n")).unwrap();
    let types = |lines: &str| {
        let mut shell = std::process::Command::new("sh");
        shell.args(["-c", lines]).current_dir(home.join("tide")).env("HOME", &home).env_remove("XDG_CACHE_HOME");
        shell.env_remove("GOPATH").env_remove("GOMODCACHE").env_remove("GOCACHE").env_remove("UV_CACHE_DIR");
        output(&mut shell)
    };
    types("go build -o /dev/null .");
    let asks = || run(["--root", made.path().to_str().unwrap(), "space", "--format", "json"]).document();
    let caches = cleared(&asks());
    assert_eq!(caches.len(), 3, "{caches:#?}");
    for (path, remedy) in &caches {
        // The machine that is looked at has no sudo, and this one no such user: what is typed is the command within.
        let command = remedy["command"].as_str().unwrap();
        types(command.split('\'').nth(1).unwrap_or_else(|| panic!("{command}")));
        assert!(!cleared(&asks()).contains_key(path), "{path} after {remedy}");
    }
}

#[test]
fn what_is_left_is_listed_with_its_size_and_what_is_still_used_is_not() {
    let made = open_dir();
    let root = made.path();
    let write = |file: &str, text: &str| {
        let file = root.join(file);
        fs::create_dir_all(file.parent().unwrap()).unwrap();
        fs::write(file, text).unwrap();
    };
    write("etc/passwd", "root:x:0:0::/root:/bin/sh\nmaren:x:1000:1000::/home/maren:/bin/sh\n");
    let stanza = |name: &str, status: &str, more: &str| {
        format!("Package: {name}\nStatus: {status}\nArchitecture: all\nVersion: 1.0\n{more}Description: made up\n\n")
    };
    let conffiles = "Conffiles:\n /etc/pilotbook.conf 0123456789abcdef0123456789abcdef\n";
    write(
        "var/lib/dpkg/status",
        &[stanza("pilotbook", "deinstall ok config-files", conffiles), stanza("lamp", "install ok installed", "")]
            .concat(),
    );
    write("var/lib/dpkg/info/lamp.list", "/.\n");
    write("etc/pilotbook.conf", "tide = high\n");
    write(
        "var/log/dpkg.log",
        "2026-03-01 10:00:00 install moorings:all <none> 1.0\n2026-03-02 10:00:00 remove moorings:all 1.0 <none>\n\
         2026-03-02 10:00:01 remove lamp:all 0.9 <none>\n2026-03-02 10:00:01 remove beacon:all 0.9 <none>\n",
    );
    for name in [".config/moorings", ".cache/Moorings", ".moorings", ".config/lamp", ".config/quay", ".config/beacon"] {
        write(&format!("home/maren/{name}/settings"), "tide = low\n");
    }
    // A program of that name that nobody owns may use it still.
    write("usr/bin/beacon", "#!/bin/sh\n");
    output(std::process::Command::new("chmod").arg("755").arg(root.join("usr/bin/beacon")));
    let asked = ["--root", root.to_str().unwrap(), "leftovers", "--format", "json"];
    let document = run(asked).document();
    let found = document["findings"].as_array().unwrap();
    let told: Vec<(String, bool, String)> = found
        .iter()
        .map(|one| {
            let path = one["paths"][0].as_str().or(one["subject"].as_str()).unwrap().to_owned();
            (path, one["certain"].as_bool().unwrap(), one["left_by"].as_str().unwrap_or_default().to_owned())
        })
        .collect();
    let by = |path: &str, certain: bool, id: &str| (path.to_owned(), certain, id.to_owned());
    let mut expected = vec![
        by("pilotbook", true, "dpkg/system/pilotbook"),
        by("/home/maren/.cache/Moorings", false, "dpkg/system/moorings"),
        by("/home/maren/.config/moorings", false, "dpkg/system/moorings"),
        by("/home/maren/.moorings", false, "dpkg/system/moorings"),
    ];
    expected.sort();
    let mut sorted = told.clone();
    sorted.sort();
    assert_eq!(sorted, expected, "{document:#}");
    let size = |file: &str| fs::symlink_metadata(root.join(file)).unwrap().blocks() * 512;
    for one in found {
        let expected = match one["paths"][0].as_str() {
            Some(dir) => size(&dir[1..]) + size(&format!("{}/settings", &dir[1..])),
            None => size("etc/pilotbook.conf"),
        };
        assert_eq!(one["bytes"], expected, "{one:#}");
    }
    let shown = run(["--root", root.to_str().unwrap(), "leftovers"]);
    assert_eq!(shown.out.lines().next().map(|line| line.split(',').next().unwrap()), Some("4 leftovers"), "{shown:?}");
}

#[test]
fn what_impact_says_is_freed_is_what_space_calls_reclaimable() {
    for root in ["/", lantern().to_str().unwrap()] {
        let space = run(["space", "--format", "json", "--root", root]).document();
        let parts =
            space["titles"].as_array().unwrap().iter().flat_map(|title| title["installations"].as_array().unwrap());
        // Of a large machine every so many are asked about.
        let parts: Vec<&Value> = parts.collect();
        let step = parts.len().div_ceil(12);
        for part in parts.into_iter().step_by(step) {
            let packages: Vec<&str> =
                part["packages"].as_array().unwrap().iter().map(|id| id.as_str().unwrap()).collect();
            let impact = run([&["impact", "--format", "json", "--root", root], &packages[..]].concat()).document();
            let freed = &impact["frees"];
            // What has no file of its own is only recorded, and `space` tells nothing of it.
            assert!(part["reclaimable"].is_null() || *freed == part["reclaimable"], "{packages:?}: {freed} {part:#}");
        }
    }
}

/// Two versions of one program that have most of their content in the same places of a disk, one with a change in the
/// middle, and a cache that has a part of it too, one file by a hard link. What is printed: the answer, then the bytes that were free after the
/// removal.
const SHARED_ON_DISK: &str = r#"
kind=$1 dir=$2 program=$3
truncate -s 400M "$dir/disk"; mkdir "$dir/m"
case $kind in
    xfs) mkfs.xfs -q -m reflink=1 "$dir/disk"; mount -o loop "$dir/disk" "$dir/m" || exit 77 ;;
    *) mkfs.btrfs -q "$dir/disk" >&2; mount -o loop,compress${kind#btrfs} "$dir/disk" "$dir/m" || exit 77 ;;
esac
cd "$dir/m"
mkdir -p etc home/maren/.zvm/0.12.0/lib home/maren/.zvm/0.13.0/lib home/maren/.cache/uv/wheels-v5
echo 'maren:x:1000:1000::/home/maren:/bin/sh' > etc/passwd
old=home/maren/.zvm/0.12.0 new=home/maren/.zvm/0.13.0
for version in $old $new; do echo '#!/bin/sh' > $version/zig; chmod 755 $version/zig; done
head -c 8M /dev/urandom > $old/lib/std; head -c 3M /dev/urandom > $new/doc; head -c 1M /dev/urandom > $new/lib/own
yes tide | head -c 6M > $old/lib/text
cp --reflink=always $old/lib/std $new/lib/std; cp --reflink=always $old/lib/text $new/lib/text
dd if=/dev/urandom of=$new/lib/std bs=1M seek=3 count=1 conv=notrunc status=none
head -c 1M /dev/urandom > $new/lib/linked; ln $new/lib/linked home/maren/.cache/uv/wheels-v5/linked.whl
cp --reflink=always $new/doc home/maren/.cache/uv/wheels-v5/doc.whl
head -c 256K /dev/urandom > home/maren/.cache/uv/wheels-v5/own.whl
used() { sync; sync .; df --output=used -B1 . | tail -n 1; }
before=$(used)
"$program" --root "$dir/m" space --format json
echo ----
rm -r $old $new
# XFS gives places back a little later.
last=$before
for _ in $(seq 60); do
    now=$(used)
    if [ "$now" != "$before" ] && [ "$now" = "$last" ]; then break; fi
    last=$now
    sleep 0.5
done
echo $((before - last))
"#;

#[test]
fn what_files_share_on_a_disk_is_counted_once_and_freed_with_the_last() {
    if !has(&["mkfs.xfs", "mkfs.btrfs", "unshare"]) {
        return;
    }
    if !can_mount() {
        not_compared("places that files share: this process may not mount a file system of its own");
        return;
    }
    for kind in ["xfs", "btrfs=no", "btrfs=zstd"] {
        let dir = tempfile::tempdir().unwrap();
        let mut command = std::process::Command::new("unshare");
        command.args(["--mount", "bash", "-euc", SHARED_ON_DISK, "_", kind]).arg(dir.path()).arg(program());
        let said = command.output().unwrap();
        if said.status.code() == Some(77) {
            not_compared(&format!("places that files share: this kernel does not mount {kind}"));
            continue;
        }
        let printed = String::from_utf8(said.stdout.clone()).unwrap();
        assert!(said.status.success(), "{kind}: {said:?}");
        let (answer, judged) = printed.split_once("----").unwrap_or_else(|| panic!("{kind}: {printed}"));
        let document: Value = serde_json::from_str(answer).unwrap();
        let judged: u64 = judged.trim().parse().unwrap();
        let zig = part(&document, "zig", "zvm");
        let freed = zig["reclaimable"].as_u64().unwrap();
        // What is compressed counts as long as it is; btrfs gives its records of what it had there back as well.
        let packed = if kind == "btrfs=zstd" { 6 << 20 } else { 0 };
        let records = if kind == "xfs" { 0 } else { judged / 100 };
        let foretold = judged - records..=judged + packed + records;
        assert!(foretold.contains(&freed), "{kind}: {freed}, and it is {judged}: {document:#}");
        // What one has alone: a part that was changed, the same part before, three files, and two scripts.
        assert!(zig["own"].as_u64().unwrap().abs_diff(7 << 20) <= 8192, "{kind}: {document:#}");
        assert!(document["totals"]["measured"].as_u64().unwrap().abs_diff(20 << 20) <= 8192, "{kind}: {document:#}");
        // The cache has a file of its own; the other one is counted where it is installed.
        assert_eq!(document["caches"][0]["bytes"].as_u64().unwrap() >> 16, (256 << 10) >> 16, "{kind}: {document:#}");
    }
}

#[test]
fn what_space_calls_kept_in_vain_is_among_the_leftovers() {
    let root = lantern().to_str().unwrap();
    let asks = |words: &[&str]| run([&["--root", root, "--format", "json"], words].concat()).document();
    let kinds =
        ["unused-runtime", "unneeded-dependency", "disabled-revision", "old-generation", "unreferenced-store-path"];
    let left = asks(&["leftovers"])["findings"].as_array().unwrap().clone();
    let expected: Vec<Value> = left.into_iter().filter(|one| kinds.contains(&one["kind"].as_str().unwrap())).collect();
    let space = asks(&["space"]);
    assert_eq!(space["unneeded"].as_array().unwrap(), &expected);
    assert!(expected.iter().any(|one| one["kind"] == "old-generation" && one["bytes"].as_u64() > Some(0)));
    assert_eq!(asks(&["space", "chartdesk"])["unneeded"], serde_json::json!([]));
}
