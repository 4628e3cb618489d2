//! The single-file bundle's part: `foghorn` at two versions in two directories, of which one is not executable
//! and the other has a launcher of maren's.

use std::io::Cursor;

use backhand::{FilesystemWriter, NodeHeader};

use crate::WriteError;
use crate::binary::elf;
use crate::machine::SET_UP;
use crate::tree::Tree;

const DAY: i64 = 86_400;

/// A bundle of type 2: the ELF part with the mark and the update information, and the image behind it.
pub fn bundle(update: &str, image: &[u8]) -> Vec<u8> {
    let mut information = update.as_bytes().to_vec();
    information.resize(1024, 0);
    let mut file = elf(&[(".upd_info", 1, information), (".sha256_sig", 1, vec![0; 64])]);
    file[8..11].copy_from_slice(b"AI\x02");
    file.extend(image);
    file
}

/// A squashfs image with these files.
pub fn image(files: &[(&str, &str)]) -> Result<Vec<u8>, backhand::BackhandError> {
    let date = u32::try_from(SET_UP).unwrap_or(0);
    let header = NodeHeader { permissions: 0o755, uid: 0, gid: 0, mtime: date };
    let mut image = FilesystemWriter::default();
    image.set_time(date);
    image.set_root_mode(0o755);
    for (path, content) in files {
        if let Some((dir, _)) = path.rsplit_once('/') {
            image.push_dir_all(dir, header)?;
        }
        image.push_file(Cursor::new(content.as_bytes().to_vec()), path, header)?;
    }
    let mut out = Cursor::new(Vec::new());
    image.write(&mut out)?;
    Ok(out.into_inner())
}

fn payload(version: &str) -> Result<Vec<u8>, backhand::BackhandError> {
    let entry = format!(
        "[Desktop Entry]\nType=Application\nName=Foghorn\nExec=foghorn %F\nIcon=foghorn\nX-AppImage-Version={version}\n"
    );
    image(&[("foghorn.desktop", &entry), ("AppRun", "#!/bin/sh\n")])
}

/// Writes both, and the launcher.
pub fn write(tree: &Tree) -> Result<(), WriteError> {
    const UPDATE: &str = "zsync|https://foghorn.example/Foghorn-latest-x86_64.AppImage.zsync";
    let kept = "/home/maren/Applications/Foghorn-1.4.0-x86_64.AppImage";
    let stray = "/home/maren/Downloads/Foghorn-1.5.0-x86_64.AppImage";
    for (path, version, mode, date) in
        [(kept, "1.4.0", 0o755, SET_UP + 16 * DAY), (stray, "1.5.0", 0o644, SET_UP + 44 * DAY)]
    {
        let image = payload(version).map_err(|error| tree.trouble(path, error))?;
        tree.file(path, &bundle(UPDATE, &image), mode, date)?;
    }
    let entry = format!("[Desktop Entry]\nType=Application\nName=Foghorn\nExec={kept} %F\n");
    tree.file("home/maren/.local/share/applications/foghorn.desktop", entry.as_bytes(), 0o644, SET_UP + 16 * DAY)
}
