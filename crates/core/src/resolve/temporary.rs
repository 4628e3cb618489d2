//! Directories of the search path that are there only for a while: an environment that was activated, a shell of Nix's,
//! a directory's own settings. Told by the variables that such tools document and set beside `PATH`.

use std::collections::BTreeMap;
use std::io::Read as _;

use base64::Engine as _;
use base64::engine::general_purpose::{URL_SAFE, URL_SAFE_NO_PAD};
use flate2::read::ZlibDecoder;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::bytes::{ByteString, path};
use crate::host::{ENVIRONMENT, ProcessEnv};
use crate::model::Evidence;

/// What put a directory into the search path of this process for a while.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Temporary {
    /// The directory, as the list spells it.
    pub directory: ByteString,
    /// The tool, or the kind of shell.
    pub by: String,
    /// The directory, or the name, that it is for; `null` where that is not told.
    pub of: Option<ByteString>,
    /// The variable that tells.
    pub evidence: Evidence,
}

impl Temporary {
    /// In a few words.
    #[must_use]
    pub fn says(&self) -> String {
        match &self.of {
            Some(of) => format!("{}, for {of}", self.by),
            None => self.by.clone(),
        }
    }
}

/// As much of what direnv noted is unpacked; an environment is far smaller.
const MAX_DIFF: u64 = 1 << 20;

/// What direnv notes of a directory's settings: the variables before and after.
#[derive(Debug, Default, Deserialize)]
struct Direnv {
    #[serde(rename = "p", default)]
    before: BTreeMap<String, Option<String>>,
    #[serde(rename = "n", default)]
    after: BTreeMap<String, Option<String>>,
}

impl Direnv {
    /// `DIRENV_DIFF`: JSON, packed by zlib, in the letters of base64 for addresses.
    fn parse(text: &[u8]) -> Option<Self> {
        let packed = URL_SAFE.decode(text).or_else(|_| URL_SAFE_NO_PAD.decode(text)).ok()?;
        let mut json = Vec::new();
        ZlibDecoder::new(&packed[..]).take(MAX_DIFF).read_to_end(&mut json).ok()?;
        serde_json::from_slice(&json).ok()
    }

    fn adds(&self, dir: &[u8]) -> bool {
        let has = |variables: &BTreeMap<String, Option<String>>| {
            let list = variables.get("PATH").cloned().flatten().unwrap_or_default();
            list.split(':').any(|one| one.as_bytes() == dir)
        };
        has(&self.after) && !has(&self.before)
    }
}

/// What the environment of this process tells of such tools.
#[derive(Debug)]
pub struct TemporaryShells<'e> {
    env: &'e ProcessEnv,
    direnv: Option<Direnv>,
}

impl<'e> TemporaryShells<'e> {
    /// Looks at the variables.
    #[must_use]
    pub fn of(env: &'e ProcessEnv) -> Self {
        let diff = env.variables.get(&b"DIRENV_DIFF"[..]);
        TemporaryShells { env, direnv: diff.and_then(|diff| Direnv::parse(diff)) }
    }

    fn variable(&self, name: &str) -> Option<&'e ByteString> {
        self.env.variables.get(name.as_bytes()).filter(|value| !value.is_empty())
    }

    /// What put a directory there; `None` where no variable tells.
    #[must_use]
    pub fn put(&self, dir: &ByteString) -> Option<Temporary> {
        let found = |by: &str, of: Option<ByteString>, variable: &str| Temporary {
            directory: dir.clone(),
            by: by.to_owned(),
            of,
            evidence: Evidence::at(
                ENVIRONMENT,
                variable,
                self.variable(variable).map(ToString::to_string).unwrap_or_default(),
            ),
        };
        let is_below = |variable: &str, below: &str| {
            self.variable(variable).is_some_and(|top| path::within(dir, &path::join(top, below.as_bytes())))
        };
        if self.direnv.as_ref().is_some_and(|direnv| direnv.adds(dir)) {
            // The value has a sign before the directory.
            let of = self.variable("DIRENV_DIR").map(|of| of.strip_prefix(b"-").unwrap_or(of).into());
            return Some(found("direnv", of, "DIRENV_DIR"));
        }
        if let Some(top) = self.variable("VIRTUAL_ENV").filter(|top| *dir == path::join(top, b"bin")) {
            let by = [("POETRY_ACTIVE", "poetry"), ("PIPENV_ACTIVE", "pipenv"), ("HATCH_ENV_ACTIVE", "hatch")];
            let by = by.into_iter().find(|(variable, _)| self.variable(variable).is_some());
            return Some(found(
                by.map_or("an environment that was activated", |(_, by)| by),
                Some(top.clone()),
                "VIRTUAL_ENV",
            ));
        }
        let project = |variable: &str| self.variable(variable).cloned();
        let is_stored = |store: &str| dir.starts_with(store.as_bytes());
        Some(if is_below("PIXI_PROJECT_ROOT", ".pixi") {
            found("pixi", project("PIXI_PROJECT_ROOT"), "PIXI_PROJECT_ROOT")
        } else if is_below("CONDA_PREFIX", "") {
            found("an environment of conda that was activated", project("CONDA_DEFAULT_ENV"), "CONDA_PREFIX")
        } else if is_below("DEVBOX_PROJECT_ROOT", ".devbox") {
            found("devbox", project("DEVBOX_PROJECT_ROOT"), "DEVBOX_PROJECT_ROOT")
        } else if is_below("DEVENV_PROFILE", "") {
            found("devenv", project("DEVENV_ROOT"), "DEVENV_PROFILE")
        } else if is_below("GUIX_ENVIRONMENT", "") {
            found("a shell of Guix's", None, "GUIX_ENVIRONMENT")
        } else if is_stored("/nix/store/") && self.variable("IN_NIX_SHELL").is_some() {
            found("a shell of Nix's (nix-shell, nix develop)", None, "IN_NIX_SHELL")
        } else if is_stored("/nix/store/") {
            found("Nix (nix shell, or a program that brings its own tools)", None, "PATH")
        } else if self.variable("npm_lifecycle_event").is_some() && dir.ends_with(b"/node_modules/.bin") {
            found("a script of a package's", project("npm_lifecycle_event"), "npm_lifecycle_event")
        } else {
            return None;
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_tool_is_told_by_its_own_variables() {
        let says = |variables: &[(&str, &str)], dir: &str| {
            let variables = variables.iter().map(|(name, value)| ((*name).into(), (*value).into())).collect();
            let env = ProcessEnv { variables, ..ProcessEnv::default() };
            TemporaryShells::of(&env).put(&dir.into()).map(|one| (one.says(), one.evidence.at.to_string()))
        };
        let tide = [("VIRTUAL_ENV", "/home/maren/tide/.venv")];
        let nix = "/nix/store/0c0000000000000000000000000000aa-tidegauge-1/bin";
        for (variables, dir, by, variable) in [
            (
                &tide[..],
                "/home/maren/tide/.venv/bin",
                "an environment that was activated, for /home/maren/tide/.venv",
                "VIRTUAL_ENV",
            ),
            (
                &[tide[0], ("POETRY_ACTIVE", "1")],
                "/home/maren/tide/.venv/bin",
                "poetry, for /home/maren/tide/.venv",
                "VIRTUAL_ENV",
            ),
            (
                &[("CONDA_PREFIX", "/opt/conda/envs/tide"), ("CONDA_DEFAULT_ENV", "tide")],
                "/opt/conda/envs/tide/bin",
                "an environment of conda that was activated, for tide",
                "CONDA_PREFIX",
            ),
            (
                &[("PIXI_PROJECT_ROOT", "/home/maren/quay"), ("CONDA_PREFIX", "/home/maren/quay/.pixi/envs/default")],
                "/home/maren/quay/.pixi/envs/default/bin",
                "pixi, for /home/maren/quay",
                "PIXI_PROJECT_ROOT",
            ),
            (
                &[("DEVBOX_PROJECT_ROOT", "/home/maren/quay")],
                "/home/maren/quay/.devbox/nix/profile/default/bin",
                "devbox, for /home/maren/quay",
                "DEVBOX_PROJECT_ROOT",
            ),
            (&[("IN_NIX_SHELL", "impure")], nix, "a shell of Nix's (nix-shell, nix develop)", "IN_NIX_SHELL"),
            (&[], nix, "Nix (nix shell, or a program that brings its own tools)", "PATH"),
            (
                &[("npm_lifecycle_event", "tides")],
                "/home/maren/quay/node_modules/.bin",
                "a script of a package's, for tides",
                "npm_lifecycle_event",
            ),
        ] {
            assert_eq!(says(variables, dir), Some((by.to_owned(), variable.to_owned())), "{dir}");
        }
        for (variables, dir) in [
            (&tide[..], "/home/maren/tide/.venv/lib"),
            (&[("VIRTUAL_ENV", "")], "/bin"),
            (&[("CONDA_PREFIX", "")], "/usr/bin"),
            (&[], "/home/maren/quay/node_modules/.bin"),
            (&[("DIRENV_DIFF", "!")], "/usr/bin"),
        ] {
            assert_eq!(says(variables, dir), None, "{dir}");
        }
    }

    proptest::proptest! {
        #[test]
        fn any_note_of_direnvs_is_read_without_panic(text: Vec<u8>) {
            let _ = Direnv::parse(&text);
        }
    }
}
