//! `gannet`, the ferry's laptop: macOS with installer packages, bundles, a cask that has upgraded itself, and a port.

use rusqlite::Connection;

use crate::WriteError;
use crate::bill_of_materials::bill_of_materials;
use crate::tree::{PROGRAM, Tree};

/// The day on which it was set up: 2026-03-02, 08:30 UTC.
const SET_UP: i64 = 1_772_440_200;

const PASSWD: &str = "root:*:0:0:System Administrator:/var/root:/bin/sh\n";

/// What a new shell of isolde's runs.
const ZPROFILE: &str = "if [ -x /usr/libexec/path_helper ]; then\n\teval `/usr/libexec/path_helper -s`\nfi\n";

/// Turns the ferry's lamps on, with a search path of its own.
const JOB: &str = "\
<?xml version=\"1.0\" encoding=\"UTF-8\"?>
<plist version=\"1.0\">
<dict>
\t<key>Label</key>
\t<string>org.harbour.decklamp</string>
\t<key>ProgramArguments</key>
\t<array><string>decklamp</string></array>
\t<key>EnvironmentVariables</key>
\t<dict>
\t\t<key>PATH</key>
\t\t<string>/opt/decklamp/bin:/usr/bin:/bin</string>
\t</dict>
</dict>
</plist>
";

const PORTS: &str = "
CREATE TABLE ports (
    id INTEGER PRIMARY KEY, name TEXT COLLATE NOCASE, version TEXT, revision INTEGER, epoch INTEGER, variants TEXT,
    state TEXT, requested INTEGER, date INTEGER
);
CREATE TABLE files (id INTEGER, path TEXT, actual_path TEXT, active INTEGER);
INSERT INTO ports VALUES (1, 'knotlog', '2.3', 1, 0, '', 'installed', 1, 1772440200);
INSERT INTO files VALUES (1, '/opt/local/bin/knotlog', '/opt/local/bin/knotlog', 1);
";

/// A property list of texts; one that begins with `@` is a date.
fn list(entries: &[(&str, &str)]) -> String {
    let line = |(key, text): &(&str, &str)| match text.strip_prefix('@') {
        Some(date) => format!("\t<key>{key}</key>\n\t<date>{date}</date>\n"),
        None => format!("\t<key>{key}</key>\n\t<string>{text}</string>\n"),
    };
    let lines: String = entries.iter().map(line).collect();
    format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<plist version=\"1.0\">\n<dict>\n{lines}</dict>\n</plist>\n")
}

/// What an installer package leaves: its receipt, its list of files, and the files.
fn receipt(tree: &Tree, id: &str, version: &str, prefix: &str, files: &[&str]) -> Result<(), WriteError> {
    let told = list(&[
        ("InstallDate", "@2026-03-02T08:30:00Z"),
        ("InstallPrefixPath", prefix),
        ("InstallProcessName", "Installer"),
        ("PackageFileName", &format!("{id}.pkg")),
        ("PackageIdentifier", id),
        ("PackageVersion", version),
    ]);
    let at = format!("private/var/db/receipts/{id}");
    tree.file(&format!("{at}.plist"), told.as_bytes(), 0o644, SET_UP)?;
    tree.file(&format!("{at}.bom"), &bill_of_materials(files, 100), 0o644, SET_UP)?;
    files
        .iter()
        .filter(|file| !file.ends_with(".plist"))
        .try_for_each(|file| tree.file(&format!("{prefix}/{file}"), PROGRAM.as_bytes(), 0o755, SET_UP))
}

/// A bundle of one program.
fn bundle(tree: &Tree, at: &str, id: &str, version: &str, program: &str) -> Result<(), WriteError> {
    let told = list(&[
        ("CFBundleExecutable", program),
        ("CFBundleIdentifier", id),
        ("CFBundlePackageType", "APPL"),
        ("CFBundleShortVersionString", version),
    ]);
    tree.file(&format!("{at}/Contents/Info.plist"), told.as_bytes(), 0o644, SET_UP)?;
    tree.file(&format!("{at}/Contents/MacOS/{program}"), PROGRAM.as_bytes(), 0o755, SET_UP)
}

/// Writes the machine.
pub fn write(tree: &Tree) -> Result<(), WriteError> {
    let system = list(&[("ProductBuildVersion", "24D60"), ("ProductName", "macOS"), ("ProductVersion", "15.3")]);
    for (path, content) in [
        ("System/Library/CoreServices/SystemVersion.plist", &*system),
        ("etc/passwd", PASSWD),
        ("etc/paths", "/usr/local/bin\n/usr/bin\n/bin\n/usr/sbin\n/sbin\n"),
        ("etc/paths.d/60-tidelamp", "/opt/tidelamp/bin\n"),
        ("etc/zprofile", ZPROFILE),
        ("Users/isolde/.zprofile", "path=(/opt/homebrew/bin /opt/local/bin $path)\n"),
        ("Users/isolde/Library/LaunchAgents/org.harbour.decklamp.plist", JOB),
        ("Applications/Tidebook.app/Contents/_MASReceipt/receipt", "receipt\n"),
        ("opt/homebrew/Caskroom/ferrysign/.metadata/2.0/20260302083000.000/Casks/ferrysign.json", "{}\n"),
        (
            "opt/homebrew/Cellar/buoychime/1.7/INSTALL_RECEIPT.json",
            "{\"installed_on_request\":true,\"time\":1772440200,\"source\":{\"tap\":\"quay/harbour\"}}\n",
        ),
    ] {
        tree.file(path, content.as_bytes(), 0o644, SET_UP)?;
    }
    for program in [
        "bin/sh",
        "bin/zsh",
        "usr/bin/vi",
        "usr/libexec/path_helper",
        "opt/local/bin/knotlog",
        "opt/homebrew/Cellar/buoychime/1.7/bin/buoychime",
    ] {
        tree.file(program, PROGRAM.as_bytes(), 0o755, SET_UP)?;
    }
    for (link, target) in [
        ("var", "private/var"),
        ("opt/homebrew/bin/buoychime", "../Cellar/buoychime/1.7/bin/buoychime"),
        ("opt/homebrew/opt/buoychime", "../Cellar/buoychime/1.7"),
        ("opt/homebrew/Caskroom/ferrysign/2.0/Ferrysign.app", "/Applications/Ferrysign.app"),
    ] {
        tree.link(link, target)?;
    }
    for dir in ["Users/Shared", "private/var/root", "usr/local/bin", "usr/sbin", "sbin"] {
        tree.dir(dir)?;
    }
    receipt(tree, "org.harbour.tidelamp", "1.4.0", "opt/tidelamp", &["bin/tidelamp"])?;
    let chartcase = ["Chartcase.app/Contents/Info.plist", "Chartcase.app/Contents/MacOS/chartcase"];
    receipt(tree, "org.harbour.chartcase", "1.4.0", "Applications", &chartcase)?;
    for (at, id, version, program) in [
        ("Applications/Chartcase.app", "org.harbour.chartcase", "1.4.0", "chartcase"),
        ("Applications/Tidebook.app", "org.harbour.tidebook", "3.2", "tidebook"),
        ("Applications/Ferrysign.app", "org.harbour.ferrysign", "2.1", "ferrysign"),
        ("Users/isolde/Applications/Heronlog.app", "org.harbour.heronlog", "9.1", "heronlog"),
    ] {
        bundle(tree, at, id, version, program)?;
    }
    let registry = "opt/local/var/macports/registry/registry.db";
    tree.dir("opt/local/var/macports/registry")?;
    let database = Connection::open(tree.place(registry));
    database.and_then(|made| made.execute_batch(PORTS)).map_err(|error| tree.trouble(registry, error))?;
    tree.date_dirs(SET_UP)
}
