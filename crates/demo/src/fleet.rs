//! The machines of the whole port: snapshots of as many as are wanted, that differ as real ones do.
//!
//! All have a common base; each has a role with software of its own; a few lag behind in upgrades; all have put
//! something there besides. The same numbers give the same machines. The documents are `whodunit-snapshot/1`; they are
//! made here as plain JSON, as another program might make them.

use std::path::Path;

use serde_json::{Value, json};
use sha2::{Digest as _, Sha256};

use crate::WriteError;
use crate::tree::Tree;

/// How large a fleet is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FleetScale {
    /// How many machines.
    pub machines: u32,
    /// How many packages each has, about.
    pub packages: u32,
    /// How many snapshots of each there are, a day apart.
    pub days: u32,
}

/// Titles that the base is made of, combined with what they do.
const THINGS: [&str; 16] = [
    "tide", "buoy", "ferry", "swell", "harbour", "pilot", "shoal", "lantern", "knot", "chart", "signal", "anchor",
    "mooring", "quay", "beacon", "drift",
];
const USES: [&str; 12] =
    ["log", "view", "calc", "table", "board", "watch", "plan", "note", "sync", "index", "clock", "relay"];
/// What machines are for, each with software of its own.
const ROLES: [&str; 5] = ["office", "bridge", "workshop", "survey", "archive"];
const USERS: [&str; 8] = ["maren", "tobin", "isolde", "fenna", "joris", "wanda", "elmar", "runa"];
/// The first day: 2026-11-01T03:00:00Z.
const FIRST_DAY: u32 = 1;

/// Numbers that look like chance and are always the same.
struct Chance(u64);

impl Chance {
    fn of(seed: u64) -> Self {
        Chance(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ 0x5851_f42d_4c95_7f2d)
    }

    /// One of so many; none of none.
    fn below(&mut self, bound: u64) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        (mixed ^ (mixed >> 31)) % bound.max(1)
    }
}

/// The name of the package with this number.
fn name(number: u32) -> String {
    let (thing, rest) = (number % 16, number / 16);
    let (what, rest) = (rest % 12, rest / 12);
    let stem = format!("{}{}", THINGS[thing as usize], USES[what as usize]);
    if rest == 0 { stem } else { format!("{stem}-{rest}") }
}

/// What is asked of one package.
struct Machine {
    number: u32,
    day: u32,
    role: u32,
    user: &'static str,
    /// How many days it is behind in upgrades.
    lag: u32,
}

impl Machine {
    fn of(number: u32, day: u32) -> Self {
        let mut chance = Chance::of(u64::from(number));
        let role = u32::try_from(chance.below(5)).unwrap_or(0);
        // One in eleven is a straggler.
        let lag = match chance.below(11) {
            0 => 20 + u32::try_from(chance.below(60)).unwrap_or(0),
            _ => u32::try_from(chance.below(3)).unwrap_or(0),
        };
        let user = USERS[usize::try_from(chance.below(8)).unwrap_or(0)];
        Machine { number, day, role, user, lag }
    }

    fn host(&self) -> String {
        match self.number {
            0 => "lantern".to_owned(),
            number => format!("{}-{number:03}", ROLES[self.role as usize]),
        }
    }

    /// The packages by number: the base, those of the role, and what somebody added. Some are left out.
    fn packages(&self, size: u32) -> Vec<u32> {
        let base = size * 9 / 10;
        let of_role = size / 10;
        let mut chance = Chance::of(u64::from(self.number) ^ 0xb0a7);
        let mut all: Vec<u32> = (0..base).chain((0..of_role).map(|one| base + self.role * of_role + one)).collect();
        for _ in 0..chance.below(5) {
            let place = usize::try_from(chance.below(all.len() as u64)).unwrap_or(0);
            all.remove(place);
        }
        let extra = base + of_role * 5;
        for _ in 0..chance.below(u64::from(size) / 100 + 8) {
            all.push(extra + u32::try_from(chance.below(u64::from(size))).unwrap_or(0));
        }
        all.sort_unstable();
        all.dedup();
        all
    }

    /// How many upgrades of a package have been made on this machine, and how many there are.
    fn upgrades(&self, package: u32) -> (u32, u32) {
        // One package in six has an upgrade every few days.
        let every = 3 + package % 17;
        let of_day = |day: u32| if package.is_multiple_of(6) { day / every } else { 0 };
        let today = 100 + self.day;
        (of_day(today - self.lag.min(100)), of_day(today))
    }
}

fn version(package: u32, upgrades: u32) -> String {
    format!("{}.{}.{}-{}", 1 + package % 4, package % 13, upgrades, 1 + package % 3)
}

fn package_record(machine: &Machine, package: u32) -> Value {
    let (name, (made, possible)) = (name(package), machine.upgrades(package));
    let version = version(package, made);
    let newest = (possible > made).then(|| json!({ "version": self::version(package, possible), "source": "quay" }));
    json!({
        "id": format!("dpkg/system/{name}"), "manager": "dpkg", "scope": "system", "location": "/var/lib/dpkg",
        "name": name, "version": version, "arch": "amd64", "kind": "package", "channel": null, "revision": null,
        "origin": "quay", "reason": if package.is_multiple_of(5) { "explicit" } else { "dependency" }, "held": false,
        "active": true, "status": "installed", "installed_at": null, "size": 40_000 + u64::from(package) * 512,
        "title": name, "scheme": "debian", "upstream": version.split('-').next(), "newest": newest,
    })
}

/// An application that some users have installed for themselves, ahead of the system's.
fn own_copy(machine: &Machine) -> Option<(Value, Value)> {
    let user = machine.user;
    let id = format!("pipx/user:{user}/tidelog");
    let version = format!("2.{}", machine.number % 5);
    let path = format!("/home/{user}/.local/bin/tidelog");
    (machine.number % 7 == 3).then(|| {
        let package = json!({
            "id": id, "manager": "pipx", "scope": format!("user:{user}"), "name": "tidelog", "version": version,
            "location": format!("/home/{user}/.local/share/pipx/venvs"), "arch": null, "kind": "application",
            "channel": null, "revision": null, "origin": null, "reason": "explicit", "held": false, "active": true,
            "status": "installed", "installed_at": null, "size": null, "title": "tidelog", "scheme": "pep440",
            "upstream": version, "newest": null,
        });
        let contexts = ["terminal", "login"].map(|context| format!("{user} {context}"));
        (package, json!({ "name": "tidelog", "path": path, "owner": id, "contexts": contexts }))
    })
}

fn winners(machine: &Machine, packages: &[u32]) -> Vec<Value> {
    let user = machine.user;
    let all = ["login", "terminal", "script", "desktop", "cron", "service"].map(|context| format!("{user} {context}"));
    let of_package = |package: &u32| {
        let name = name(*package);
        let is_own = name == "tidelog" && own_copy(machine).is_some();
        let contexts = if is_own { &all[2..] } else { &all[..] };
        json!({
            "name": name, "path": format!("/usr/bin/{name}"), "owner": format!("dpkg/system/{name}"),
            "contexts": contexts,
        })
    };
    packages.iter().filter(|package| *package % 2 == 0).map(of_package).collect()
}

fn findings(machine: &Machine, is_own: bool) -> Vec<Value> {
    let mut found = Vec::new();
    let mut tell = |kind: &str, severity: &str, cause: &str, subject: &str, summary: &str| {
        found.push(json!({
            "kind": kind, "severity": severity, "cause": cause, "subject": subject, "summary": summary, "users": [],
        }));
    };
    if is_own {
        tell("shadowed-command", "warning", "several-copies", "tidelog", "pipx's tidelog hides dpkg's in terminals");
        tell("version-split", "note", "several-copies", "tidelog", "tidelog is installed at two versions");
    }
    if machine.lag > 40 {
        tell("stale-catalogue", "warning", "itself", "quay", "the catalogue of quay is older than a month");
    }
    if machine.number % 13 == 5 {
        tell("dangling-link", "error", "missing-target", "/usr/local/bin/pilotbook", "the link leads nowhere");
    }
    found
}

/// The document of a machine on a day.
fn snapshot(machine: &Machine, size: u32) -> Value {
    let numbers = machine.packages(size);
    let mut packages: Vec<Value> = numbers.iter().map(|package| package_record(machine, *package)).collect();
    let mut winners = winners(machine, &numbers);
    let own = own_copy(machine);
    let is_own = own.is_some();
    if let Some((package, winner)) = own {
        packages.push(package);
        winners.push(winner);
    }
    // A script that the whole port has, which one machine has otherwise.
    let script = if machine.number % 97 == 11 { "changed here" } else { "as handed out" };
    let digest = |text: &str| Sha256::digest(text).iter().map(|byte| format!("{byte:02x}")).collect::<String>();
    let is_full = machine.number % 10 != 9;
    json!({
        "schema": "whodunit-snapshot/1", "written_by": env!("CARGO_PKG_VERSION"),
        "taken_at": format!("2026-11-{:02}T03:{:02}:00Z", FIRST_DAY + machine.day, machine.number % 60),
        "host": machine.host(), "machine": digest(&format!("machine {}", machine.number))[..32], "root": "/",
        "system": "breakwater 12", "users_seen": [machine.user], "packages": packages, "winners": winners,
        "search_paths": [], "launchers": [],
        "unowned": [{ "path": "/usr/local/bin/tidecheck", "kind": "script", "content": digest(script) }],
        "sources": [{
            "manager": "dpkg", "scope": "system", "name": "quay", "url": "https://quay.example/breakwater",
            "enabled": true, "signed": "verified",
        }],
        "states": [], "services": [], "users": [], "files": [],
        "findings": is_full.then(|| findings(machine, is_own)), "losses": [],
    })
}

/// Writes the snapshots of a fleet into an empty or new directory: one file for each machine and day.
///
/// # Errors
/// When the directory is not empty, or cannot be written.
pub fn write_fleet(dir: &Path, scale: FleetScale) -> Result<u32, WriteError> {
    let tree = Tree::begin(dir)?;
    let mut count = 0;
    for day in 0..scale.days.clamp(1, 28) {
        for number in 0..scale.machines {
            let machine = Machine::of(number, day);
            let file = format!("{}-{number}/{}.json.zst", machine.host(), FIRST_DAY + day);
            let document = snapshot(&machine, scale.packages).to_string();
            let packed = zstd::encode_all(document.as_bytes(), 3).map_err(|cause| tree.trouble(&file, cause))?;
            tree.dir(&format!("{}-{number}", machine.host()))?;
            tree.file(&file, &packed, 0o600, 1_793_491_200 + i64::from(day) * 86_400)?;
            count += 1;
        }
    }
    Ok(count)
}
