//! Small machines for the core's own tests: a healthy one, and what is planted on it.

use std::fs;
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};

use tempfile::TempDir;
use whodunit_core::fs::Root;
use whodunit_core::host::{Host, ProcessEnv, UserSelection};
use whodunit_core::queries::{CheckContext, UserView};
use whodunit_core::resolve::contexts::resolve_contexts;
use whodunit_core::resolve::{Context, Overrides, SearchPath};
use whodunit_core::survey::Survey;

/// A program's first bytes.
pub const PROGRAM: &str = "\x7fELF";

/// apt's list of the machine's one repository.
const OFFERED: &str = "var/lib/apt/lists/deb.lantern.example_debian_dists_bookworm_main_binary-amd64_Packages";

/// What the repository says of itself.
const RELEASE: &str = "Origin: Lantern\nLabel: Lantern\nSuite: stable\nCodename: bookworm\nComponents: main\nDate: Tue, 06 Oct 2026 08:00:00 UTC\n";

/// What a healthy machine has: the files of a small Debian with one user, maren, who types into bash.
const HEALTHY: &[(&str, &str)] = &[
    ("etc/debian_version", "12.5\n"),
    ("etc/os-release", "ID=debian\nVERSION_ID=\"12\"\n"),
    ("etc/passwd", "root:x:0:0::/root:/bin/sh\nmaren:x:1000:1000::/home/maren:/bin/sh\n"),
    ("etc/profile", "PATH=/usr/local/bin:/usr/bin:/bin\nexport PATH\n"),
    ("etc/apt/sources.list", "deb https://deb.lantern.example/debian bookworm main\n"),
    ("var/lib/apt/lists/deb.lantern.example_debian_dists_bookworm_InRelease", RELEASE),
    ("var/lib/dpkg/status", ""),
    ("root/", ""),
    ("home/maren/", ""),
    ("usr/local/bin/", ""),
    ("usr/local/sbin/", ""),
    ("usr/games/", ""),
    ("usr/sbin/", ""),
    ("bin", "-> usr/bin"),
    ("sbin", "-> usr/sbin"),
];

/// A machine below a temporary directory.
pub struct Machine {
    dir: TempDir,
}

impl Machine {
    /// A machine without a file.
    pub fn empty() -> Self {
        Machine { dir: tempfile::tempdir().unwrap() }
    }

    /// A machine of which there is nothing to tell: `sh` and `pegel` are dpkg's, from a repository that still has them.
    pub fn healthy() -> Self {
        let machine = HEALTHY.iter().fold(Machine::empty(), |machine, (path, content)| machine.file(path, content));
        machine.deb("dash", "0.5", "Essential: yes\n", &["usr/bin/sh"]).deb("pegel", "4.2-1", "", &["usr/bin/pegel"])
    }

    /// Where it lies.
    pub fn path(&self) -> &Path {
        self.dir.path()
    }

    fn at(&self, path: &str) -> PathBuf {
        self.path().join(path.trim_start_matches('/'))
    }

    /// With a file; a path that ends in `/` is a directory, a content that begins with `-> ` a link. What lies in a
    /// directory named `bin` is a program.
    pub fn file(self, path: &str, content: &str) -> Self {
        let at = self.at(path);
        let dir = if path.ends_with('/') { &at } else { at.parent().unwrap() };
        let new: Vec<&Path> = dir.ancestors().take_while(|dir| !dir.exists()).collect();
        fs::create_dir_all(dir).unwrap();
        // Whatever is left open to the group of whoever runs the tests.
        let set = |at: &Path, mode: u32| fs::set_permissions(at, fs::Permissions::from_mode(mode)).unwrap();
        new.into_iter().for_each(|dir| set(dir, 0o755));
        match content.strip_prefix("-> ") {
            _ if path.ends_with('/') => {}
            Some(target) => symlink(target, &at).unwrap(),
            None => {
                fs::write(&at, content).unwrap();
                set(&at, if path.contains("bin/") { 0o755 } else { 0o644 });
            }
        }
        self
    }

    /// With these programs.
    pub fn programs(self, paths: &[&str]) -> Self {
        paths.iter().fold(self, |machine, path| machine.file(path, PROGRAM))
    }

    /// With more at the end of a file.
    pub fn append(self, path: &str, more: &str) -> Self {
        let before = fs::read_to_string(self.at(path)).unwrap_or_default();
        self.file(path, &(before + more))
    }

    /// With other permissions of a path.
    pub fn mode(self, path: &str, mode: u32) -> Self {
        fs::set_permissions(self.at(path), fs::Permissions::from_mode(mode)).unwrap();
        self
    }

    /// Without a file.
    pub fn without(self, path: &str) -> Self {
        fs::remove_file(self.at(path)).unwrap();
        self
    }

    /// With a package of dpkg's: fields of its record, and its files, which are programs. The repository has it.
    pub fn deb(self, name: &str, version: &str, fields: &str, files: &[&str]) -> Self {
        let stanza = format!("Package: {name}\nVersion: {version}\nArchitecture: amd64\n{fields}");
        self.append(OFFERED, &format!("{stanza}\n")).local_deb(name, version, fields, files)
    }

    /// The same of a package that no repository has.
    pub fn local_deb(self, name: &str, version: &str, fields: &str, files: &[&str]) -> Self {
        let status = if fields.contains("Status: ") { "" } else { "Status: install ok installed\n" };
        let record = format!("Package: {name}\n{status}Version: {version}\nArchitecture: amd64\n{fields}\n");
        let mut list = vec!["/.".to_owned()];
        for file in files {
            let dirs = Path::new(file).ancestors().skip(1).filter(|dir| !dir.as_os_str().is_empty());
            let mut dirs: Vec<String> = dirs.map(|dir| format!("/{}", dir.display())).collect();
            dirs.reverse();
            dirs.push(format!("/{file}"));
            list.extend(dirs);
        }
        list.dedup();
        self.append("var/lib/dpkg/status", &record)
            .file(&format!("var/lib/dpkg/info/{name}.list"), &(list.join("\n") + "\n"))
            .programs(files)
    }

    /// With a further file of a package of dpkg's.
    pub fn owned(self, package: &str, path: &str, content: &str) -> Self {
        self.append(&format!("var/lib/dpkg/info/{package}.list"), &format!("/{path}\n")).file(path, content)
    }

    /// With Python 3.11 as Debian packages it.
    pub fn python(self) -> Self {
        self.deb("python3", "3.11.2-1", "", &["usr/bin/python3.11"])
            .owned("python3", "usr/bin/python3", "-> python3.11")
            .owned("python3", "usr/lib/python3.11/os.py", "")
            .owned("python3", "usr/lib/python3.11/EXTERNALLY-MANAGED", "[externally-managed]\n")
    }

    /// With a distribution of Python in a directory of modules, as pip puts it there, with one module of its name.
    pub fn pip(self, dir: &str, name: &str, version: &str, metadata: &str) -> Self {
        let info = format!("{dir}/{name}-{version}.dist-info");
        self.file(&format!("{dir}/{name}/__init__.py"), "")
            .file(&format!("{info}/METADATA"), &format!("Metadata-Version: 2.1\nName: {name}\nVersion: {version}\n{metadata}\n"))
            .file(&format!("{info}/INSTALLER"), "pip\n")
            .file(&format!("{info}/RECORD"), &format!("{name}/__init__.py,,\n{name}-{version}.dist-info/METADATA,,\n{name}-{version}.dist-info/INSTALLER,,\n{name}-{version}.dist-info/RECORD,,\n"))
    }

    /// With a version of a package in the repository.
    pub fn offered(self, name: &str, version: &str) -> Self {
        self.append(OFFERED, &format!("Package: {name}\nVersion: {version}\nArchitecture: amd64\n\n"))
    }

    /// With a second, signed repository, of somebody else, which has `tides`; its index also says this.
    pub fn quay(self, says: &str) -> Self {
        let list = "var/lib/apt/lists/quay.example_debian_dists_bookworm_";
        let release = format!("Codename: bookworm\nComponents: main\n{says}-----BEGIN PGP SIGNATURE-----\n");
        self.append("etc/apt/sources.list", "deb https://quay.example/debian bookworm main\n")
            .file(&format!("{list}InRelease"), &release)
            .file(&format!("{list}main_binary-amd64_Packages"), "Package: tides\nVersion: 1\nArchitecture: amd64\n\n")
    }

    /// With the one snap of the machine at these revisions, of which the last is in use, and its `meta/snap.yaml`.
    pub fn snap(self, name: &str, revisions: &[&str], meta: &str) -> Self {
        let of_store = |revision: &&str| !revision.starts_with('x');
        let one = |revision: &&str| {
            let id = if of_store(revision) { "LANTERNidMadeUp" } else { "" };
            format!(r#"{{"name": "{name}", "snap-id": "{id}", "revision": "{revision}"}}"#)
        };
        let sequence: Vec<String> = revisions.iter().map(one).collect();
        let current = revisions.last().unwrap();
        let state = format!(
            r#"{{"data": {{"snaps": {{"{name}": {{"type": "app", "sequence": [{}], "active": true, "current": "{current}"}}}}}}}}"#,
            sequence.join(", ")
        );
        let machine = self
            .file("var/lib/snapd/state.json", &state)
            .file(&format!("snap/{name}/{current}/meta/snap.yaml"), meta)
            .file(&format!("snap/{name}/current"), &format!("-> {current}"))
            .file(&format!("snap/bin/{name}"), "-> /usr/bin/snap");
        let image = |machine: Machine, revision: &&str| {
            machine.file(&format!("var/lib/snapd/snaps/{name}_{revision}.snap"), "hsqs")
        };
        revisions.iter().fold(machine, image)
    }

    /// With another shell for maren, which is dpkg's.
    pub fn user_shell(self, shell: &str) -> Self {
        let name = shell.rsplit('/').next().unwrap().to_owned();
        let accounts = format!("root:x:0:0::/root:/bin/sh\nmaren:x:1000:1000::/home/maren:{shell}\n");
        self.deb(&name, "5", "", &[shell.trim_start_matches('/')]).file("etc/passwd", &accounts)
    }

    /// Asks something of the machine, as every user in every context.
    pub fn ask<T>(&self, question: impl FnOnce(&CheckContext<'_, '_>) -> T) -> T {
        let host = Host::new(Root::offline(self.path()).unwrap(), &UserSelection::All, ProcessEnv::default()).unwrap();
        let survey = Survey::of(&host);
        let contexts: Vec<Context> = Context::ALL.into_iter().filter(|context| *context != Context::Here).collect();
        let view = |user: &whodunit_core::host::User| {
            let usual = resolve_contexts(&host, &contexts, user, &Overrides::default());
            let searches = usual.iter().map(|one| SearchPath::in_context(&host, one)).collect();
            UserView { user: Some(user.clone()), searches, usual }
        };
        let views: Vec<UserView> = host.users.iter().filter(|user| user.uid != 0).map(view).collect();
        let resolved: Vec<_> = views.iter().flat_map(|view| view.usual.clone()).collect();
        question(&CheckContext::new(&survey, &views, &resolved))
    }
}
