//! The machine itself, and those of its records that are databases or programs.

use std::io::Write as _;

use flate2::Compression;
use flate2::write::GzEncoder;
use rusqlite::Connection;
use sha2::{Digest as _, Sha256};

use crate::WriteError;
use crate::archive::archive;
use crate::nix;
use crate::rpm::{self, Package};
use crate::tree::{PROGRAM, Tree};

/// The day on which it was set up: 2026-02-12, 09:00 UTC.
pub const SET_UP: i64 = 1_770_886_800;

const OS_RELEASE: &str = "\
PRETTY_NAME=\"Groyne 4\"
NAME=\"Groyne\"
VERSION_ID=\"4\"
ID=groyne
ID_LIKE=fedora
";

const PASSWD: &str = "\
root:x:0:0:root:/root:/bin/bash
fenna:x:1000:1000:Fenna,boat builder,,:/home/fenna:/bin/bash
nobody:x:65534:65534:nobody:/nonexistent:/usr/sbin/nologin
";

const GROUP: &str = "\
root:x:0:
fenna:x:1000:
nogroup:x:65534:
";

const LOGIN_DEFS: &str = "\
ENV_SUPATH\tPATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin
ENV_PATH\tPATH=/usr/local/bin:/usr/bin
";

/// What pacman compares its files with.
const OAKUMLIST: &str = "\
#mtree
/set type=file uid=0 gid=0 mode=755
./usr type=dir
./usr/bin type=dir
./usr/bin/oakumlist size=10 sha256digest=";

const PROFILE: &str = "\
# What the managers' own set-up adds.
PATH=\"$PATH:$HOME/.local/bin:$HOME/.deno/bin:$HOME/.bun/bin:$HOME/.yarn/bin:$HOME/.local/share/pnpm\"
PATH=\"$PATH:$HOME/.cabal/bin:$HOME/.pub-cache/bin:$HOME/.dotnet/tools:$HOME/.mix/escripts:$HOME/.krew/bin\"
PATH=\"$PATH:$HOME/.config/composer/vendor/bin:$HOME/.local/share/coursier/bin:$HOME/.opam/harbour/bin\"
PATH=\"$PATH:$HOME/.guix-profile/bin:$HOME/.volta/bin:$HOME/.ghcup/bin:$HOME/.asdf/shims\"
PATH=\"$PATH:$HOME/.local/share/gem/ruby/3.1.0/bin:/usr/local/texlive/2026/bin/x86_64-linux:$HOME/go/bin\"
PATH=\"$PATH:$HOME/.local/share/nvim/mason/bin:$HOME/.local/share/JetBrains/Toolbox/scripts\"
export PATH
";

/// The distribution's packages: name, version, programs.
const PACKAGES: [(&str, &str, &[&str]); 9] = [
    ("groyne-base", "4", &["sh", "bash", "env"]),
    ("erlang", "25.2", &["escript"]),
    ("lua", "5.4.4", &["lua"]),
    ("nodejs", "18.13.0", &["node"]),
    ("perl", "5.36.0", &["perl"]),
    ("php", "8.2.7", &["php"]),
    ("python3", "3.11.2", &["python3"]),
    ("ruby", "3.1.2", &["ruby"]),
    ("slipbook", "2.4", &["slipbook"]),
];

/// The paths of Guix's store, each with what it needs.
const STORE: [(&str, &[&str]); 2] = [
    ("/gnu/store/0m9fffkf9s19ak8zgzgi2z852z6wpzva-eddyplot-3.1", &[]),
    (
        "/gnu/store/4m9fffkf9s19ak8zgzgi2z852z6wpzva-profile",
        &["/gnu/store/0m9fffkf9s19ak8zgzgi2z852z6wpzva-eddyplot-3.1"],
    ),
];

const GAMES: &str = "
CREATE TABLE games (
    id INTEGER PRIMARY KEY, name TEXT, slug TEXT, runner TEXT, directory TEXT, installed INTEGER, installed_at INTEGER
);
INSERT INTO games VALUES
    (1, 'Lightkeeper', 'lightkeeper', 'linux', '/home/fenna/Games/lightkeeper', 1, 1770886800);
";

const FIRMWARE: &str = "
CREATE TABLE history (
    device_id TEXT, update_state INTEGER DEFAULT 0, update_error TEXT, display_name TEXT, plugin TEXT,
    device_modified INTEGER DEFAULT 0, version_old TEXT, version_new TEXT
);
INSERT INTO history VALUES ('a0', 2, NULL, 'Slipway Winch', 'winch', 1770886800, '1.0', '1.2');
";

const FERRYDECK: &str = r#"{"repositories":["central"],"dependencies":["org.harbour::ferrydeck:latest.release"]}"#;
const FERRYDECK_LOCK: &str =
    "https://quay.example/maven2/org/harbour/ferrydeck_3/2.4.1/ferrydeck_3-2.4.1.jar#SHA-1:00\n";

/// The SHA-256 of a content, as hexadecimal digits.
fn sha256(content: &[u8]) -> String {
    Sha256::digest(content).iter().map(|byte| format!("{byte:02x}")).collect()
}

/// Writes what no manager brings.
pub fn write(tree: &Tree) -> Result<(), WriteError> {
    for dir in ["usr/sbin", "usr/lib", "usr/local/sbin", "tmp", "root"] {
        tree.dir(dir)?;
    }
    for (path, content) in [
        ("etc/os-release", OS_RELEASE),
        ("etc/hostname", "jetty\n"),
        ("etc/passwd", PASSWD),
        ("etc/group", GROUP),
        ("etc/login.defs", LOGIN_DEFS),
        ("home/fenna/.profile", PROFILE),
    ] {
        tree.file(path, content.as_bytes(), 0o644, SET_UP)?;
    }
    for link in ["bin", "sbin"] {
        tree.link(link, &format!("usr/{link}"))?;
    }
    Ok(())
}

/// Writes the records that are databases or packed.
pub fn databases(tree: &Tree) -> Result<(), WriteError> {
    rpm::write(
        tree,
        PACKAGES.map(|(name, version, programs)| Package {
            name: name.to_owned(),
            version: version.to_owned(),
            release: "1.gr4",
            dirs: vec!["/usr/bin/".to_owned()],
            files: programs.iter().map(|program| (0, (*program).to_owned())).collect(),
            digest: sha256(PROGRAM.as_bytes()),
        }),
    )?;
    for program in PACKAGES.iter().flat_map(|(_, _, programs)| *programs) {
        tree.file(&format!("usr/bin/{program}"), PROGRAM.as_bytes(), 0o755, SET_UP)?;
    }
    nix::database(
        tree,
        "var/guix/db/db.sqlite",
        &STORE.map(|(path, needs)| (path.to_owned(), SET_UP, needs.iter().map(|need| (*need).to_owned()).collect())),
    )?;
    let mut packed = GzEncoder::new(Vec::new(), Compression::default());
    let list = "var/lib/pacman/local/oakumlist-1.8-2/mtree";
    let written = writeln!(packed, "{OAKUMLIST}{}", sha256(PROGRAM.as_bytes())).and_then(|()| packed.finish());
    tree.file(list, &written.map_err(|error| tree.trouble(list, error))?, 0o644, SET_UP)?;
    for (path, script) in [("home/fenna/.local/share/lutris/pga.db", GAMES), ("var/lib/fwupd/pending.db", FIRMWARE)] {
        tree.dir(path.rsplit_once('/').map_or("", |(dir, _)| dir))?;
        let database = Connection::open(tree.place(path));
        database.and_then(|made| made.execute_batch(script)).map_err(|error| tree.trouble(path, error))?;
    }
    Ok(())
}

/// Writes the programs that are records themselves.
pub fn programs(tree: &Tree) -> Result<(), WriteError> {
    let anchorcount = crate::binary::of_module("quay.example/harbour/anchorcount", "v1.5.0");
    tree.file("home/fenna/go/bin/anchorcount", &anchorcount, 0o755, SET_UP)?;
    let launcher = "home/fenna/.local/share/coursier/bin/ferrydeck";
    let told = archive(&[("META-INF/coursier/info.json", FERRYDECK), ("META-INF/coursier/lock-file", FERRYDECK_LOCK)]);
    let told = told.map_err(|error| tree.trouble(launcher, error))?;
    let start = b"#!/usr/bin/env sh\nexec java -jar \"$0\" \"$@\"\n";
    tree.file(launcher, &[&start[..], &told].concat(), 0o755, SET_UP)
}
