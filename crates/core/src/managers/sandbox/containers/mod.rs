//! Containers that are kept for a program or a service: services of podman (`podman-systemd.unit(5)`), and scripts that
//! start a container of podman or docker (`podman-run(1)`).
//!
//! A service is a file `NAME.container` in `/etc/containers/systemd`, `/usr/share/containers/systemd` or
//! `~/.config/containers/systemd`, see `services.rs`; its `Image=` is an image, or the name of a file `NAME.image`, and
//! `Rootfs=` a tree in the place of one. A file `NAME.kube` names a description of pods with `Yaml=`. Which images are there stands in `overlay-images/images.json` of podman's store, and in `repositories.json` of docker's.
//!
//! Traps: of two files of one name, that in `/etc` counts, and other files change it; a script whose image stands in a
//! variable tells nothing; the program lies in the image and not here.

mod services;

use serde::Deserialize;

use super::container_store::documents;
use crate::backend::simple::{
    InstalledPackage, Record, SimpleBackend, SimpleInstallation, dirs_in, is_dir, of, scripts_in,
};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, Origin, Profile, Scope};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("containers");
const STORE: &[u8] = b"/var/lib/containers/storage";
const DOCKER: &[u8] = b"/var/lib/docker/image";

/// The manager.
#[derive(Debug)]
pub struct Containers;

/// What one user has, or the system.
struct Kept {
    /// Where services are described, the strongest first.
    services: Vec<ByteString>,
    /// Where scripts are looked for.
    bins: Vec<ByteString>,
}

impl Manager for Containers {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Sandbox)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let mut found = Vec::new();
        let mut add = |scope: Scope, store: ByteString, kept: Kept, is_there: bool| {
            if is_there || kept.services.iter().any(|dir| is_dir(host, dir)) {
                found.push(SimpleInstallation::boxed(host, ID, scope, store, kept));
            }
        };
        let of_system = is_dir(host, STORE) || is_dir(host, DOCKER);
        let services = services::OF_SYSTEM.map(ByteString::from).to_vec();
        let system = Kept { services, bins: vec![host.root.canonicalize_dir(b"/usr/local/bin")] };
        add(Scope::System, STORE.into(), system, of_system);
        for user in &host.users {
            let store = host.user_dir(user, "", ".local/share/containers/storage");
            let settings = host.user_dir(user, "XDG_CONFIG_HOME", ".config");
            let own = [
                path::join(&settings, b"containers/systemd"),
                format!("{}/{}", services::OF_USERS, user.uid).into(),
                services::OF_USERS.into(),
            ];
            let kept = Kept {
                services: if user.uid == 0 { Vec::new() } else { own.to_vec() },
                bins: vec![host.user_dir(user, "", ".local/bin"), host.user_dir(user, "", "bin")],
            };
            let is_there = (of_system || is_dir(host, &store)) && kept.bins.iter().any(|bin| is_dir(host, bin));
            add(of(user), store, kept, is_there);
        }
        found
    }
}

/// An image as it is named: `REGISTRY/NAME:TAG@DIGEST`.
#[derive(Debug, PartialEq, Eq)]
struct Image(String);

impl Image {
    /// `None` for what can be no image's name.
    fn parse(name: &str) -> Option<Self> {
        let is_plain = |b: u8| b.is_ascii_alphanumeric() || b"._-/:@".contains(&b);
        let starts = name.bytes().next()?.is_ascii_alphanumeric();
        (starts && name.bytes().all(is_plain)).then(|| Image(name.to_owned()))
    }

    /// The tag, or else the digest.
    fn version(&self) -> Option<&str> {
        let (bare, digest) = self.0.split_once('@').map_or((&*self.0, None), |(bare, digest)| (bare, Some(digest)));
        // Only behind the last `/` is a colon no port's.
        let tag = bare.rsplit('/').next()?.split_once(':').map(|(_, tag)| tag);
        tag.or(digest)
    }
}

/// The images that a store has, each with the file that says so; podman's and docker's.
fn images(host: &Host, store: &ByteString, notes: &mut Vec<Loss>) -> Vec<(String, ByteString)> {
    #[derive(Deserialize)]
    struct OfPodman {
        #[serde(default)]
        names: Option<Vec<String>>,
    }
    #[derive(Deserialize)]
    #[serde(rename_all = "PascalCase")]
    struct OfDocker {
        repositories: std::collections::BTreeMap<String, std::collections::BTreeMap<String, String>>,
    }
    type Names = fn(&[u8]) -> Result<Vec<String>, serde_json::Error>;
    let of_podman: Names = |content| {
        let all: Vec<OfPodman> = serde_json::from_slice(content)?;
        Ok(all.into_iter().flat_map(|one| one.names.unwrap_or_default()).collect())
    };
    let of_docker: Names = |content| {
        let all: OfDocker = serde_json::from_slice(content)?;
        Ok(all.repositories.into_values().flatten().map(|(name, _)| name).collect())
    };
    let mut of_store = documents(host, store, "images");
    if **store != *STORE {
        of_store.extend(documents(host, STORE, "images"));
    }
    let drivers = dirs_in(host, DOCKER, false).into_iter();
    let of_engine = drivers.map(|(name, _)| path::join(&path::join(DOCKER, &name), b"repositories.json"));
    let files = of_store.into_iter().map(|file| (file, of_podman)).chain(of_engine.map(|file| (file, of_docker)));
    let mut found = Vec::new();
    for (file, names) in files {
        let hides = "which images are there is unknown";
        match host.root.read(&file, Limit::LIST) {
            Ok(content) => match names(&content) {
                Ok(names) => found.extend(names.into_iter().map(|name| (name, file.clone()))),
                Err(error) => notes.push(Loss::damaged(file, error, hides)),
            },
            Err(error) if error.is_missing() => {}
            Err(error) => notes.push(Loss::unread(&error, hides)),
        }
    }
    found
}

/// Notes the image that something is started from; says so, and whether the image is there.
fn add_image(item: &mut InstalledPackage, image: &Image, images: &[(String, ByteString)]) -> String {
    item.version = image.version().map(ByteString::from);
    item.origin = Some(Origin::third_party("image", image.0.as_str(), None));
    // A short name is completed by the store, and a missing tag is `latest`.
    let bare = if image.version().is_some() { image.0.clone() } else { format!("{}:latest", image.0) };
    let is_it = |name: &str| name.strip_suffix(&bare).is_some_and(|before| before.is_empty() || before.ends_with('/'));
    let there = images.iter().find(|(name, _)| is_it(name));
    item.evidence.extend(there.map(|(name, file)| Evidence::at(file.clone(), "names", format!("{name} is there"))));
    let ending = if there.is_some() { ", which is there" } else { "" };
    format!("starts a container of the image {}{ending}", image.0)
}

/// Options of `run` whose value is the next word.
const WITH_VALUE: [&str; 38] = [
    "-v",
    "--volume",
    "-e",
    "--env",
    "--env-file",
    "-p",
    "--publish",
    "-w",
    "--workdir",
    "-u",
    "--user",
    "--name",
    "--network",
    "--net",
    "--entrypoint",
    "-h",
    "--hostname",
    "-m",
    "--memory",
    "--mount",
    "--device",
    "--security-opt",
    "--cap-add",
    "--cap-drop",
    "-l",
    "--label",
    "--userns",
    "--pull",
    "--platform",
    "--ipc",
    "--pid",
    "--tmpfs",
    "--add-host",
    "--dns",
    "--gpus",
    "--shm-size",
    "--ulimit",
    "--group-add",
];

/// The lines of a script, those that go on in the next put together, each with the number of its first.
fn lines_of(script: &str) -> Vec<(u32, String)> {
    let mut found: Vec<(u32, String)> = Vec::new();
    let mut goes_on = false;
    for (number, line) in (1..).zip(script.lines()) {
        let bare = line.strip_suffix('\\');
        match found.last_mut().filter(|_| goes_on) {
            Some((_, last)) => last.push_str(bare.unwrap_or(line)),
            None => found.push((number, bare.unwrap_or(line).to_owned())),
        }
        goes_on = bare.is_some();
    }
    found
}

/// The image from which a script starts a container, and the line that does so.
fn started(script: &str) -> Option<(Image, u32)> {
    let is_of_shell = script.lines().next().is_some_and(|first| first.starts_with("#!") && first.contains("sh"));
    let lines = if is_of_shell { lines_of(script) } else { Vec::new() };
    lines.into_iter().find_map(|(number, line)| {
        let words = shlex::split(&line)?;
        let engine = words.iter().position(|word| matches!(word.rsplit('/').next(), Some("podman" | "docker")))?;
        // `exec` and what sets a variable may stand before it, and nothing else.
        let may_stand = |word: &String| matches!(word.as_str(), "exec" | "sudo") || word.contains('=');
        let mut rest = words[engine + 1..].iter().filter(|_| words[..engine].iter().all(may_stand));
        (rest.next()? == "run").then_some(())?;
        while let Some(word) = rest.next() {
            if WITH_VALUE.contains(&word.as_str()) {
                rest.next();
            } else if !word.starts_with('-') {
                return Some((Image::parse(word)?, number));
            }
        }
        None
    })
}

impl SimpleBackend for Kept {
    // What a program needs is in its image.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let images = images(host, &at.dir, &mut record.notes);
        record.items = services::read(host, &self.services, &images, &mut record.notes);
        for bin in &self.bins {
            for mut script in scripts_in(host, bin).unwrap_or_default() {
                let content = script.take_content(&mut record.notes);
                let text = content.and_then(|content| String::from_utf8(content).ok());
                let Some((image, line)) = text.as_deref().and_then(started) else { continue };
                let mut item = InstalledPackage::new("script", path::name(&script.path));
                item.installed_at = Some(script.modified);
                let says = add_image(&mut item, &image, &images);
                let evidence = Evidence::line(script.path.clone(), line, says);
                item.evidence.insert(0, evidence.clone());
                item.bring(script.path, evidence);
                record.items.push(item);
            }
        }
        record
    }

    fn domain(&self, _: &Host, _: &Location) -> Vec<ByteString> {
        self.bins.clone()
    }

    /// Tags have no order that all keep.
    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_script_names_its_image_behind_the_options() {
        for (script, expected) in [
            (
                "#!/bin/sh\nexec podman run --rm -it -v \"$PWD:/w\" docker.io/quay/tide:3.1 \"$@\"\n",
                Some(("docker.io/quay/tide:3.1", 2)),
            ),
            (
                "#!/usr/bin/env bash\ndocker run \\\n  --rm \\\n  --name=x quay:5000/rope gauge",
                Some(("quay:5000/rope", 2)),
            ),
            ("#!/bin/sh\necho a \\\n  b\npodman run tide", Some(("tide", 4))),
            ("#!/bin/sh -e\nTZ=UTC /usr/bin/docker run -e A=b rope@sha256:0a1b", Some(("rope@sha256:0a1b", 2))),
            ("#!/bin/sh\npodman run --rm \"$IMAGE\"", None),
            ("#!/bin/sh\npodman exec box tide", None),
            ("#!/bin/sh\necho podman run tide", None),
            ("#!/usr/bin/perl\npodman run tide", None),
            ("#!/bin/sh\npodman run --rm", None),
        ] {
            let found = started(script);
            assert_eq!(found.as_ref().map(|(image, line)| (image.0.as_str(), *line)), expected, "{script}");
        }
        let version = |name| Image::parse(name).and_then(|image| Some(image.version()?.to_owned()));
        assert_eq!(version("quay:5000/rope"), None);
        assert_eq!(version("quay:5000/rope:2").as_deref(), Some("2"));
        assert_eq!(version("rope@sha256:0a1b").as_deref(), Some("sha256:0a1b"));
    }
}
