//! rpm, dnf and zypper as judges, on roots that they install made-up packages into.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::Path;
use std::process::Command;

use serde_json::Value;
use tempfile::TempDir;
use whodunit_core::fs::Root;
use whodunit_core::host::{Host, ProcessEnv, UserSelection};
use whodunit_core::model::{Algorithm, Digest};
use whodunit_core::survey::Survey;

use super::support::{as_input, has, is_root_for, output, run, text};

/// A directory with a home of its own, in which rpm keeps its database where distributions keep it.
pub(super) struct Yard(TempDir);

impl Yard {
    pub(super) fn new(tools: &[&str]) -> Option<Self> {
        // Without root, dnf installs nothing, not even into a directory of one's own.
        if (tools.contains(&"dnf") && !is_root_for("dnf")) || !has(tools) {
            return None;
        }
        let yard = Yard(tempfile::tempdir().unwrap());
        fs::create_dir_all(yard.0.path().join("home")).unwrap();
        fs::write(yard.0.path().join("home/.rpmmacros"), "%_dbpath /var/lib/rpm\n").unwrap();
        Some(yard)
    }

    pub(super) fn at(&self, below: &str) -> String {
        self.0.path().join(below).to_str().unwrap().to_owned()
    }

    fn command(&self, program: &str, arguments: &[&str]) -> Command {
        let mut command = Command::new(program);
        command.args(arguments).env("HOME", self.at("home")).env("LC_ALL", "C.UTF-8").current_dir(self.0.path());
        command
    }

    pub(super) fn sh(&self, lines: &str) -> String {
        let output = self.command("sh", &["-ec", lines]).output().unwrap();
        assert!(output.status.success(), "{lines}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap()
    }

    /// Builds a package: lines of the head, commands that fill `$B`, and lines of the list of files.
    pub(super) fn build(&self, name: &str, version: &str, head: &str, fill: &str, files: &str) {
        let spec = format!(
            "Name: {name}\nVersion: {version}\nSummary: made up\nLicense: MIT\nVendor: Quay\n{head}\n%description\nMade up.\n\
             %install\nB=%{{buildroot}}\nmkdir -p $B\n{fill}\n%files\n{files}\n"
        );
        let file = self.at(&format!("{name}-{version}.spec"));
        fs::write(&file, spec).unwrap();
        let defines = ["--define", &format!("_topdir {}", self.at("top")), "--define", "_build_id_links none"];
        output(self.command("rpmbuild", &["-bb", "--quiet", "--target", "noarch"]).args(defines).arg(&file));
    }

    /// Packages with dependencies, an epoch, two versions of one name.
    fn usual(&self) {
        let data = |name: &str| {
            (
                format!("mkdir -p $B/usr/share/{name}; echo $RANDOM > $B/usr/share/{name}/data"),
                format!("/usr/share/{name}"),
            )
        };
        for (name, version, head) in [
            ("anchor", "1.0", "Release: 1"),
            ("buoy", "2.0", "Release: 1.fn1\nRequires: anchor\nEpoch: 3"),
            ("chain", "3.0~rc1", "Release: 2"),
            ("chain", "3.1", "Release: 1"),
        ] {
            let (fill, files) = data(name);
            self.build(name, version, head, &fill, &files);
        }
        self.sh("mkdir repo; cp top/RPMS/noarch/*.rpm repo; createrepo_c -q repo");
    }

    /// Every version that a source has of these packages: name, version, source.
    fn offers(&self, root: &str, names: &[&str]) -> BTreeSet<String> {
        let document = run([&["--root", &self.at(root), "offers", "--format", "json"], names].concat()).document();
        let offers = document["offers"].as_array().unwrap().iter().filter(|offer| !offer["source"].is_null());
        offers
            .map(|offer| {
                let installed = if offer["installed"] == true { " installed" } else { "" };
                format!(
                    "{} {} {}{installed}",
                    text(&offer["name"]),
                    text(&offer["version"]),
                    text(&offer["source"]["name"])
                )
            })
            .collect()
    }

    fn packages(&self, root: &str) -> Vec<Value> {
        let document = run(["--root", &self.at(root), "inventory", "--all", "--format", "json"]).document();
        assert!(document["coverage"].as_array().unwrap().iter().all(|part| part["state"] == "read"), "{document:#}");
        let packages = document["packages"].as_array().unwrap().clone();
        packages.into_iter().filter(|package| package["manager"] == "rpm").collect()
    }
}

#[test]
fn a_database_is_read_as_rpm_reads_it() {
    let Some(yard) = Yard::new(&["rpm", "rpmbuild"]) else { return };
    let fill = "mkdir -p $B/usr/bin $B/etc $B/var/log; printf '#!/bin/sh\\n' > $B/usr/bin/buoy; chmod 755 $B/usr/bin/buoy; \
                ln -s buoy $B/usr/bin/buoylink; echo a > $B/etc/buoy.conf; echo ü > \"$B/etc/bü oy\"; touch $B/var/log/buoy.log";
    let files = "/usr/bin/*\n%config(noreplace) /etc/buoy.conf\n\"/etc/bü oy\"\n%ghost /var/log/buoy.log";
    yard.build("buoy-tools", "1.2^20260101", "Release: 3.fn1\nEpoch: 2", fill, files);
    yard.build("empty", "1", "Release: 1", "", "");
    let kept = |version: &str| format!("mkdir -p $B/usr/lib/chain; echo {version} > $B/usr/lib/chain/{version}");
    yard.build("chain", "3.0~rc1", "Release: 1", &kept("3.0"), "/usr/lib/chain/3.0");
    yard.build("chain", "3.1", "Release: 1", &kept("3.1"), "/usr/lib/chain/3.1");
    // A package whose file takes the place of another's.
    yard.build("rival", "1", "Release: 1", "mkdir -p $B/usr/bin; echo rival > $B/usr/bin/buoy", "/usr/bin/buoy");
    yard.sh("mkdir root; for one in top/RPMS/noarch/*.rpm; do rpm --root $PWD/root --force-debian --nodeps --replacefiles -i $one 2>/dev/null; done");
    let root = yard.at("root");
    let rpm = |arguments: &[&str]| {
        let said = output(yard.command("rpm", &["--root", &root]).args(arguments));
        String::from_utf8(said).unwrap()
    };

    let theirs: BTreeSet<String> =
        rpm(&["-qa", "--qf", "%{NAME}\t%|EPOCH?{%{EPOCH}:}|%{VERSION}-%{RELEASE}\t%{ARCH}\t%{INSTALLTIME}\t%{SIZE}\n"])
            .lines()
            .map(str::to_owned)
            .collect();
    let ours = yard.packages("root");
    let line = |package: &Value| {
        let seconds = package["installed_at"].as_str().unwrap().parse::<jiff::Timestamp>().unwrap().as_second();
        let word = |name: &str| text(&package[name]);
        format!("{}\t{}\t{}\t{seconds}\t{}", word("name"), word("version"), word("arch"), package["size"])
    };
    assert_eq!(ours.iter().map(line).collect::<BTreeSet<_>>(), theirs);
    assert_eq!(theirs.len(), 5);
    let ids: BTreeSet<String> = ours.iter().map(|package| text(&package["id"])).collect();
    assert!(ids.contains("rpm/system/chain-3.1-1.noarch") && ids.contains("rpm/system/buoy-tools"), "{ids:?}");

    // Every path that is listed, and one that is not.
    let listed = rpm(&["-qal"]);
    let mut paths: Vec<&str> = listed.lines().filter(|line| line.starts_with('/')).collect();
    paths.push("/usr/bin/none");
    paths.dedup();
    fs::write(Path::new(&root).join("usr/bin/none"), "").unwrap();
    let document = run([&["--root", &root, "owner", "--format", "json"], &paths[..]].concat()).document();
    // Who keeps it current is told of this package, and of no neighbour.
    let answer = &run(["--root", &root, "owner", "--format", "json", paths[0]]).document()["answers"][0];
    assert!(answer["owner"]["id"].is_string() && answer["upkeep"]["id"] == answer["owner"]["id"], "{answer:#}");
    for (path, answer) in paths.iter().zip(document["answers"].as_array().unwrap()) {
        // A link is its package's too; what it leads to is another question.
        let ours: BTreeSet<String> = match answer["hops"].as_array().unwrap().len() {
            0 | 1 => answer["owners"].as_array().unwrap().iter().map(|owner| text(&owner["name"])).collect(),
            _ => BTreeSet::from([text(&answer["hops"][0]["owner"]).replace("rpm/system/", "")]),
        };
        let said = yard.command("rpm", &["--root", &root, "-qf", "--qf", "%{NAME}\n", path]).output().unwrap();
        let said = String::from_utf8(said.stdout).unwrap();
        let theirs: BTreeSet<String> = said.lines().filter(|line| !line.contains(' ')).map(str::to_owned).collect();
        assert_eq!(ours, theirs, "{path}: {answer:#}");
    }
    // The digests that `rpm -V` compares with.
    let told = rpm(&["-qa", "--qf", "[%{=NAME}\t%{FILENAMES}\t%{FILEDIGESTS}\n]"]);
    let host = Host::new(Root::offline(Path::new(&root)).unwrap(), &UserSelection::All, ProcessEnv::default()).unwrap();
    let survey = Survey::of(&host);
    let mut compared = 0;
    for line in told.lines() {
        let [name, file, digest] = line.split('\t').collect::<Vec<_>>()[..] else { continue };
        let packages = survey.named(name.as_bytes());
        let mut ours = packages.iter().filter_map(|(held, number)| held.file_index()?.digest(*number, file.as_bytes()));
        let expected = (!digest.is_empty()).then(|| Digest::from_hexadecimal(Algorithm::Sha256, digest));
        assert_eq!(ours.next_back(), expected, "{line}");
        compared += usize::from(expected.is_some());
    }
    assert!(compared >= 5, "{told}");
    let mut made: Vec<_> =
        fs::read_dir(yard.at("root/var/lib/rpm")).unwrap().flatten().map(|entry| entry.file_name()).collect();
    made.sort();
    let before = made.clone();
    yard.packages("root");
    let mut after: Vec<_> =
        fs::read_dir(yard.at("root/var/lib/rpm")).unwrap().flatten().map(|entry| entry.file_name()).collect();
    after.sort();
    assert_eq!(before, after, "nothing is written beside the database");
}

/// Writes `NUMBER BLOB` lines into a hash table of Berkeley DB, as rpm kept its packages in before 2020.
const INTO_HASH: &str = r#"
use DB_File; use Fcntl;
my $info = DB_File::HASHINFO->new; $info->{bsize} = $ARGV[1];
tie(my %table, 'DB_File', $ARGV[0], O_RDWR | O_CREAT, 0644, $info) or die $!;
$table{pack('L', 0)} = pack('L', 99);
while (<STDIN>) { my ($number, $blob) = split; $table{pack('L', $number)} = pack('H*', $blob) }
untie %table;
"#;

#[test]
fn a_database_of_an_old_system_is_read_as_the_same_one_of_a_new_system() {
    let Some(yard) = Yard::new(&["rpm", "rpmbuild", "prove"]) else { return };
    let many =
        "mkdir -p $B/usr/share/buoy; for i in $(seq 900); do echo $i > $B/usr/share/buoy/a-rather-long-name-$i; done";
    yard.build("buoy", "2.0", "Release: 1\nEpoch: 3", many, "/usr/share/buoy");
    for name in ["anchor", "chain", "lamp"] {
        yard.build(
            name,
            "1.0",
            "Release: 1",
            &format!("mkdir -p $B/usr/bin; echo {name} > $B/usr/bin/{name}"),
            "/usr/bin/*",
        );
    }
    yard.sh("mkdir root; for one in top/RPMS/noarch/*.rpm; do rpm --root $PWD/root --force-debian --nodeps -i $one 2>/dev/null; done");
    let of_new = yard.packages("root");
    assert_eq!(of_new.len(), 4);
    let database = rusqlite::Connection::open(yard.at("root/var/lib/rpm/rpmdb.sqlite")).unwrap();
    let mut query = database.prepare("SELECT hnum, blob FROM Packages").unwrap();
    let rows = query.query_map([], |row| Ok((row.get::<_, u32>(0)?, row.get::<_, Vec<u8>>(1)?))).unwrap();
    let lines: String =
        rows.map(Result::unwrap).map(|(number, blob)| format!("{number} {}\n", hex::encode(blob))).collect();
    fs::write(yard.at("into-hash.pl"), INTO_HASH).unwrap();
    for page in ["512", "4096"] {
        yard.sh("rm -rf old; cp -r root old; rm old/var/lib/rpm/*");
        let mut command = yard.command("perl", &["into-hash.pl", &yard.at("old/var/lib/rpm/Packages"), page]);
        output(command.stdin(as_input(&lines)));
        let without_places = |mut packages: Vec<Value>| {
            for package in &mut packages {
                package.as_object_mut().unwrap().remove("evidence");
            }
            packages
        };
        assert_eq!(without_places(yard.packages("old")), without_places(of_new.clone()), "pages of {page} bytes");
        let paths = ["/usr/bin/lamp", "/usr/share/buoy/a-rather-long-name-871"];
        let document = run([&["--root", &yard.at("old"), "owner", "--format", "json"], &paths[..]].concat()).document();
        let owners: Vec<String> =
            document["answers"].as_array().unwrap().iter().map(|answer| text(&answer["owner"]["name"])).collect();
        assert_eq!(owners, ["lamp", "buoy"]);
        // What yum noted on such a system.
        for (name, reason) in [("buoy-2.0", "user"), ("lamp-1.0", "dep")] {
            let notes = format!("old/var/lib/yum/yumdb/{}/{}-{name}-1-noarch", &name[..1], "0".repeat(40));
            yard.sh(&format!("mkdir -p {notes}; printf {reason} > {notes}/reason; printf quay > {notes}/from_repo"));
        }
        let noted: Vec<String> = yard
            .packages("old")
            .iter()
            .map(|one| format!("{} {} {}", text(&one["name"]), text(&one["reason"]), text(&one["origin"]["name"])))
            .collect();
        assert_eq!(noted, ["anchor unknown ", "buoy explicit quay", "chain unknown ", "lamp dependency quay"]);
    }
    // Cut off behind its first pages: what is left is told, and that it is not all.
    let file = yard.at("old/var/lib/rpm/Packages");
    let whole = fs::read(&file).unwrap();
    fs::write(&file, &whole[..whole.len() / 2]).unwrap();
    let document = run(["--root", &yard.at("old"), "inventory", "--all", "--format", "json"]).document();
    assert_eq!(text(&document["coverage"][0]["state"]), "partial", "{document:#}");
}

#[test]
fn reasons_and_repositories_are_read_as_dnf_tells_them() {
    let Some(yard) = Yard::new(&["dnf", "rpm", "rpmbuild", "createrepo_c"]) else { return };
    yard.usual();
    let dnf = |arguments: &str| {
        let at = yard.at("root");
        // Of what is installed, dnf shows nothing where repositories are chosen.
        let from = if arguments.contains("--installed") { "--disablerepo=*" } else { "--repo=quay" };
        yard.sh(&format!(
            "mkdir -p root/etc; dnf -q --installroot={at} {from} --nogpgcheck --releasever=1 -y {arguments} 2>/dev/null"
        ))
    };
    yard.sh("mkdir -p root/etc/yum.repos.d; printf '[quay]\\nname=Quay\\nbaseurl=file://%s\\ngpgcheck=0\\n[off]\\nname=Off\\nbaseurl=file:///none\\nenabled=0\\n' $PWD/repo > root/etc/yum.repos.d/quay.repo");
    dnf("install buoy chain-3.0~rc1");
    dnf("mark install anchor");
    dnf("mark remove chain");
    yard.sh("rpm --root $PWD/root --force-debian --nodeps --replacefiles --oldpackage --force -i top/RPMS/noarch/chain-3.1*.rpm 2>/dev/null");
    let theirs: BTreeMap<String, (String, String)> =
        dnf("repoquery --installed --qf '%{name}-%{version}-%{release} %{reason} %{from_repo}'")
            .lines()
            .map(|line| {
                let mut words = line.split(' ').map(str::to_owned);
                let mut next = || words.next().unwrap_or_default();
                (next(), (next(), next()))
            })
            .collect();
    let ours: BTreeMap<String, (String, String)> = yard
        .packages("root")
        .iter()
        .map(|package| {
            let version = text(&package["version"]);
            let version = version.split_once(':').map_or(version.as_str(), |(_, rest)| rest);
            let reason = if package["reason"] == "explicit" { "user" } else { package["reason"].as_str().unwrap() };
            let full = format!("{}-{version}", text(&package["name"]));
            (full, (reason.to_owned(), text(&package["origin"]["name"])))
        })
        .collect();
    assert_eq!(ours, theirs);
    assert_eq!(theirs["anchor-1.0-1"].0, "user");
    let said = dnf("repoquery --available -C --qf '%{name} %{evr} %{repoid}'");
    let mut theirs: BTreeSet<String> = said.lines().map(str::to_owned).collect();
    // dnf leaves out of what is available nothing that is installed, and says so of none.
    for now in ["anchor 1.0-1 quay", "buoy 3:2.0-1.fn1 quay", "chain 3.0~rc1-2 quay", "chain 3.1-1 quay"] {
        assert!(theirs.remove(now), "{now}: {theirs:?}");
        theirs.insert(format!("{now} installed"));
    }
    assert_eq!(yard.offers("root", &["anchor", "buoy", "chain"]), theirs);
    // A stronger repository with an older version: what dnf would upgrade to is its.
    yard.sh("mkdir strong; cp top/RPMS/noarch/buoy*.rpm strong; createrepo_c -q strong");
    yard.build(
        "buoy",
        "2.5",
        "Release: 1\nEpoch: 3\nRequires: anchor",
        "mkdir -p $B/usr/share/buoy; echo 1 > $B/usr/share/buoy/data",
        "/usr/share/buoy",
    );
    yard.build(
        "buoy",
        "2.2",
        "Release: 1\nEpoch: 3\nRequires: anchor",
        "mkdir -p $B/usr/share/buoy; echo 2 > $B/usr/share/buoy/data",
        "/usr/share/buoy",
    );
    yard.sh("cp top/RPMS/noarch/buoy-2.5*.rpm repo; cp top/RPMS/noarch/buoy-2.2*.rpm strong; createrepo_c -q repo; createrepo_c -q strong; \
             printf '[strong]\\nname=Strong\\nbaseurl=file://%s\\npriority=10\\ngpgcheck=0\\n' $PWD/strong > root/etc/yum.repos.d/strong.repo");
    let both = |arguments: &str| {
        let at = yard.at("root");
        yard.sh(&format!("dnf --installroot={at} --nogpgcheck --releasever=1 --disablerepo='*' --enablerepo=quay,strong {arguments} 2>/dev/null"))
    };
    both("makecache --refresh");
    // What its solver would do, though not its list of upgrades, heeds priorities.
    let said = both("--assumeno upgrade || true");
    let rows = said.lines().map(|line| line.split_whitespace().collect::<Vec<_>>());
    let theirs: Vec<String> =
        rows.filter(|row| row.first() == Some(&"buoy")).map(|row| format!("buoy {} {}", row[2], row[3])).collect();
    let document = run(["--root", &yard.at("root"), "offers", "buoy", "--format", "json"]).document();
    let taken = document["offers"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|one| one["candidate"] == true && one["installed"] == false);
    let ours: Vec<String> = taken
        .map(|one| format!("{} {} {}", text(&one["name"]), text(&one["version"]), text(&one["source"]["name"])))
        .collect();
    assert_eq!(ours, theirs, "{said}");
    assert_eq!(ours, ["buoy 3:2.2-1 strong"]);
    let notes = run(["--root", &yard.at("root"), "inventory", "--origin", "quay", "--format", "json"]).document();
    assert!(text(&notes["notes"][0]).contains("without a signature"), "{notes:#}");
    let lost =
        run(["--root", &yard.at("root"), "inventory", "--all", "--origin", "none", "--format", "json"]).document();
    assert_eq!(
        (text(&lost["findings"][0]["kind"]), text(&lost["findings"][0]["packages"][0])),
        ("no-origin".to_owned(), "rpm/system/chain-3.1-1.noarch".to_owned()),
        "{lost:#}"
    );
}

#[test]
fn reasons_and_repositories_are_read_as_zypper_tells_them() {
    let Some(yard) = Yard::new(&["zypper", "rpm", "rpmbuild", "createrepo_c"]) else { return };
    yard.usual();
    let zypper = |arguments: &str| {
        yard.sh(&format!(
            "mkdir -p root; zypper --root $PWD/root --non-interactive --no-gpg-checks {arguments} 2>/dev/null"
        ))
    };
    zypper("ar --no-gpgcheck dir://$PWD/repo quay");
    zypper("in -y buoy chain=3.0~rc1");
    // With a lock on it, zypper's list no longer says whether a package was asked for.
    let listed = zypper("packages --installed-only");
    zypper("addlock chain");
    let rows = listed
        .lines()
        .filter(|line| line.starts_with('i'))
        .map(|line| line.split('|').map(str::trim).collect::<Vec<_>>());
    let theirs: BTreeMap<String, (String, String, String)> = rows
        .map(|row| {
            let reason = if row[0] == "i+" { "explicit" } else { "dependency" };
            (row[2].to_owned(), (row[3].to_owned(), reason.to_owned(), row[1].to_owned()))
        })
        .collect();
    let packages = yard.packages("root");
    let ours: BTreeMap<String, (String, String, String)> = packages
        .iter()
        .map(|one| (text(&one["name"]), (text(&one["version"]), text(&one["reason"]), text(&one["origin"]["name"]))))
        .collect();
    assert_eq!(ours, theirs);
    let held: Vec<String> = packages.iter().filter(|one| one["held"] == true).map(|one| text(&one["name"])).collect();
    assert_eq!(held, ["chain"]);
    let listed = zypper("search -s --type package");
    let rows = listed
        .lines()
        .skip_while(|line| !line.starts_with("--"))
        .skip(1)
        .map(|line| line.split('|').map(str::trim).collect::<Vec<_>>());
    let theirs: BTreeSet<String> = rows
        .map(|row| {
            format!("{} {} {}{}", row[1], row[3], row[5], if row[0].starts_with('i') { " installed" } else { "" })
        })
        .collect();
    assert_eq!(yard.offers("root", &["anchor", "buoy", "chain"]), theirs);
    let answer = run(["--root", &yard.at("root"), "offers", "--newer", "--format", "json"]).document();
    assert_eq!(text(&answer["findings"][0]["kind"]), "held-back", "{answer:#}");
    assert_eq!(answer["offers"].as_array().unwrap().len(), 2);
}

/// What `rpm -V` marks of each file: letters by the product's words.
fn marks(words: &BTreeSet<String>) -> BTreeSet<char> {
    let letter = |word: &String| match word.as_str() {
        "size" => 'S',
        "digest" => '5',
        "mode" | "kind" => 'M',
        "owner" => 'U',
        "group" => 'G',
        "modified" => 'T',
        "target" => 'L',
        _ => '!',
    };
    words.iter().map(letter).collect()
}

#[test]
fn altered_files_are_those_that_rpm_marks() {
    // Only root gives files away.
    if !is_root_for("rpm") {
        return;
    }
    let Some(yard) = Yard::new(&["rpm", "rpmbuild"]) else { return };
    let fill = "mkdir -p $B/usr/bin $B/etc $B/usr/share/doc/buoy $B/var/log $B/usr/share/buoy/empty; \
                for one in a b c d e f g h; do echo $one > $B/usr/bin/$one; done; ln -s a $B/usr/bin/l; ln -s a $B/usr/bin/m; \
                echo 1 > $B/etc/one.conf; echo 2 > $B/etc/two.conf; echo d > $B/usr/share/doc/buoy/README; touch $B/var/log/buoy.log";
    let files = "/usr/bin/*\n%config(noreplace) /etc/one.conf\n%config(missingok) /etc/two.conf\n%doc /usr/share/doc/buoy/README\n\
                 %ghost /var/log/buoy.log\n%verify(not size md5 mtime) /usr/share/buoy";
    yard.build("buoy", "1", "Release: 1", fill, files);
    yard.sh("mkdir root; rpm --root $PWD/root --force-debian --nodeps --excludedocs -i top/RPMS/noarch/*.rpm 2>/dev/null; mkdir -p root/etc; cp /etc/passwd /etc/group root/etc/");
    yard.sh("cd root; echo x >> usr/bin/a; chmod 700 usr/bin/b; touch -d 2020-01-01 usr/bin/c; rm usr/bin/d; rm usr/bin/e; mkdir usr/bin/e; \
             ln -sf b usr/bin/l; rm usr/bin/m; rm usr/bin/f; ln -s a usr/bin/f; echo y >> etc/one.conf; rm etc/two.conf; printf 'q\\n' > usr/bin/g; \
             chown 12345:12345 usr/bin/h; rmdir usr/share/buoy/empty");
    let root = yard.at("root");
    let said = yard.command("rpm", &["--root", &root, "-Va", "--nodeps"]).output().unwrap();
    let said = String::from_utf8(said.stdout).unwrap();
    let theirs: BTreeMap<String, BTreeSet<char>> = said
        .lines()
        .map(|line| {
            let file = line[line.find('/').unwrap()..].split(" (").next().unwrap().to_owned();
            let marks = match line.starts_with("missing") {
                true => BTreeSet::from(['!']),
                // Capabilities are not compared.
                false => line[..9].chars().filter(|mark| !matches!(mark, '.' | 'P' | '?')).collect(),
            };
            (file, marks)
        })
        .collect();
    let document = run(["--root", &root, "verify", "--format", "json"]).document();
    let mut ours: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for finding in document["findings"].as_array().unwrap() {
        assert!(finding["packages"][0] == "rpm/system/buoy", "{finding:#}");
        for one in finding["evidence"].as_array().unwrap() {
            // In a file's place, rpm calls a link one with another target.
            let is_link = one["at"] == "kind" && text(&one["says"]).ends_with("is a link");
            let word = if is_link { "target".to_owned() } else { text(&one["at"]) };
            ours.entry(text(&one["file"])).or_default().insert(word);
        }
    }
    let ours: BTreeMap<String, BTreeSet<char>> =
        ours.iter().map(|(file, words)| (file.clone(), marks(words))).collect();
    assert_eq!(ours, theirs, "{said}");
    assert!(theirs.len() >= 10, "{said}");
}

#[test]
fn what_needs_a_package_is_what_rpm_will_not_remove() {
    let Some(yard) = Yard::new(&["rpm", "rpmbuild"]) else { return };
    for (name, head) in [
        ("anchor", "Release: 1\nProvides: holdfast = 2"),
        ("buoy", "Release: 1\nRequires: anchor"),
        ("chain", "Release: 1\nRequires: holdfast >= 1"),
        ("lamp", "Release: 1\nRequires: (anchor if chain)"),
        ("rope", "Release: 1\nRequires: holdfast > 9"),
    ] {
        yard.build(name, "1", head, "", "");
    }
    yard.sh("mkdir root; rpm --root $PWD/root --force-debian --nodeps -i top/RPMS/noarch/*.rpm 2>/dev/null");
    let root = yard.at("root");
    let said = yard.command("rpm", &["--root", &root, "-e", "--test", "anchor"]).output().unwrap();
    let said = String::from_utf8(said.stderr).unwrap();
    let theirs: BTreeSet<&str> = said.lines().filter_map(|line| line.split(" needed by (installed) ").nth(1)).collect();
    let document = run(["--root", &root, "impact", "anchor", "--format", "json"]).document();
    let broken = document["broken"].as_array().unwrap();
    let named = |one: &Value| format!("{}-{}.noarch", text(&one["owner"]["name"]), text(&one["owner"]["version"]));
    let ours: Vec<String> = broken.iter().filter(|one| one["how"] == "dependency").map(named).collect();
    // rpm judges conditions as well; they are taken to be met here.
    let theirs: BTreeSet<&str> = theirs.into_iter().filter(|name| !name.starts_with("lamp")).collect();
    assert_eq!(ours.iter().map(String::as_str).collect::<BTreeSet<_>>(), theirs, "{said}");
    assert_eq!(theirs.len(), 2, "{said}");
}
