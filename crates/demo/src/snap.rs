//! The other sandboxed format's part: `chartdesk` a third time, with an older revision kept, and its base.

use crate::WriteError;
use crate::bundle::image;
use crate::machine::SET_UP;
use crate::tree::Tree;

const DAY: i64 = 86_400;
const DATE: i64 = SET_UP + 18 * DAY;
const SNAPD: &str = "/var/lib/snapd";
const ASSERTIONS: &str = "/var/lib/snapd/assertions/asserts-v0";

const STATE: &str = r#"{"data": {"snaps": {
 "chartdesk": {"type": "app", "sequence": [
   {"name": "chartdesk", "snap-id": "CHARTDESKidMadeUpForLantern00001", "revision": "41", "channel": "latest/stable"},
   {"name": "chartdesk", "snap-id": "CHARTDESKidMadeUpForLantern00001", "revision": "44", "channel": "latest/stable"}],
  "active": true, "current": "44", "channel": "latest/stable", "aliases": {"desk": {"manual": "chartdesk"}}},
 "harbour-base": {"type": "base", "sequence": [
   {"name": "harbour-base", "snap-id": "HARBOURBASEidMadeUpForLantern001", "revision": "7"}],
  "active": true, "current": "7", "channel": "latest/stable"}
}}}
"#;

/// Writes the state, the images, and what is exported.
pub fn write(tree: &Tree) -> Result<(), WriteError> {
    tree.file(&format!("{SNAPD}/state.json"), STATE.as_bytes(), 0o600, DATE)?;
    for (name, revision, version) in
        [("chartdesk", "41", "2.9.0"), ("chartdesk", "44", "3.0.2"), ("harbour-base", "7", "2026.1")]
    {
        let about = match name {
            "chartdesk" => format!(
                "name: chartdesk\nversion: {version}\nbase: harbour-base\nconfinement: strict\narchitectures: [amd64]\napps:\n  chartdesk: {{command: bin/chartdesk, plugs: [home]}}\n  tided: {{command: bin/tided, daemon: simple}}\n"
            ),
            _ => format!("name: {name}\nversion: {version}\ntype: base\narchitectures: [amd64]\n"),
        };
        let path = format!("{SNAPD}/snaps/{name}_{revision}.snap");
        let image = image(&[("meta/snap.yaml", &about)]).map_err(|error| tree.trouble(&path, error))?;
        tree.file(&path, &image, 0o600, DATE)?;
        // Nothing is mounted on a disk that is at rest.
        tree.dir(&format!("/snap/{name}/{revision}"))?;
    }
    tree.dated_link("/snap/chartdesk/current", "44", DATE)?;
    tree.dated_link("/snap/harbour-base/current", "7", DATE)?;
    tree.link("/snap/bin/chartdesk", "/usr/bin/snap")?;
    tree.link("/snap/bin/desk", "chartdesk")?;
    let entry = "[Desktop Entry]\nX-SnapInstanceName=chartdesk\nType=Application\nName=Chart Desk (snap)\nExec=env BAMF_DESKTOP_FILE_HINT=/var/lib/snapd/desktop/applications/chartdesk_chartdesk.desktop /snap/bin/chartdesk %U\n";
    tree.file(&format!("{SNAPD}/desktop/applications/chartdesk_chartdesk.desktop"), entry.as_bytes(), 0o644, DATE)?;
    let declaration =
        "type: snap-declaration\nsnap-name: chartdesk\npublisher-id: QUAYWORKSidMadeUp000000000000001\n\nAAAA\n";
    let account = "type: account\nusername: quayworks\ndisplay-name: Quay Works\nvalidation: verified\n\nAAAA\n";
    tree.file(
        &format!("{ASSERTIONS}/snap-declaration/16/CHARTDESKidMadeUpForLantern00001/active"),
        declaration.as_bytes(),
        0o644,
        DATE,
    )?;
    tree.file(
        &format!("{ASSERTIONS}/account/QUAYWORKSidMadeUp000000000000001/active"),
        account.as_bytes(),
        0o644,
        DATE,
    )?;
    tree.file("/home/maren/snap/chartdesk/common/desk.conf", b"scale = 1\n", 0o644, DATE)
}
