//! The wrappers of Gradle and of Maven: scripts of a project, `gradlew` and `mvnw`, which fetch the version that the project
//! names and keep it for every project of the user (*Gradle User Manual*, "Gradle Wrapper"; *Maven Wrapper*).
//!
//! Below `~/.gradle/wrapper/dists` (`GRADLE_USER_HOME`) and `~/.m2/wrapper/dists` (`MAVEN_USER_HOME`): `NAME/KEY`, the name
//! of the archive without its ending, and a key that stands for its address; in it the archive, what was unpacked from it,
//! and with Gradle a file `ARCHIVE.ok` once that is complete. The project names the address as `distributionUrl` in
//! `gradle/wrapper/gradle-wrapper.properties` or `.mvn/wrapper/maven-wrapper.properties`.
//!
//! Traps: the key is the MD5 of the address, as a number in the base 36; Maven's newer script has another key and unpacks
//! without a directory of its own in between; a colon in the address is written `\:`; the same version can be kept several
//! times, from several addresses.

use md5::{Digest as _, Md5};

use super::nowhere;
use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, dirs_in, of_each_user};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{
    Evidence, ExecDestination, ExecTarget, Location, Loss, ManagerId, ManagerKind, Profile, Scope, Status,
};
use crate::version::Scheme;

/// A wrapper.
#[derive(Debug, Clone, Copy)]
pub struct Wrapper {
    id: ManagerId,
    /// What it keeps versions of: the name of the package, and of the program in `bin`.
    tool: &'static str,
    program: &'static str,
    /// What the names of archives, and of the directories in them, begin with.
    prefix: &'static str,
    /// The variable that names another directory than the one below the home.
    variable: &'static str,
    below_home: &'static str,
    /// The script of a project, and the settings below the script's directory.
    script: &'static str,
    settings: &'static str,
    /// Whether a file tells that an archive was unpacked to its end.
    marks_complete: bool,
}

/// Gradle's.
pub const GRADLE: Wrapper = Wrapper {
    id: ManagerId("gradle-wrapper"),
    tool: "gradle",
    program: "gradle",
    prefix: "gradle-",
    variable: "GRADLE_USER_HOME",
    below_home: ".gradle",
    script: "gradlew",
    settings: "gradle/wrapper/gradle-wrapper.properties",
    marks_complete: true,
};

/// Maven's.
pub const MAVEN: Wrapper = Wrapper {
    id: ManagerId("maven-wrapper"),
    tool: "maven",
    program: "mvn",
    prefix: "apache-maven-",
    variable: "MAVEN_USER_HOME",
    below_home: ".m2",
    script: "mvnw",
    settings: ".mvn/wrapper/maven-wrapper.properties",
    marks_complete: false,
};

struct Versions(Wrapper);

/// One archive, unpacked.
struct Unpacked {
    /// The name of its archive, without the ending.
    name: ByteString,
    /// What stands for the archive's address.
    key: ByteString,
    /// The directory with `bin`.
    home: ByteString,
    is_complete: bool,
}

impl Manager for Wrapper {
    fn id(&self) -> ManagerId {
        self.id
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Versions)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, self.id, |user| {
            let dir = path::join(&host.user_dir(user, self.variable, self.below_home), b"wrapper/dists");
            host.root.entry(&dir).is_ok().then_some((dir, Versions(*self)))
        })
    }
}

impl Wrapper {
    /// What was unpacked in a directory `NAME/KEY`.
    fn unpacked(&self, host: &Host, name: &ByteString, key: &ByteString, dir: &ByteString) -> Option<Unpacked> {
        let program = [b"bin/", self.program.as_bytes()].concat();
        let has_program = |home: &ByteString| host.root.entry(&path::join(home, &program)).is_ok();
        let within = || dirs_in(host, dir, false).into_iter().map(|(below, _)| path::join(dir, &below));
        let home = std::iter::once(dir.clone()).chain(within()).find(has_program)?;
        let is_ok = || host.root.names_in(dir).iter().any(|(file, _)| file.ends_with(b".ok"));
        let is_complete = !self.marks_complete || is_ok();
        Some(Unpacked { name: name.clone(), key: key.clone(), home, is_complete })
    }

    /// Everything that was unpacked.
    fn kept(&self, host: &Host, at: &Location) -> Vec<Unpacked> {
        let of_name = |(name, _): (ByteString, _)| {
            let dir = path::join(&at.dir, &name);
            let keys = dirs_in(host, &dir, false).into_iter();
            let found = keys.filter_map(|(key, _)| self.unpacked(host, &name, &key, &path::join(&dir, &key)));
            found.collect::<Vec<_>>()
        };
        dirs_in(host, &at.dir, false).into_iter().flat_map(of_name).collect()
    }

    /// The version in the name of an archive: `8.5` of `gradle-8.5-bin`.
    fn version<'n>(&self, name: &'n [u8]) -> &'n [u8] {
        let version = name.strip_prefix(self.prefix.as_bytes()).unwrap_or(name);
        let endings = [&b"-bin"[..], b"-all", b"-src"];
        endings.iter().find_map(|ending| version.strip_suffix(*ending)).unwrap_or(version)
    }

    /// The address that a project's settings name, with the line.
    fn address(&self, host: &Host, script: &[u8]) -> Result<(ByteString, u32, String), Loss> {
        let file = path::join(path::parent(script), self.settings.as_bytes());
        let unknown = || format!("which {} it starts is unknown", self.tool);
        let content = host.root.read(&file, Limit::SMALL).map_err(|error| Loss::unread(&error, unknown()))?;
        let lines = (1..).zip(content.split(|&b| b == b'\n'));
        let named = lines.filter_map(|(line, text)| {
            let (key, value) = text.split_at(memchr::memchr2(b'=', b':', text)?);
            (key.trim_ascii() == b"distributionUrl").then(|| (line, value[1..].trim_ascii()))
        });
        let (line, value) =
            named.last().ok_or_else(|| Loss::damaged(file.clone(), "it names no distributionUrl", unknown()))?;
        // What stands behind a backslash is meant literally; none of its letters occur in an address.
        Ok((file, line, String::from_utf8_lossy(value).replace('\\', "")))
    }
}

/// What stands for an address in the name of a directory.
fn key(address: &str) -> String {
    let mut rest = u128::from_be_bytes(Md5::digest(address).into());
    let mut digits = Vec::new();
    while rest > 0 {
        digits.push(b"0123456789abcdefghijklmnopqrstuvwxyz"[(rest % 36) as usize]);
        rest /= 36;
    }
    digits.iter().rev().map(|digit| char::from(*digit)).collect()
}

/// The name of an archive without its ending: `gradle-8.5-bin` of `https://quay.example/gradle-8.5-bin.zip`.
fn archive_name(address: &str) -> &str {
    let file = address.rsplit('/').next().unwrap_or(address);
    let endings = [".zip", ".tar.gz", ".tgz"];
    endings.iter().find_map(|ending| file.strip_suffix(ending)).unwrap_or(file)
}

impl SimpleBackend for Versions {
    // Versions do not need one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let Versions(wrapper) = self;
        let mut record = Record::default();
        for Unpacked { name, key, home, is_complete } in wrapper.kept(host, at) {
            let own = path::join(&path::join(&at.dir, &name), &key);
            let mut item = InstalledPackage::new("toolchain", wrapper.tool);
            item.version = Some(wrapper.version(&name).into());
            item.tail = Some(path::join(&name, &key));
            item.installed_at = host.root.modified(&own);
            item.evidence
                .push(Evidence::directory(home, format!("{} {}", wrapper.tool, wrapper.version(&name).escape_ascii())));
            if !is_complete {
                item.status = Status::Broken;
                item.evidence.push(Evidence::directory(own.clone(), "it was not unpacked to its end"));
            }
            item.trees.push(own);
            record.items.push(item);
        }
        record
    }

    /// Scripts of projects can lie anywhere in the home.
    fn domain(&self, host: &Host, at: &Location) -> Vec<ByteString> {
        let owner = host.users.iter().find(|user| matches!(&at.scope, Scope::User(name) if *name == user.name));
        owner.map(|user| host.root.canonicalize_dir(&user.home)).into_iter().chain([at.dir.clone()]).collect()
    }

    fn scheme(&self) -> Scheme {
        Scheme::Upstream
    }

    fn exec_target(&self, host: &Host, at: &Location, canonical: &[u8]) -> Option<ExecTarget> {
        let Versions(wrapper) = self;
        if path::name(canonical) != wrapper.script.as_bytes() {
            return None;
        }
        let (file, line, address) = match wrapper.address(host, canonical) {
            Ok(found) => found,
            Err(lost) => {
                host.root.note_gap(canonical, lost.to_string());
                return None;
            }
        };
        let name = archive_name(&address);
        let asks = Evidence::line(file, line, format!("asks for {address}"));
        // Maven's newer script names the directory without the archive's kind.
        let bare = name.strip_suffix("-bin").filter(|_| !wrapper.marks_complete).unwrap_or(name);
        let is_of_name = |one: &Unpacked| [name, bare].iter().any(|name| *one.name == *name.as_bytes());
        let mut of_name = wrapper.kept(host, at);
        of_name.retain(|one| one.is_complete && is_of_name(one));
        let by_address = of_name.iter().find(|one| *one.key == *key(&address).as_bytes());
        // Maven's newer script has a key of its own: what there is of the name is what it starts.
        let only = || of_name.first().filter(|_| of_name.len() == 1 && !wrapper.marks_complete);
        let Some(kept) = by_address.or_else(only) else {
            let fetched = Evidence::directory(at.dir.clone(), format!("{name} is not there: a start would fetch it"));
            return Some(nowhere(vec![asks, fetched]));
        };
        let program = path::join(&path::join(&kept.home, b"bin"), wrapper.program.as_bytes());
        Some(ExecTarget { to: ExecDestination::File(program), is_shim: true, why: vec![asks] })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_is_kept_under_the_key_that_gradle_makes_of_it() {
        // As Gradle 4.4.1's own wrapper made them.
        assert_eq!(key("file:///srv/gradle-4.4.1-bin.zip"), "5p0wk8yg5spgnbu078bjo9t5a");
        for (address, name, version) in [
            ("https://quay.example/gradle-8.5-bin.zip", "gradle-8.5-bin", "8.5"),
            ("gradle-8.10-rc-1-all.zip", "gradle-8.10-rc-1-all", "8.10-rc-1"),
            ("https://quay.example/own", "own", "own"),
        ] {
            assert_eq!(archive_name(address), name);
            assert_eq!(GRADLE.version(name.as_bytes()), version.as_bytes());
        }
        assert_eq!(MAVEN.version(b"apache-maven-3.9.6"), b"3.9.6");
    }
}
