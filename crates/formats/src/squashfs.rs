//! A few small files out of a squashfs image, at any offset of a file (*Squashfs 4.0 Filesystem Format*).
//!
//! The image is decoded by a library. Before that, its superblock is looked at: an image that is longer
//! than the file that holds it is truncated, and one whose tables of inodes and directories are larger than
//! those of any real image is not unpacked at all.

use std::io::{BufReader, Read, Seek, SeekFrom};
use std::path::Path;

use backhand::{FilesystemReader, InnerNode};

use crate::caught::caught;

/// The most of the tables of inodes and directories, packed.
const MAX_TABLES: u64 = 2 << 20;
/// The most files and directories.
const MAX_INODES: u32 = 1_000_000;
/// The most links that are followed inside an image.
const MAX_LINKS: usize = 8;

/// A file from an image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unpacked {
    /// Its path in the image.
    pub path: String,
    /// What it holds, up to the limit.
    pub content: Vec<u8>,
}

/// Unpacks the files that `wanted` says yes to, links to files followed, at most `limit` bytes of each.
///
/// # Errors
/// In words, when there is no image at the offset, or it is cut off or damaged.
pub fn unpack<R>(
    mut file: R,
    size: u64,
    offset: u64,
    wanted: &dyn Fn(&str) -> bool,
    limit: u64,
) -> Result<Vec<Unpacked>, String>
where
    R: Read + Seek + Send,
{
    let mut block = [0_u8; 96];
    file.seek(SeekFrom::Start(offset)).map_err(|error| error.to_string())?;
    file.read_exact(&mut block).map_err(|_| "not a squashfs image: the file is too short".to_owned())?;
    check(&block, size.saturating_sub(offset))?;
    file.seek(SeekFrom::Start(0)).map_err(|error| error.to_string())?;
    // The library is not ours, and the image is a stranger's.
    let unpacked = caught(|| read(file, offset, wanted, limit));
    unpacked.unwrap_or_else(|| Err("the squashfs image cannot be decoded".to_owned()))
}

fn check(block: &[u8; 96], room: u64) -> Result<(), String> {
    let half = |at: usize| u16::from_le_bytes([block[at], block[at + 1]]);
    let word = |at: usize| u32::from_le_bytes([block[at], block[at + 1], block[at + 2], block[at + 3]]);
    let long = |at: usize| u64::from(word(at)) | u64::from(word(at + 4)) << 32;
    if block[..4] != *b"hsqs" || half(28) != 4 {
        return Err("not a squashfs image".to_owned());
    }
    let used = long(40);
    if used > room {
        return Err(format!("the squashfs image is truncated: it has {room} of {used} bytes"));
    }
    let (inodes, dirs) = (long(64), long(72));
    // What follows the directories ends them: the fragments, or else the end of the image.
    let end =
        [long(80), long(88), long(48), used].into_iter().filter(|&at| at > dirs && at <= used).min().unwrap_or(used);
    if inodes > dirs || end.saturating_sub(inodes) > MAX_TABLES || word(4) > MAX_INODES {
        return Err("the tables of the squashfs image are implausibly large; it is not unpacked".to_owned());
    }
    Ok(())
}

fn read<R>(file: R, offset: u64, wanted: &dyn Fn(&str) -> bool, limit: u64) -> Result<Vec<Unpacked>, String>
where
    R: Read + Seek + Send,
{
    let image =
        FilesystemReader::from_reader_with_offset(BufReader::new(file), offset).map_err(|error| error.to_string())?;
    let mut unpacked = Vec::new();
    for node in image.files() {
        let path = node.fullpath.to_string_lossy().into_owned();
        if !wanted(&path) {
            continue;
        }
        let mut at = node;
        for _ in 0..MAX_LINKS {
            let InnerNode::Symlink(link) = &at.inner else { break };
            let target = at.fullpath.parent().unwrap_or(Path::new("/")).join(&link.link);
            match image.files().find(|other| other.fullpath == target) {
                Some(next) => at = next,
                None => break,
            }
        }
        if let InnerNode::File(found) = &at.inner {
            let mut content = Vec::new();
            image.file(found).reader().take(limit).read_to_end(&mut content).map_err(|error| error.to_string())?;
            unpacked.push(Unpacked { path, content });
        }
    }
    Ok(unpacked)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Cursor;

    #[test]
    fn what_is_no_image_is_said() {
        let try_it =
            |bytes: &[u8]| unpack(Cursor::new(bytes.to_vec()), bytes.len() as u64, 0, &|_| true, 100).unwrap_err();
        assert!(try_it(b"short").contains("too short"));
        assert!(try_it(&[0; 200]).contains("not a squashfs image"));
        let mut long = vec![0_u8; 200];
        long[..4].copy_from_slice(b"hsqs");
        long[28] = 4;
        long[40..48].copy_from_slice(&1_000_u64.to_le_bytes());
        assert!(try_it(&long).contains("truncated"));
        long[40] = 150;
        long[41] = 0;
        long[64..72].copy_from_slice(&120_u64.to_le_bytes());
        assert!(try_it(&long).contains("implausibly large"));
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_behind_a_superblock_are_read_without_panic(rest: Vec<u8>) {
            let mut image = vec![0_u8; 96];
            image[..4].copy_from_slice(b"hsqs");
            image[4..8].copy_from_slice(&3_u32.to_le_bytes());
            image[20] = 1;
            image[28] = 4;
            image[40..48].copy_from_slice(&(96 + rest.len() as u64).to_le_bytes());
            image[64..72].copy_from_slice(&96_u64.to_le_bytes());
            image[72..80].copy_from_slice(&96_u64.to_le_bytes());
            image.extend(&rest);
            let size = image.len() as u64;
            let _ = unpack(Cursor::new(image), size, 0, &|_| true, 1000);
        }
    }
}
