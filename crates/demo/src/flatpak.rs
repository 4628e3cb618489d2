//! The sandboxed format's part: `chartdesk` once more, under its makers' own id, with the runtime that it
//! needs; its name in the menu is the distribution's.

use sha2::Digest as _;

use crate::WriteError;
use crate::machine::SET_UP;
use crate::tree::Tree;

const DAY: i64 = 86_400;
const BASE: &str = "/home/maren/.local/share/flatpak";
const APP: &str = "org.harbour.ChartDesk";
const RUNTIME: &str = "org.harbour.Platform";

const CONFIG: &str = "\
[core]
repo_version=1
mode=bare-user-only

[remote \"quay\"]
url=https://apps.quay.example/repo/
gpg-verify=true
xa.title=Quay apps
";

const APP_METADATA: &str = "\
[Application]
name=org.harbour.ChartDesk
runtime=org.harbour.Platform/x86_64/24
sdk=org.harbour.Platform/x86_64/24
command=chartdesk

[Context]
shared=network;ipc;
sockets=wayland;
filesystems=xdg-documents;
";

const RUNTIME_METADATA: &str = "\
[Runtime]
name=org.harbour.Platform
runtime=org.harbour.Platform/x86_64/24
sdk=org.harbour.Platform/x86_64/24
";

/// Writes the installation.
pub fn write(tree: &Tree) -> Result<(), WriteError> {
    tree.file(&format!("{BASE}/repo/config"), CONFIG.as_bytes(), 0o644, SET_UP + 14 * DAY)?;
    for dir in ["repo/objects", "repo/refs/heads", "repo/refs/remotes", "repo/tmp", "repo/state"] {
        tree.dir(&format!("{BASE}/{dir}"))?;
    }
    // The remote's catalogue was last fetched long before the app was.
    let catalogue = format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<components version=\"0.8\" origin=\"quay\">\n  <component type=\"desktop\">\n    <id>{APP}.desktop</id>\n    <name>Chart Desk</name>\n    <summary>Charts on a table</summary>\n    <developer><name>Quay</name></developer>\n    <releases>\n      <release version=\"3.0.5\" timestamp=\"1768204800\"/>\n    </releases>\n    <bundle type=\"flatpak\">app/{APP}/x86_64/stable</bundle>\n  </component>\n</components>\n"
    );
    let active = format!("{BASE}/appstream/quay/x86_64/active/appstream.xml");
    tree.file(&active, catalogue.as_bytes(), 0o644, SET_UP + 10 * DAY)?;
    let date = SET_UP + 48 * DAY;
    let (app_commit, runtime_commit) = (&commit(tree, "Chart Desk 3.1.0", date)?, &commit(tree, "Platform 24", date)?);
    let app = format!("{BASE}/app/{APP}/x86_64/stable");
    deployment(
        tree,
        &app,
        app_commit,
        APP_METADATA,
        41_231_360,
        &[("appdata-name", "Chart Desk"), ("appdata-version", "3.1.0")],
        date,
    )?;
    tree.link(&format!("{BASE}/app/{APP}/current"), "x86_64/stable")?;
    let runtime = format!("{BASE}/runtime/{RUNTIME}/x86_64/24");
    deployment(tree, &runtime, runtime_commit, RUNTIME_METADATA, 512_000_000, &[], date)?;
    for (kind, id, arch_branch, commit) in
        [("app", APP, "x86_64/stable", app_commit), ("runtime", RUNTIME, "x86_64/24", runtime_commit)]
    {
        for place in ["heads/deploy", "remotes/quay"] {
            tree.file(
                &format!("{BASE}/repo/refs/{place}/{kind}/{id}/{arch_branch}"),
                format!("{commit}\n").as_bytes(),
                0o644,
                date,
            )?;
        }
    }
    let program = crate::binary::packaged("chartdesk", "3.1.0");
    tree.file(&format!("{app}/{app_commit}/files/bin/chartdesk"), &program, 0o755, 0)?;
    exports(tree, &app, app_commit)?;
    tree.file(&format!("/home/maren/.var/app/{APP}/config/desk.conf"), b"scale = 2\n", 0o644, date)
}

fn deployment(
    tree: &Tree,
    place: &str,
    commit: &str,
    metadata: &str,
    size: u64,
    more: &[(&str, &str)],
    date: i64,
) -> Result<(), WriteError> {
    tree.file(&format!("{place}/{commit}/metadata"), metadata.as_bytes(), 0o644, 0)?;
    tree.dir(&format!("{place}/{commit}/files"))?;
    tree.file(&format!("{place}/{commit}/deploy"), &deploy("quay", commit, size, more), 0o644, date)?;
    tree.dated_link(&format!("{place}/active"), commit, date)
}

fn exports(tree: &Tree, app: &str, app_commit: &str) -> Result<(), WriteError> {
    let entry = format!(
        "[Desktop Entry]\nType=Application\nName=Chart Desk\nExec=/usr/bin/flatpak run --branch=stable --arch=x86_64 --command=chartdesk {APP} %U\nX-Flatpak={APP}\n"
    );
    let below = format!("share/applications/{APP}.desktop");
    tree.file(&format!("{app}/{app_commit}/export/{below}"), entry.as_bytes(), 0o644, 0)?;
    tree.link(&format!("{BASE}/exports/{below}"), &format!("../../../app/{APP}/current/active/export/{below}"))?;
    let wrapper = format!("#!/bin/sh\nexec /usr/bin/flatpak run --branch=stable --arch=x86_64 {APP} \"$@\"\n");
    let at = format!("export/bin/{APP}");
    tree.file(&format!("{app}/{app_commit}/{at}"), wrapper.as_bytes(), 0o755, 0)?;
    tree.link(&format!("{BASE}/exports/bin/{APP}"), &format!("../../app/{APP}/current/active/{at}"))
}

/// Writes a commit into the repository, and gives its name. A GVariant of type `(a{sv}aya(say)sstayay)`: nothing but a
/// subject, a date, and a directory without files, since those are not kept a second time.
fn commit(tree: &Tree, subject: &str, date: i64) -> Result<String, WriteError> {
    // A directory of type `(a(say)a(sayay))`: of no files, which end where they begin, and no directories.
    let directory = object(tree, "dirtree", &[0], date)?;
    // Its permissions, of type `(uuua(ayay))`: root's, and all users may look into it.
    let permissions = object(tree, "dirmeta", &[[0; 4], [0; 4], 0o040_755_u32.to_be_bytes()].concat(), date)?;
    let mut bytes = [subject.as_bytes(), b"\0"].concat();
    let subject_end = bytes.len();
    bytes.push(0);
    let body_end = bytes.len();
    bytes.resize(bytes.len().next_multiple_of(8), 0);
    bytes.extend(date.to_be_bytes());
    bytes.extend(directory);
    let contents_end = bytes.len();
    bytes.extend(permissions);
    for end in [contents_end, body_end, subject_end, 0, 0, 0] {
        bytes.extend(&end.to_le_bytes()[..1]);
    }
    Ok(hexadecimal(&object(tree, "commit", &bytes, date)?))
}

/// Writes an object into the repository, and gives the digest of what it holds, which is its name.
fn object(tree: &Tree, ending: &str, bytes: &[u8], date: i64) -> Result<[u8; 32], WriteError> {
    let digest: [u8; 32] = sha2::Sha256::digest(bytes).into();
    let name = hexadecimal(&digest);
    tree.file(&format!("{BASE}/repo/objects/{}/{}.{ending}", &name[..2], &name[2..]), bytes, 0o644, date)?;
    Ok(digest)
}

fn hexadecimal(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// A GVariant of type `(ssasta{sv})`, its last member with texts alone.
fn deploy(origin: &str, commit: &str, size: u64, more: &[(&str, &str)]) -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut ends = Vec::new();
    for text in [origin, commit] {
        bytes.extend(text.as_bytes());
        bytes.push(0);
        ends.push(bytes.len());
    }
    // The list of parts is empty: it takes no bytes, and ends where it begins.
    bytes.resize(bytes.len().next_multiple_of(4), 0);
    ends.push(bytes.len());
    bytes.resize(bytes.len().next_multiple_of(8), 0);
    bytes.extend(size.to_be_bytes());
    bytes.extend(dictionary(more));
    let width = if bytes.len() + ends.len() <= 255 { 1 } else { 2 };
    for end in ends.iter().rev() {
        bytes.extend(&end.to_le_bytes()[..width]);
    }
    bytes
}

fn dictionary(entries: &[(&str, &str)]) -> Vec<u8> {
    let mut bytes: Vec<u8> = Vec::new();
    let mut ends = Vec::new();
    // The form of the record itself; without it, what follows is not looked at.
    let form = ("deploy-version", [&4_i32.to_le_bytes()[..], b"\0i"].concat());
    let texts = entries.iter().map(|&(key, text)| (key, [text.as_bytes(), b"\0\0s"].concat()));
    for (key, value) in std::iter::once(form).chain(texts) {
        bytes.resize(bytes.len().next_multiple_of(8), 0);
        let start = bytes.len();
        bytes.extend(key.as_bytes());
        bytes.push(0);
        let key_end = bytes.len() - start;
        bytes.resize(bytes.len().next_multiple_of(8), 0);
        bytes.extend(value);
        bytes.extend(&key_end.to_le_bytes()[..1]);
        ends.push(bytes.len());
    }
    for end in ends {
        bytes.extend(&end.to_le_bytes()[..1]);
    }
    bytes
}
