//! Whole processes side by side, in turn and in one run: the program against dpkg's own query, and
//! against `cat` of the same files, on this machine and on the demo workstation at three sizes; and
//! the memory that a million claims take. Ratios of medians are what counts; a single time says little.

#![expect(clippy::disallowed_methods, clippy::disallowed_types, reason = "starts the processes that it compares")]

use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use whodunit_core::fs::Root;
use whodunit_core::host::{Host, ProcessEnv, UserSelection};
use whodunit_core::model::NameFilter;
use whodunit_core::survey::Survey;
use whodunit_demo::{Scale, write, write_large_rpm, write_large_store, write_many_environments};

const ROUNDS: usize = 15;
const PROGRAM: &str = env!("CARGO_BIN_EXE_whodunit");
const MEASURE_INDEX: &str = "--measure-index";

/// A benchmark: its name, and what it does where dpkg is here, and where it is not.
type Measured = (&'static str, fn(bool));

/// What is measured, in this order; the command line may choose from them.
const MEASURED: &[Measured] = &[
    ("lists", lists),
    ("memory", |_| memory()),
    ("catalogues", |_| catalogues()),
    ("searches", |_| searches()),
    ("repository", |_| repository_of_rpm()),
    ("store", |_| store()),
    ("bundles", |_| bundles()),
    ("environments", |_| environments()),
    ("rpm", |_| packages_of_rpm()),
    ("contexts", |_| contexts()),
    ("checks", checks),
    ("plans", |_| plans_and_pages()),
];

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    if let Some(at) = arguments.iter().position(|argument| argument == MEASURE_INDEX) {
        return measure_index(Path::new(&arguments[at + 1]));
    }
    if arguments.iter().any(|argument| argument == "--test") {
        return; // Benchmarks are no tests.
    }
    let chosen: Vec<&String> = arguments.iter().filter(|argument| !argument.starts_with('-')).collect();
    if let Some(other) = chosen.iter().find(|one| MEASURED.iter().all(|(name, _)| *name != one.as_str())) {
        let names: Vec<&str> = MEASURED.iter().map(|(name, _)| *name).collect();
        eprintln!("no benchmark is called {other}: {}", names.join(", "));
        std::process::exit(2);
    }
    println!("{:<28} {:>12} {:>12} {:>7}", "", "whodunit", "other", "ratio");
    let judge = Command::new("dpkg").arg("--version").stdout(Stdio::null()).status().is_ok();
    if !judge {
        println!("dpkg is not here: nothing is compared with it");
    }
    for (name, measure) in MEASURED {
        if chosen.is_empty() || chosen.iter().any(|one| one.as_str() == *name) {
            measure(judge);
        }
    }
}

/// One owner and the whole inventory, on this machine and on the demo at three sizes.
fn lists(judge: bool) {
    for (name, tree) in &trees() {
        if tree.join("var/lib/dpkg/status").exists() {
            compare_owner(name, tree, judge);
            compare_inventory(name, tree);
        }
    }
}

/// This machine, and the demo at three sizes.
fn trees() -> Vec<(String, PathBuf)> {
    let demo = [1, 10, 100]
        .map(|factor| (format!("demo x{factor}"), lantern(&format!("lantern-{factor}"), Scale::times(factor))));
    std::iter::once(("this machine".to_owned(), PathBuf::from("/"))).chain(demo).collect()
}

/// What goes with a package and what that frees, against what apt says would go; the page and the bill of materials about
/// this machine, against the answers that they are made of; a completion, against a run that reads nothing.
fn plans_and_pages() {
    let this = Path::new("/");
    let apt = Command::new("apt-get").arg("--version").stdout(Stdio::null()).status().is_ok();
    if apt && Path::new("/var/lib/dpkg/status").exists() {
        let mut theirs = Command::new("apt-get");
        theirs.args(["--simulate", "remove", "git"]);
        side_by_side_in("plan remove git, apt-get -s", 5, &mut whodunit(this, &["plan", "remove", "git"]), &mut theirs);
    }
    let mut check = whodunit(this, &["check", "--level", "note", "-q"]);
    side_by_side_in("report, check", 5, &mut whodunit(this, &["report", "-q"]), &mut check);
    let mut inventory = whodunit(this, &["inventory", "--all", "--format", "json", "-q"]);
    side_by_side_in("export, inventory", 5, &mut whodunit(this, &["export", "cyclonedx", "-q"]), &mut inventory);
    let mut completion = Command::new(PROGRAM);
    completion
        .args(["--", "whodunit", "owner", "gi"])
        .env("WHODUNIT_COMPLETE", "bash")
        .env("_CLAP_COMPLETE_INDEX", "2");
    side_by_side("completion, --version", &mut completion, Command::new(PROGRAM).arg("--version"));
}

/// Every family of findings on this machine and on the demo at three sizes, against reading the lists that are read for
/// it; and every file's digest, against dpkg's own comparison of the same files.
fn checks(judge: bool) {
    for (name, tree) in &trees() {
        if tree.join("var/lib/dpkg/status").exists() {
            let mut cat = cat_lists(tree);
            side_by_side(&format!("{name}: check, cat of lists"), &mut whodunit(tree, &["check", "-q"]), &mut cat);
        }
    }
    if judge && Path::new("/var/lib/dpkg/status").exists() {
        let mut theirs = Command::new("dpkg");
        theirs.arg("--verify");
        let mut ours = whodunit(Path::new("/"), &["verify", "--manager", "dpkg", "-q"]);
        side_by_side_in("verify, dpkg --verify", 3, &mut ours, &mut theirs);
    }
}

/// Start-up files of every context of one user, and what differs across contexts, against a login shell that only
/// starts: a user on this machine, and the demo's.
fn contexts() {
    let demo = lantern("lantern-1", Scale::default());
    for (name, tree, user) in [("this machine", PathBuf::from("/"), "root"), ("demo", demo, "maren")] {
        let mut shell = Command::new("bash");
        shell.args(["-lic", "true"]).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        let mut paths = whodunit(&tree, &["paths", "--context", "all", "--user", user, "-q"]);
        side_by_side(&format!("{name}: paths of all contexts"), &mut paths, &mut shell);
        let mut across = whodunit(&tree, &["shadows", "--across", "--user", user, "-q"]);
        side_by_side(&format!("{name}: shadows --across"), &mut across, &mut shell);
    }
}

/// A database of 3,000 packages with 400,000 files, against rpm's own query.
fn packages_of_rpm() {
    let place = Path::new(env!("CARGO_TARGET_TMPDIR")).join("rpm-3000");
    if !place.join("var/lib/rpm/rpmdb.sqlite").exists() {
        let _ = fs::remove_dir_all(&place);
        write_large_rpm(&place, 3000, 134).expect("the build directory can be written");
    }
    if Command::new("rpm").arg("--version").stdout(Stdio::null()).status().is_err() {
        println!("rpm is not here: nothing is compared with it");
        return;
    }
    let path = "/usr/bin/rope-0001-000";
    let mut theirs = Command::new("rpm");
    theirs.arg("--root").arg(&place).args(["--dbpath", "/var/lib/rpm", "-qf", path]);
    side_by_side("owner, 3000 rpms, rpm -qf", &mut whodunit(&place, &["owner", path]), &mut theirs);
    let mut theirs = Command::new("rpm");
    theirs.arg("--root").arg(&place).args(["--dbpath", "/var/lib/rpm", "-qa"]);
    side_by_side("inventory, 3000 rpms, rpm -qa", &mut whodunit(&place, &["inventory", "--all"]), &mut theirs);
}

/// 300 Python environments of 60 distributions each, against finding and reading the same headers.
fn environments() {
    let place = Path::new(env!("CARGO_TARGET_TMPDIR")).join("environments-300");
    if !place.join("home/maren/work/voyage-299/venv/pyvenv.cfg").exists() {
        let _ = fs::remove_dir_all(&place);
        write_many_environments(&place, 300, 60).expect("the build directory can be written");
    }
    let mut headers = Command::new("find");
    headers.arg(&place).args(["-name", "METADATA", "-exec", "cat", "{}", "+"]);
    side_by_side("300 x 60, find and cat", &mut whodunit(&place, &["inventory", "--all"]), &mut headers);
    let script = "/home/maren/work/voyage-150/venv/bin/rope-20";
    side_by_side("one owner among them", &mut whodunit(&place, &["owner", script]), &mut headers);
}

/// What apt has fetched on this machine, against apt's own answers: one name, and every installed package.
fn catalogues() {
    let packages = Command::new("dpkg-query").args(["-W", "-f", "${db:Status-Status} ${Package}\n"]).output();
    let apt = Command::new("apt-cache").arg("--version").stdout(Stdio::null()).status().is_ok();
    let (Ok(packages), true) = (packages, apt) else {
        println!("apt is not here: nothing is compared with it");
        return;
    };
    let packages = String::from_utf8_lossy(&packages.stdout).into_owned();
    let names: Vec<&str> = packages.lines().filter_map(|line| line.strip_prefix("installed ")).collect();
    let this = Path::new("/");
    let mut theirs = Command::new("apt-cache");
    theirs.args(["policy", "dpkg"]);
    side_by_side("offers of one, apt policy", &mut whodunit(this, &["offers", "dpkg"]), &mut theirs);
    let mut theirs = Command::new("apt-cache");
    theirs.arg("policy").args(&names);
    side_by_side("offers of all, apt policy", &mut whodunit(this, &["offers", "--newer"]), &mut theirs);
}

/// A word looked for in everything that apt has fetched on this machine, against apt's own search, and the most memory.
fn searches() {
    if Command::new("apt-cache").arg("--version").stdout(Stdio::null()).status().is_err() {
        return;
    }
    let this = Path::new("/");
    for words in [&["editor"][..], &["chart", "plot"]] {
        let mut theirs = Command::new("apt-cache");
        theirs.arg("search").args(words);
        let mut ours = whodunit(this, &[&["search"], words].concat());
        side_by_side_in(&format!("search {}, apt-cache", words.join(" ")), 5, &mut ours, &mut theirs);
        println!("peak of {:<20} {:>6} MiB", "search", peak(&mut ours) >> 10);
    }
}

/// What one of 60,000 packages of a repository of rpm brings along, against unpacking the metadata.
fn repository_of_rpm() {
    let place = Path::new(env!("CARGO_TARGET_TMPDIR")).join("rpm-repository");
    let metadata = place.join("var/cache/dnf/quay-0123456789abcdef/repodata/primary.xml.gz");
    if !metadata.exists() {
        let _ = fs::remove_dir_all(&place);
        write_large_rpm(&place, 300, 10).expect("the build directory can be written");
        fs::create_dir_all(metadata.parent().expect("it has one")).expect("it can be made");
        fs::create_dir_all(place.join("etc/yum.repos.d")).expect("it can be made");
        let settings = "[quay]\nname=Quay\nbaseurl=https://quay.example/rpms\ngpgcheck=1\n";
        fs::write(place.join("etc/yum.repos.d/quay.repo"), settings).expect("it can be written");
        fs::write(&metadata, packed(60_000)).expect("it can be written");
    }
    let mut unpacked = Command::new("gzip");
    unpacked.arg("-dc").arg(&metadata);
    let mut ours = whodunit(&place, &["offers", "buoy-59999"]);
    side_by_side_in("offers of 60000 rpms, gzip -dc", 5, &mut ours, &mut unpacked);
    println!("peak of {:<20} {:>6} MiB", "offers", peak(&mut ours) >> 10);
}

/// Metadata of packages, each with twelve things that it provides and eighteen that it requires.
fn packed(packages: usize) -> Vec<u8> {
    let mut out = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    let mut write = |text: String| out.write_all(text.as_bytes()).expect("memory takes it");
    write(format!("<metadata packages=\"{packages}\">"));
    for number in 0..packages {
        let version = format!("epoch=\"0\" ver=\"1.{}\" rel=\"1\"", number % 7);
        write(format!(
            "<package type=\"rpm\"><name>buoy-{number}</name><arch>noarch</arch><version {version}/><summary>made up</summary>\
             <size package=\"1000\" installed=\"2000\"/><format><rpm:license>MIT</rpm:license><rpm:provides>\
             <rpm:entry name=\"buoy-{number}\" flags=\"EQ\" {version}/>"
        ));
        for library in 0..11 {
            write(format!("<rpm:entry name=\"libbuoy{number}-{library}.so.1()(64bit)\"/>"));
        }
        write("</rpm:provides><rpm:requires>".to_owned());
        for need in 1..=18 {
            let of = number / (need + 1);
            write(format!("<rpm:entry name=\"libbuoy{of}-{}.so.1()(64bit)\"/>", need % 11));
        }
        write(format!("</rpm:requires><file>/usr/bin/buoy-{number}</file></format></package>"));
    }
    write("</metadata>".to_owned());
    out.finish().expect("memory takes it")
}

/// A store database of 50,000 paths and a profile of 300 elements, against `cat` of the same bytes.
fn store() {
    let place = Path::new(env!("CARGO_TARGET_TMPDIR")).join("store-50000");
    if !place.join("nix/var/nix/db/schema").exists() {
        let _ = fs::remove_dir_all(&place);
        write_large_store(&place, 50_000, 300).expect("the build directory can be written");
    }
    let mut bytes = Command::new("cat");
    bytes.arg(place.join("nix/var/nix/db/db.sqlite"));
    let mut all = whodunit(&place, &["inventory", "--all", "--format", "json"]);
    side_by_side("store of 50000, all, cat", &mut all, &mut bytes);
    side_by_side("profile of 300, cat", &mut whodunit(&place, &["inventory"]), &mut bytes);
}

/// 2,000 files where bundles are kept, against reading the first bytes of each.
fn bundles() {
    let place = Path::new(env!("CARGO_TARGET_TMPDIR")).join("bundles-2000");
    let dir = place.join("opt/tools");
    if !dir.exists() {
        fs::create_dir_all(&dir).expect("the build directory can be written");
        for number in 0..2000 {
            fs::write(dir.join(format!("file-{number:04}")), vec![b'x'; 20_000]).expect("it can be written");
        }
    }
    let mut heads = Command::new("sh");
    heads.args(["-c", "exec head -qc 64 \"$0\"/*"]).arg(&dir);
    side_by_side("2000 files, head of each", &mut whodunit(&place, &["inventory"]), &mut heads);
}

fn lantern(name: &str, scale: Scale) -> PathBuf {
    let place = Path::new(env!("CARGO_TARGET_TMPDIR")).join(name);
    if !place.join("var/lib/dpkg/status").exists() {
        let _ = fs::remove_dir_all(&place);
        write(&place, scale).expect("the build directory can be written");
    }
    place
}

fn whodunit(tree: &Path, arguments: &[&str]) -> Command {
    let mut command = Command::new(PROGRAM);
    if tree != Path::new("/") {
        command.arg("--root").arg(tree);
    }
    command.args(arguments);
    command
}

fn compare_owner(name: &str, tree: &Path, judge: bool) {
    if !judge {
        return;
    }
    let path = "/usr/bin/dpkg";
    let mut theirs = Command::new("dpkg");
    theirs.arg(format!("--root={}", tree.display())).args(["-S", path]);
    side_by_side(&format!("owner, {name}, dpkg -S"), &mut whodunit(tree, &["owner", path]), &mut theirs);
}

fn compare_inventory(name: &str, tree: &Path) {
    let mut ours = whodunit(tree, &["inventory", "--all", "--format", "json"]);
    side_by_side(&format!("inventory, {name}, cat"), &mut ours, &mut cat_lists(tree));
}

/// Reads what dpkg records of its packages and their files.
fn cat_lists(tree: &Path) -> Command {
    let mut files = Command::new("cat");
    files.args(["var/lib/dpkg/status", "var/lib/apt/extended_states"].map(|file| tree.join(file)));
    let info = fs::read_dir(tree.join("var/lib/dpkg/info")).expect("it was written");
    let lists =
        info.flatten().map(|entry| entry.path()).filter(|path| path.extension().is_some_and(|end| end == "list"));
    files.args(lists);
    files
}

/// Medians of runs in turn.
fn side_by_side(name: &str, ours: &mut Command, theirs: &mut Command) {
    side_by_side_in(name, ROUNDS, ours, theirs);
}

fn side_by_side_in(name: &str, rounds: usize, ours: &mut Command, theirs: &mut Command) {
    let (mut a, mut b) = (Vec::new(), Vec::new());
    for round in 0..=rounds {
        let (x, y) = (time(ours), time(theirs));
        if round > 0 {
            a.push(x);
            b.push(y);
        }
    }
    let (a, b) = (median(a), median(b));
    println!("{name:<28} {a:>12.2?} {b:>12.2?} {:>7.2}", a.as_secs_f64() / b.as_secs_f64());
}

fn time(command: &mut Command) -> Duration {
    let begin = Instant::now();
    let status = command.stdout(Stdio::null()).stderr(Stdio::null()).status().expect("it can be started");
    // Commands that judge end with 1 where they have found something.
    assert!(status.code().is_some_and(|code| code < 2), "{command:?}");
    begin.elapsed()
}

fn median(mut times: Vec<Duration>) -> Duration {
    times.sort_unstable();
    times[times.len() / 2]
}

/// The peak of each process on a record with a million claims.
fn memory() {
    let scale = Scale { factor: 250, data_files: 500, write_files: false };
    let tree = lantern("lantern-million", scale);
    let own = std::env::current_exe().expect("this program has a path");
    let mut index = Command::new(own);
    let output = index.arg(MEASURE_INDEX).arg(&tree).output().expect("it can be started");
    print!("{}", String::from_utf8_lossy(&output.stdout));
    for arguments in [&["owner", "/usr/bin/dpkg"][..], &["inventory", "--all", "--format", "json"], &["unowned"]] {
        println!("peak of {:<20} {:>6} MiB", arguments[0], peak(&mut whodunit(&tree, arguments)) >> 10);
    }
}

fn measure_index(tree: &Path) {
    let root = Root::offline(tree).expect("it was written");
    let host = Host::new(root, &UserSelection::All, ProcessEnv::default()).expect("every user is known");
    let survey = Survey::of(&host);
    let index = survey.index(&NameFilter::All);
    let peak = high_water("self").expect("Linux tells it");
    println!("index of {} claims: peak {} MiB", index.len(), peak >> 10);
}

/// The most memory that a process has held so far, in KiB.
fn high_water(process: &str) -> Option<u64> {
    let status = fs::read_to_string(format!("/proc/{process}/status")).ok()?;
    status.lines().find_map(|line| line.strip_prefix("VmHWM:"))?.trim().strip_suffix(" kB")?.parse().ok()
}

/// The same of another process, asked every millisecond until it ends.
fn peak(command: &mut Command) -> u64 {
    let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("it can be started");
    let mut peak = 0;
    while child.try_wait().expect("it is ours").is_none() {
        peak = high_water(&child.id().to_string()).unwrap_or(0).max(peak);
        std::thread::sleep(Duration::from_millis(1));
    }
    peak
}
