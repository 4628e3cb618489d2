//! What other managers keep in maren's home: a crate, a global package of npm's in a prefix of its own, a
//! toolchain at three versions; and the prefix manager with a home of its own.

use crate::WriteError;
use crate::binary;
use crate::machine::SET_UP;
use crate::tree::Tree;

const DAY: i64 = 86_400;
const MAREN: &str = "/home/maren";
const BREW: &str = "/home/linuxbrew/.linuxbrew";

/// Writes all of it.
pub fn write(tree: &Tree) -> Result<(), WriteError> {
    shoal(tree)?;
    buoytrack(tree)?;
    almanac(tree)?;
    tidegauge(tree)
}

/// Healthy parts: a toolchain in three versions, and a global package whose interpreter exists.
pub fn write_healthy(tree: &Tree) -> Result<(), WriteError> {
    buoytrack(tree)?;
    almanac(tree)
}

/// A crate in maren's home, and an older build of it that all users share.
fn shoal(tree: &Tree) -> Result<(), WriteError> {
    let date = SET_UP + 40 * DAY;
    tree.file(&format!("{MAREN}/.cargo/bin/shoal"), &binary::of_crates("shoal", "0.9.0"), 0o755, date)?;
    let key = "shoal 0.9.0 (registry+https://crates.quay.example/index)";
    let old = format!("[v1]\n\"{key}\" = [\"shoal\"]\n");
    let new = format!(
        r#"{{"installs":{{"{key}":{{"version_req":null,"bins":["shoal"],"features":[],"all_features":false,"no_default_features":false,"profile":"release","target":"x86_64-unknown-linux-gnu","rustc":"rustc 1.90.0\n"}}}}}}"#
    );
    tree.file(&format!("{MAREN}/.cargo/.crates.toml"), old.as_bytes(), 0o644, date)?;
    tree.file(&format!("{MAREN}/.cargo/.crates2.json"), new.as_bytes(), 0o644, date)?;
    tree.file("usr/local/bin/shoal", &binary::of_crates("shoal", "0.7.2"), 0o755, SET_UP + 12 * DAY)
}

fn buoytrack(tree: &Tree) -> Result<(), WriteError> {
    let date = SET_UP + 36 * DAY;
    tree.file(&format!("{MAREN}/.npmrc"), b"prefix=${HOME}/.npm-global\n", 0o644, date - DAY)?;
    let prefix = format!("{MAREN}/.npm-global");
    let about = "{\n  \"name\": \"buoytrack\",\n  \"version\": \"2.4.1\",\n  \"license\": \"MIT\",\n  \"bin\": { \"buoytrack\": \"bin/run.js\" }\n}\n";
    let module = format!("{prefix}/lib/node_modules/buoytrack");
    tree.file(&format!("{module}/package.json"), about.as_bytes(), 0o644, date)?;
    tree.file(&format!("{module}/bin/run.js"), b"#!/usr/bin/env node\nrequire('../track.js')\n", 0o755, date)?;
    tree.file(&format!("{module}/track.js"), b"console.log('all buoys on station')\n", 0o644, date)?;
    tree.date(&module, date)?;
    tree.link(&format!("{prefix}/bin/buoytrack"), "../lib/node_modules/buoytrack/bin/run.js")
}

/// Three versions side by side, on purpose.
fn almanac(tree: &Tree) -> Result<(), WriteError> {
    let candidates = format!("{MAREN}/.sdkman/candidates/almanac");
    for (version, days) in [("3.9.2", 15), ("4.0.1", 22), ("4.1.0", 38)] {
        let program = binary::silent("almanac");
        let date = SET_UP + days * DAY;
        tree.file(&format!("{candidates}/{version}/bin/almanac"), &program, 0o755, date)?;
        tree.date(&format!("{candidates}/{version}"), date)?;
    }
    tree.file(&format!("{MAREN}/.sdkman/var/version"), b"5.19.0\n", 0o644, SET_UP + 15 * DAY)?;
    tree.file(&format!("{MAREN}/.sdkman/etc/config"), b"sdkman_auto_env=false\n", 0o644, SET_UP + 15 * DAY)?;
    tree.link(&format!("{candidates}/current"), "4.1.0")
}

struct Keg<'a> {
    name: &'a str,
    version: &'a str,
    on_request: bool,
    date: i64,
}

impl Keg<'_> {
    fn write(&self, tree: &Tree) -> Result<(), WriteError> {
        let Keg { name, version, on_request, date } = self;
        let stable = version.split('_').next().unwrap_or(version);
        let receipt = format!(
            r#"{{"homebrew_version":"4.3.9","used_options":[],"built_as_bottle":true,"poured_from_bottle":true,"installed_as_dependency":{},"installed_on_request":{on_request},"time":{date},"runtime_dependencies":[],"source":{{"path":null,"tap":"harbour/tools","spec":"stable","versions":{{"stable":"{stable}","head":null,"version_scheme":0}}}},"arch":"x86_64"}}"#,
            !on_request
        );
        tree.file(&format!("{BREW}/Cellar/{name}/{version}/INSTALL_RECEIPT.json"), receipt.as_bytes(), 0o644, *date)
    }
}

/// The prefix manager's gauge: the keg in use, the one before it, and a library that came along.
fn tidegauge(tree: &Tree) -> Result<(), WriteError> {
    let (old, new) = (SET_UP + 18 * DAY, SET_UP + 37 * DAY);
    for (version, date) in [("3.1.9", old), ("3.2.0_1", new)] {
        let program = binary::packaged("tidegauge", version);
        tree.file(&format!("{BREW}/Cellar/tidegauge/{version}/bin/tidegauge"), &program, 0o755, date)?;
        Keg { name: "tidegauge", version, on_request: true, date }.write(tree)?;
    }
    tree.file(&format!("{BREW}/Cellar/libtide/3.2.0/lib/libtide.so.3"), &binary::silent("libtide"), 0o644, new)?;
    Keg { name: "libtide", version: "3.2.0", on_request: false, date: new }.write(tree)?;
    let brew = b"#!/bin/sh\n# Starts the prefix manager.\nexit 0\n";
    tree.file(&format!("{BREW}/bin/brew"), brew, 0o755, old)?;
    for (link, target) in [
        ("bin/tidegauge", "../Cellar/tidegauge/3.2.0_1/bin/tidegauge"),
        ("lib/libtide.so.3", "../Cellar/libtide/3.2.0/lib/libtide.so.3"),
        ("opt/tidegauge", "../Cellar/tidegauge/3.2.0_1"),
        ("opt/libtide", "../Cellar/libtide/3.2.0"),
        ("var/homebrew/linked/tidegauge", "../../../Cellar/tidegauge/3.2.0_1"),
        ("var/homebrew/linked/libtide", "../../../Cellar/libtide/3.2.0"),
    ] {
        tree.link(&format!("{BREW}/{link}"), target)?;
    }
    Ok(())
}
