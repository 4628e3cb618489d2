//! Every reader on arbitrary and on mutated bytes: no panic, an end, and answers that still hold together.

#![expect(clippy::disallowed_methods, reason = "builds the trees that are read")]

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::LazyLock;

use proptest::prelude::*;
use proptest::test_runner::RngSeed;
use whodunit_core::backend::Detail;
use whodunit_core::bytes::ByteString;
use whodunit_core::fs::Root;
use whodunit_core::host::{Host, ProcessEnv, UserSelection};
use whodunit_core::managers;
use whodunit_core::managers::language::python::requirement::{Facts, Requirement};
use whodunit_core::resolve::contexts::{Overrides, Shell, resolve_context};
use whodunit_core::resolve::{Context, hints};
use whodunit_core::survey::Survey;
use whodunit_core::version::{conda, debian, gem, gentoo, pacman, pep440, rpm, semver, tokens};
use whodunit_demo::{Scale, WriteError, write, write_laptop, write_workshop};
use whodunit_formats::{bolt, dynamic, loader_cache};
use whodunit_shell::syntax::{Dialect, Parser, fish};

#[path = "support/everything.rs"]
mod everything;
#[path = "../../formats/tests/support/texts.rs"]
mod texts;

/// The same cases in every run; `WHODUNIT_SEED` makes others.
fn seed() -> RngSeed {
    RngSeed::Fixed(std::env::var("WHODUNIT_SEED").map_or(0, |text| text.parse().unwrap()))
}

proptest! {
    #[test]
    fn small_formats(bytes: Vec<u8>, more: Vec<u8>) {
        let lines = 1..=1 + u32::try_from(bytes.iter().filter(|byte| **byte == b'\n').count()).unwrap();
        for dialect in [Dialect::Posix, Dialect::Bash, Dialect::Zsh] {
            let lists: Vec<_> = Parser::new(&bytes, dialect).collect();
            for (index, list) in lists.iter().enumerate() {
                match list {
                    Ok(commands) => prop_assert!(commands.iter().all(|command| lines.contains(&command.line))),
                    Err(error) => {
                        prop_assert!(lines.contains(&error.line), "{error} is outside {lines:?}");
                        prop_assert_eq!(index + 1, lists.len(), "nothing is read after an error");
                    }
                }
            }
        }
        if let Err(error) = fish::parse(&bytes, 1) {
            prop_assert!(lines.contains(&error.line), "{error} is outside {lines:?}");
        }
        // Every reader of texts, also behind what begins such a text.
        let [page, script] = [b".TH ".as_slice(), b"#!"].map(|start| [start, bytes.as_slice()].concat());
        for reader in texts::READERS {
            [&bytes, &page, &script].into_iter().for_each(|file| reader(file));
        }
        prop_assert!(loader_cache::entries(&bytes).is_err(), "nothing without the magic number is a cache");
        prop_assert!(dynamic::read(std::io::Cursor::new(&bytes)).is_none(), "nothing without the magic number is ELF");
        prop_assert!(bolt::each(&bytes, &more, &mut |_, _| ()).is_err(), "nothing this short is a database");
        let facts = Facts { python: "3.11".to_owned(), ..Facts::default() };
        let text = String::from_utf8_lossy(&bytes);
        for text in [text.to_string(), format!("knots ; {text}"), format!("knots {text}")] {
            let _ = Requirement::parse(&text).map(|one| (one.applies(&facts), one.takes(&more)));
        }
        let _ = hints::of_dir(&[b"/", bytes.as_slice()].concat());
        let more_kinds = [gentoo::compare, pacman::compare, rpm::compare];
        let kinds = [debian::compare, pep440::compare, semver::compare, gem::compare, conda::compare, tokens::compare];
        for compare in kinds.into_iter().chain(more_kinds) {
            prop_assert_eq!(compare(&more, &bytes), compare(&bytes, &more).reverse());
        }
        prop_assert!(ByteString::from(bytes.clone()).as_bytes() == bytes);
    }
}

const STATUS: &str = "Package: pegel\nStatus: install ok installed\nArchitecture: amd64\nMulti-Arch: same\n\
    Version: 4.2-1\nDepends: b (>= 1) | c, d:any\nConffiles:\n /etc/pegel 00000000000000000000000000000000 obsolete\n\nPackage: b\nStatus: hold ok installed\nVersion: 1\n\n";

const FILES: [(&str, &str); 54] = [
    ("var/lib/dpkg/status", STATUS),
    ("var/lib/dpkg/info/pegel:amd64.list", "/.\n/usr\n/usr/bin\n/usr/bin/pegel\n"),
    ("var/lib/dpkg/info/pegel:amd64.md5sums", "00000000000000000000000000000000  usr/bin/pegel\n"),
    ("var/lib/dpkg/diversions", "/usr/bin/pegel\n/usr/bin/pegel.real\nb\n"),
    ("var/lib/dpkg/alternatives/gauge", "auto\n/usr/bin/gauge\n\n/usr/bin/pegel\n10\n\n"),
    ("var/lib/apt/extended_states", "Package: pegel\nArchitecture: amd64\nAuto-Installed: 1\n\n"),
    ("etc/passwd", "maren:x:1000:1000::/home/maren:/bin/sh\n"),
    ("etc/login.defs", "ENV_PATH PATH=/usr/bin:/bin\n"),
    ("home/maren/lab/pyvenv.cfg", "home = /usr/bin\nversion = 3.11.2\n"),
    (
        "home/maren/lab/lib/python3.11/site-packages/knots-1.2.dist-info/METADATA",
        "Name: knots\nVersion: 1.2\nRequires-Dist: rope[x] (>=1,!=2.*) ; python_version < '4' and extra == 'y'\n\n",
    ),
    (
        "home/maren/lab/lib/python3.11/site-packages/knots-1.2.dist-info/RECORD",
        "../../../bin/knot,sha256=47DE,0\nk,,\n",
    ),
    ("home/maren/lab/lib/python3.11/site-packages/knots-1.2.dist-info/direct_url.json", "{\"url\":\"file:///x\"}"),
    ("home/maren/lab/bin/knot", "#!/bin/sh\n'''exec' \"/home/maren/lab/bin/python\" \"$0\"\n"),
    (
        "home/maren/.local/share/pipx/venvs/swell/pipx_metadata.json",
        "{\"main_package\":{\"package\":\"swell\",\"apps\":[\"swell\"]},\"injected_packages\":{}}",
    ),
    (
        "home/maren/.local/share/uv/tools/tide/uv-receipt.toml",
        "[tool]\nentrypoints = [{ name = \"t\", install-path = \"/t\" }]\n",
    ),
    ("home/maren/.npmrc", "prefix=${HOME}/.npm-global\n"),
    ("home/maren/.npm-global/lib/node_modules/buoy/package.json", "{\"version\":\"1.0.0\",\"dependencies\":{}}"),
    ("home/maren/.cargo/.crates.toml", "[v1]\n\"shoal 0.9.0 (path+file:///x)\" = [\"shoal\"]\n"),
    ("home/maren/.cargo/.crates2.json", "{\"installs\":{\"shoal 0.9.0 (path+file:///x)\":{\"bins\":[\"shoal\"]}}}"),
    (
        "home/maren/.rustup/settings.toml",
        "default_toolchain = \"stable-a-b-c\"\n[overrides]\n\"/home/maren\" = \"nightly\"\n",
    ),
    (
        "home/maren/.rustup/toolchains/stable-a-b-c/lib/rustlib/multirust-channel-manifest.toml",
        "\n[pkg.rustc]\nversion = \"1.9 (x)\"\n",
    ),
    ("home/maren/.pyenv/versions/3.11.7/bin/python", "x"),
    ("home/maren/.pyenv/version", "3.11 # newest\n"),
    (
        "home/maren/.local/share/gem/ruby/3.1.0/specifications/sedge-1.0.gemspec",
        "# x\n# stub: sedge 1.0 ruby lib\ns.executables = [\"sedge\"]\n",
    ),
    (
        "home/maren/miniconda3/conda-meta/tide-1-0.json",
        "{\"name\":\"tide\",\"version\":\"1\",\"files\":[\"bin/tide\"]}",
    ),
    ("home/maren/miniconda3/conda-meta/history", "# update specs: [\"tide\"]\n"),
    ("home/linuxbrew/.linuxbrew/Cellar/tide/1.0/INSTALL_RECEIPT.json", "{\"installed_on_request\":true,\"time\":1.5}"),
    ("home/maren/.asdf/shims/tern", "# asdf-plugin: tern 1.0\n"),
    ("home/maren/.tool-versions", "tern 1.0 # x\n"),
    ("home/maren/.volta/tools/user/platform.json", "{\"node\":{\"runtime\":\"20.0.0\"}}"),
    ("etc/apt/sources.list", "deb [arch=amd64] http://quay.example stable main\n"),
    ("etc/apt/preferences", "Package: *\nPin: release a=stable\nPin-Priority: 700\n"),
    ("var/lib/apt/lists/quay.example_dists_stable_Release", "Origin: Quay\nDate: Sat, 11 Jul 2026 10:16:37 UTC\n"),
    (
        "var/lib/apt/lists/quay.example_dists_stable_main_binary-amd64_Packages",
        "Package: pegel\nVersion: 5\nArchitecture: amd64\n\n",
    ),
    ("var/lib/pacman/local/tarn-1-1/desc", "%NAME%\ntarn\n\n%VERSION%\n1-1\n\n"),
    ("var/lib/pacman/local/tarn-1-1/files", "%FILES%\nusr/bin/pegel\n"),
    ("etc/pacman.conf", "[options]\nIgnorePkg = t*\n[quay]\nServer = http://quay.example/$repo\n"),
    ("var/lib/pacman/sync/quay.db", "tarn-1-1/desc"),
    ("var/cache/snapd/names", "tarn\npegel\n"),
    ("home/maren/.local/share/flatpak/repo/tmp/cache/summaries/quay", "app/org.harbour.Tarn/x86_64/stable"),
    ("nix/var/nix/profiles/per-user/root/channels/quay/programs.sqlite", "SQLite format 3\0"),
    ("etc/profile", "for p in /etc/profile.d/*.sh; do [ -r \"$p\" ] && . \"$p\"; done; PATH=~/b:${PATH%:*}:$((1+2))\n"),
    ("etc/sudoers", "Defaults secure_path=\"/usr/bin:/bin\", !x\n@includedir /etc/sudoers.d\n"),
    ("etc/crontab", "PATH=/usr/bin\n* * * * * root x\n"),
    ("etc/security/pam_env.conf", "PATH DEFAULT=${HOME}/x OVERRIDE=@{HOME}/y\n"),
    (
        "home/maren/.bashrc",
        "f() { local x=$1; case \":$PATH:\" in *:\"$x\":*) ;; *) PATH=$x:$PATH;; esac; }; f /opt; alias l='ls'\n",
    ),
    ("home/maren/.config/environment.d/x.conf", "PATH=${HOME}/x:$PATH\n"),
    ("etc/ld.so.cache", "glibc-ld.so.cache1.1"),
    ("lib/apk/db/installed", "P:tarn\nV:1-r1\nF:usr/bin\nR:pegel\n\n"),
    ("etc/apk/world", "tarn=1-r1 !x\n"),
    ("var/db/pkg/app/tarn-1-r1/CONTENTS", "obj /usr/bin/pegel 00 1\nsym /a -> b 1\n"),
    ("var/lib/portage/world", ">=app/tarn-1:0::quay\n"),
    (
        "var/lib/eopkg/package/tarn-1-1/metadata.xml",
        "<Package><Name>tarn</Name><Update><Version>1</Version></Update></Package>",
    ),
    ("var/lib/eopkg/package/tarn-1-1/files.xml", "<Files><File><Path>usr/bin/pegel</Path></File></Files>"),
];

/// Exchanges, drops or inserts bytes of a sound file, or cuts it.
fn mutate(content: &[u8], changes: &[(u16, u8, u8)]) -> Vec<u8> {
    let mut bytes = content.to_vec();
    for &(at, byte, kind) in changes {
        let at = usize::from(at) % (bytes.len() + 1);
        match kind % 8 {
            0..3 if at < bytes.len() => bytes[at] = byte,
            3..5 if at < bytes.len() => drop(bytes.remove(at)),
            5 => bytes.truncate(at),
            _ => bytes.insert(at, byte),
        }
    }
    bytes
}

/// A tree of these files, one of them mutated.
fn with_one_mutated(files: &[(&str, &str)], which: usize, changes: &[(u16, u8, u8)]) -> tempfile::TempDir {
    let tree = tempfile::tempdir().unwrap();
    for (index, (path, content)) in files.iter().enumerate() {
        let at = tree.path().join(path);
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        match content.strip_prefix("-> ") {
            Some(target) => std::os::unix::fs::symlink(target, &at).unwrap(),
            None if index == which => fs::write(&at, mutate(content.as_bytes(), changes)).unwrap(),
            None => fs::write(&at, content).unwrap(),
        }
    }
    tree
}

/// A machine of the demo's, as its files.
struct Machine(Vec<(PathBuf, Record)>);

enum Record {
    File(Vec<u8>, fs::Permissions),
    Link(PathBuf),
    Dir,
}

impl Machine {
    fn written_by(write: fn(&Path) -> Result<(), WriteError>) -> Self {
        let tree = tempfile::tempdir().unwrap();
        write(tree.path()).unwrap();
        let (mut records, mut waiting) = (Vec::new(), vec![tree.path().to_owned()]);
        while let Some(dir) = waiting.pop() {
            for entry in fs::read_dir(dir).unwrap() {
                let at = entry.unwrap().path();
                let meta = fs::symlink_metadata(&at).unwrap();
                let record = match meta.file_type() {
                    kind if kind.is_symlink() => Record::Link(fs::read_link(&at).unwrap()),
                    kind if kind.is_dir() => Record::Dir,
                    _ => Record::File(fs::read(&at).unwrap(), meta.permissions()),
                };
                records.push((at.strip_prefix(tree.path()).unwrap().to_owned(), record));
                if meta.is_dir() {
                    waiting.push(at);
                }
            }
        }
        records.sort_by(|(one, _), (two, _)| one.cmp(two));
        Machine(records)
    }

    /// The machine's tree, with one of its files mutated.
    fn with_one_mutated(&self, which: prop::sample::Index, changes: &[(u16, u8, u8)]) -> tempfile::TempDir {
        let tree = tempfile::tempdir().unwrap();
        let files: Vec<&Path> =
            self.0.iter().filter(|(_, one)| matches!(one, Record::File(..))).map(|(path, _)| path.as_path()).collect();
        let mutated = *which.get(&files);
        for (path, record) in &self.0 {
            let at = tree.path().join(path);
            match record {
                Record::Dir => fs::create_dir(at).unwrap(),
                Record::Link(target) => std::os::unix::fs::symlink(target, at).unwrap(),
                Record::File(content, permissions) => {
                    let content = if path == mutated { mutate(content, changes) } else { content.clone() };
                    fs::write(&at, content).unwrap();
                    fs::set_permissions(&at, permissions.clone()).unwrap();
                }
            }
        }
        tree
    }
}

/// Pieces of which start-up files are made.
const PIECES: [&str; 40] = [
    "PATH=$PATH:/opt",
    "export ",
    "if ",
    "[ -d ~ ]",
    "; then\n",
    "else\n",
    "fi\n",
    "for x in ",
    "$PATH ",
    "do ",
    "done\n",
    "case $x in ",
    "*) ",
    ";; ",
    "esac\n",
    "f() { ",
    "}\n",
    "f ",
    "local x=1\n",
    "return\n",
    ". ~/.bashrc\n",
    "eval \"$x\"\n",
    "$(",
    ")",
    "`",
    "'",
    "\"",
    "${x%/*}",
    "${x//a/b}",
    "${#x}",
    "(( x + 1 ))",
    "[[ -n $x ]]",
    " && ",
    " || ",
    " | ",
    "while ",
    "<<E\nE\n",
    "{a,b}",
    "set -a x\n",
    "end\n",
];

proptest! {
    #![proptest_config(ProptestConfig { rng_seed: seed(), ..ProptestConfig::with_cases(300) })]
    #[test]
    fn start_up_files_of_any_pieces(pieces in prop::collection::vec(0..PIECES.len(), 1..40)) {
        let tree = tempfile::tempdir().unwrap();
        let text: String = pieces.iter().map(|piece| PIECES[*piece]).collect();
        fs::create_dir_all(tree.path().join("etc")).unwrap();
        fs::create_dir_all(tree.path().join("home/maren/.config/fish")).unwrap();
        fs::write(tree.path().join("etc/passwd"), "maren:x:1000:1000::/home/maren:/bin/bash\n").unwrap();
        for file in [".profile", ".bashrc", ".zprofile", ".zshrc", ".config/fish/config.fish"] {
            fs::write(tree.path().join("home/maren").join(file), &text).unwrap();
        }
        let host = Host::new(Root::offline(tree.path()).unwrap(), &UserSelection::All, ProcessEnv::default()).unwrap();
        for shell in [Shell::Dash, Shell::Bash, Shell::Zsh, Shell::Fish] {
            let found = resolve_context(&host, Context::Terminal, &host.users[0], &Overrides { shell: Some(shell), ..Overrides::default() });
            prop_assert!(found.list("PATH").0.len() < 1100);
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { max_shrink_iters: 100, rng_seed: seed(), ..ProptestConfig::with_cases(200) })]
    #[test]
    fn a_mutated_installation(
        which in 0..FILES.len(),
        changes in prop::collection::vec(any::<(u16, u8, u8)>(), 1..12),
    ) {
        let tree = with_one_mutated(&FILES, which, &changes);
        fs::create_dir_all(tree.path().join("usr/bin")).unwrap();
        std::os::unix::fs::symlink("/usr/bin/pegel", tree.path().join("usr/bin/gauge")).unwrap();
        fs::write(tree.path().join("usr/bin/pegel"), "x").unwrap();
        let targets = [
            "/usr/bin/pegel",
            "gauge",
            "/usr/bin/pegel.real",
            "package:b",
            "/home/maren/lab/bin/knot",
            "/home/maren/.asdf/shims/tern",
            "/home/maren/.pyenv/shims/python",
        ];
        everything::ask_everything(tree.path(), &targets, &["pegel", "tarn", "knots"]);
    }
}

proptest! {
    #![proptest_config(ProptestConfig { max_shrink_iters: 100, rng_seed: seed(), ..ProptestConfig::with_cases(100) })]
    #[test]
    fn a_mutated_workshop(which: prop::sample::Index, changes in prop::collection::vec(any::<(u16, u8, u8)>(), 1..12)) {
        static JETTY: LazyLock<Machine> = LazyLock::new(|| Machine::written_by(write_workshop));
        let tree = JETTY.with_one_mutated(which, &changes);
        let targets = ["rivetcount", "package:kelpnote", "/home/fenna/.local/bin/gullcount", "/home/fenna/.volta/bin/sounding",
            "/home/fenna/keel/gradlew"];
        everything::ask_everything(tree.path(), &targets, &["slipbook", "kelpnote", "node"]);
    }
}

proptest! {
    #![proptest_config(ProptestConfig { max_shrink_iters: 100, rng_seed: seed(), ..ProptestConfig::with_cases(50) })]
    #[test]
    fn a_mutated_laptop(which: prop::sample::Index, changes in prop::collection::vec(any::<(u16, u8, u8)>(), 1..12)) {
        static GANNET: LazyLock<Machine> = LazyLock::new(|| Machine::written_by(write_laptop));
        let tree = GANNET.with_one_mutated(which, &changes);
        let targets = ["/usr/bin/vi", "tidelamp", "package:ferrysign", "/Applications/Chartcase.app"];
        everything::ask_everything(tree.path(), &targets, &["tidelamp", "ferrysign"]);
    }
}

/// Every manager has a package on one of the demo's machines: none is left out when their records are mutated.
#[test]
fn every_manager_has_a_member_of_the_demo() {
    let mut missing: BTreeSet<&str> = managers::ALL.iter().map(|manager| manager.id().0).collect();
    for write in [|dir: &Path| write(dir, Scale::default()).map(drop), write_workshop, write_laptop] {
        let tree = tempfile::tempdir().unwrap();
        write(tree.path()).unwrap();
        let host = Host::new(Root::offline(tree.path()).unwrap(), &UserSelection::All, ProcessEnv::default()).unwrap();
        let survey = Survey::of(&host);
        for package in survey.packages(Detail::default()) {
            missing.remove(package.manager.0);
        }
    }
    assert_eq!(missing, BTreeSet::new());
}
