//! The store-based manager's part: a store, its database, and a profile of maren's with generations.
//!
//! `tidegauge` is there at another version than the distribution's; `semaphore` has a launcher in a directory
//! that no session searches. The third generation was tried and rolled back.

use rusqlite::{Connection, params};

use crate::WriteError;
use crate::machine::SET_UP;
use crate::tree::Tree;

const DAY: i64 = 86_400;
/// All files in a store bear this date.
const EPOCH: i64 = 1;
const PROFILES: &str = "/nix/var/nix/profiles/per-user/maren";

const SCHEMA: &str = "
CREATE TABLE ValidPaths (
    id integer primary key autoincrement not null, path text unique not null, hash text not null,
    registrationTime integer not null, deriver text, narSize integer, ultimate integer, sigs text, ca text
);
CREATE TABLE Refs (
    referrer integer not null, reference integer not null, primary key (referrer, reference),
    foreign key (referrer) references ValidPaths(id) on delete cascade,
    foreign key (reference) references ValidPaths(id) on delete restrict
);
CREATE INDEX IndexReferrer on Refs(referrer);
CREATE INDEX IndexReference on Refs(reference);
CREATE TABLE DerivationOutputs (
    drv integer not null, id text not null, path text not null, primary key (drv, id),
    foreign key (drv) references ValidPaths(id) on delete cascade
);
CREATE INDEX IndexDerivationOutputs on DerivationOutputs(path);
";

const DATABASE: &str = "nix/var/nix/db/db.sqlite";

/// A piece of software in the store.
struct Software {
    hash: &'static str,
    name: &'static str,
    version: &'static str,
    date: i64,
    needs: &'static [usize],
    launcher: bool,
}

/// The first is what the others need; no profile has it.
const SOFTWARE: [Software; 4] = [
    Software {
        hash: "2k1c9hr3v7jd5m0wzq8xn4ba6ygfspil",
        name: "libtide",
        version: "4.0.1",
        date: SET_UP + 29 * DAY,
        needs: &[],
        launcher: false,
    },
    Software {
        hash: "7a3bdv9pkx2m5wq8rj0yhz4c6nglsfi1",
        name: "tidegauge",
        version: "4.0.1",
        date: SET_UP + 30 * DAY,
        needs: &[0],
        launcher: false,
    },
    Software {
        hash: "9w4zc0mhx6vq1rk8sj3pyb5d7nfglia2",
        name: "semaphore",
        version: "1.1",
        date: SET_UP + 32 * DAY,
        needs: &[],
        launcher: true,
    },
    Software {
        hash: "c5x8rq2b0nv7zk4mj1hwyp9d6sfgli3a",
        name: "semaphore",
        version: "1.2-rc1",
        date: SET_UP + 34 * DAY,
        needs: &[],
        launcher: true,
    },
];

/// Generations: hash of the environment, hash of its manifest, date, and what it holds.
const GENERATIONS: [(&str, &str, i64, &[usize]); 3] = [
    ("0d7k4pxh2mz9vq6cw1rj8ynb3s5fgila", "1f8mq5yj3na0wr7dx2sk9zpc4v6hgilb", SET_UP + 30 * DAY, &[1]),
    ("3h0ps7qm6rd2zv9fy4xl1nbw5k8jgiac", "4j1qy8rn7vf3as0gz5dm2xcp6l9khibs", SET_UP + 32 * DAY, &[1, 2]),
    ("5k2rz9sp8wg4bx1ha6fn3ydq7m0ljica", "6l3sa0vq9xh5cy2jb7gp4zfr8n1mkids", SET_UP + 34 * DAY, &[1, 3]),
];
const CURRENT: usize = 1;

impl Software {
    fn path(&self) -> String {
        format!("/nix/store/{}-{}-{}", self.hash, self.name, self.version)
    }

    fn write(&self, tree: &Tree) -> Result<(), WriteError> {
        let path = self.path();
        if self.name.starts_with("lib") {
            return tree.file(
                &format!("{path}/lib/{}.so.2", self.name),
                &crate::binary::silent(self.name),
                0o444,
                EPOCH,
            );
        }
        let program = crate::binary::packaged(self.name, self.version);
        tree.file(&format!("{path}/bin/{}", self.name), &program, 0o555, EPOCH)?;
        if self.launcher {
            let entry = format!(
                "[Desktop Entry]\nType=Application\nName=Semaphore\nExec={0}\nTryExec={0}\nCategories=Network;\n",
                self.name
            );
            tree.file(&format!("{path}/share/applications/{}.desktop", self.name), entry.as_bytes(), 0o444, EPOCH)?;
        }
        Ok(())
    }

    fn manifest_entry(&self) -> String {
        let path = self.path();
        format!(
            "{{ meta = {{ }}; name = \"{}-{}\"; out = {{ outPath = \"{path}\"; }}; outPath = \"{path}\"; outputs = [ \"out\" ]; system = \"x86_64-linux\"; type = \"derivation\"; }} ",
            self.name, self.version
        )
    }
}

/// Writes the store, its database and the profile.
pub fn write(tree: &Tree) -> Result<(), WriteError> {
    for software in &SOFTWARE {
        software.write(tree)?;
    }
    let mut rows: Vec<(String, i64, Vec<String>)> = SOFTWARE
        .iter()
        .map(|software| {
            (software.path(), software.date, software.needs.iter().map(|&need| SOFTWARE[need].path()).collect())
        })
        .collect();
    for (number, (hash, manifest_hash, date, held)) in (1..).zip(GENERATIONS) {
        let environment = format!("/nix/store/{hash}-user-environment");
        let manifest = format!("/nix/store/{manifest_hash}-env-manifest.nix");
        let entries: String = held.iter().map(|&index| SOFTWARE[index].manifest_entry()).collect();
        tree.file(&manifest, format!("[ {entries}]").as_bytes(), 0o444, EPOCH)?;
        tree.link(&format!("{environment}/manifest.nix"), &manifest)?;
        environment_of(tree, &environment, held)?;
        let mut needs: Vec<String> = held.iter().map(|&index| SOFTWARE[index].path()).collect();
        rows.push((manifest.clone(), date, needs.clone()));
        needs.push(manifest);
        rows.push((environment.clone(), date, needs));
        tree.dated_link(&format!("{PROFILES}/profile-{number}-link"), &environment, date)?;
    }
    tree.dated_link(&format!("{PROFILES}/profile"), &format!("profile-{}-link", CURRENT + 1), SET_UP + 35 * DAY)?;
    tree.link("home/maren/.nix-profile", &format!("{PROFILES}/profile"))?;
    tree.link("nix/var/nix/gcroots/profiles", "/nix/var/nix/profiles")?;
    tree.dir("nix/var/nix/gcroots/auto")?;
    tree.file("nix/var/nix/db/schema", b"10", 0o644, SET_UP)?;
    database(tree, DATABASE, &rows)
}

/// With one package, `bin` and `share` are links into it; with more, directories of links.
fn environment_of(tree: &Tree, environment: &str, held: &[usize]) -> Result<(), WriteError> {
    if let [only] = held {
        return tree.link(&format!("{environment}/bin"), &format!("{}/bin", SOFTWARE[*only].path()));
    }
    for software in held.iter().map(|&index| &SOFTWARE[index]) {
        let path = software.path();
        tree.link(&format!("{environment}/bin/{}", software.name), &format!("{path}/bin/{}", software.name))?;
        if software.launcher {
            tree.link(&format!("{environment}/share"), &format!("{path}/share"))?;
        }
    }
    Ok(())
}

/// A database of the paths of a store: each with its date, and what it needs.
pub fn database(tree: &Tree, file: &str, rows: &[(String, i64, Vec<String>)]) -> Result<(), WriteError> {
    let trouble = |error: rusqlite::Error| tree.trouble(file, error);
    tree.dir(file.rsplit_once('/').map_or("", |(dir, _)| dir))?;
    let mut connection = Connection::open(tree.place(file)).map_err(trouble)?;
    connection.execute_batch(SCHEMA).map_err(trouble)?;
    let transaction = connection.transaction().map_err(trouble)?;
    for (index, (path, date, _)) in (1_i64..).zip(rows) {
        let hash = format!("sha256:{index:064x}");
        transaction
            .execute(
                "INSERT INTO ValidPaths (id, path, hash, registrationTime, narSize) VALUES (?, ?, ?, ?, ?)",
                params![index, path, hash, date, 1000 + 8 * index],
            )
            .map_err(trouble)?;
    }
    for (index, (_, _, needs)) in (1_i64..).zip(rows) {
        for need in needs {
            transaction
                .execute("INSERT OR IGNORE INTO Refs SELECT ?, id FROM ValidPaths WHERE path = ?", params![index, need])
                .map_err(trouble)?;
        }
    }
    transaction.commit().map_err(trouble)
}

/// A database of many paths, each needing a few of those before it, and a profile of some.
pub fn write_large(tree: &Tree, paths: u32, elements: u32) -> Result<(), WriteError> {
    let name = |number: u32| format!("/nix/store/{:0>32}-sounding{number}-1.{}", format!("{number}"), number % 90);
    let mut rows: Vec<(String, i64, Vec<String>)> = (1..=paths)
        .map(|number| {
            (
                name(number),
                SET_UP + i64::from(number),
                [2, 3, 7].iter().map(|part| name(number.div_ceil(*part))).collect(),
            )
        })
        .collect();
    let (environment, manifest) = (
        format!("/nix/store/{}-user-environment", GENERATIONS[0].0),
        format!("/nix/store/{}-env-manifest.nix", GENERATIONS[0].1),
    );
    let entries: String = (1..=elements)
        .map(|number| {
            let path = name(number * (paths / elements));
            format!("{{ meta = {{ }}; name = \"sounding{number}-1.{number}\"; outPath = \"{path}\"; type = \"derivation\"; }} ")
        })
        .collect();
    tree.file(&manifest, format!("[ {entries}]").as_bytes(), 0o444, EPOCH)?;
    tree.link(&format!("{environment}/manifest.nix"), &manifest)?;
    let held = (1..=elements).map(|number| name(number * (paths / elements)));
    rows.push((environment.clone(), SET_UP, held.collect()));
    tree.link(&format!("{PROFILES}/profile-1-link"), &environment)?;
    tree.link(&format!("{PROFILES}/profile"), "profile-1-link")?;
    tree.file("nix/var/nix/db/schema", b"10", 0o644, SET_UP)?;
    database(tree, DATABASE, &rows)
}
