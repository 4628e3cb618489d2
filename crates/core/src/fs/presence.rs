//! Which of many names are in a directory.

#![expect(clippy::disallowed_methods, reason = "part of the fs module")]

use hashbrown::HashMap;
use rustix::fs::{AtFlags, Dir as DirStream, Mode, OFlags};
use rustix::io::Errno;

use super::{FsError, Root};

/// A directory is listed where it takes, for each name that is asked for, no more bytes on its disk. An entry takes about
/// 30, and to look a name up as long as to list four.
const MAX_BYTES_PER_NAME: u64 = 100;
/// Where so many names are asked for, a directory of one block is listed in any case.
const WORTH_LISTING: usize = 8;
/// A block, in bytes: the smallest size of a directory on many file systems.
const BLOCK: u64 = 4096;

impl Root {
    /// Which of these names are entries of a directory, whatever they are and wherever links lead.
    ///
    /// # Errors
    /// When there is no such directory, or when one of the names can neither be found nor be said to be missing. That is
    /// not remembered as a gap: the names can be looked up one by one.
    pub fn present(&self, dir: &[u8], names: &[&[u8]]) -> Result<Vec<bool>, FsError> {
        let trouble = |errno| FsError::new(dir, errno);
        // Not to be read is no obstacle to looking names up.
        let opened = self.open_raw(dir, OFlags::PATH | OFlags::DIRECTORY).map_err(trouble)?;
        let bytes = rustix::fs::fstat(&opened).map_err(trouble)?.st_size;
        let bytes = u64::try_from(bytes).unwrap_or(u64::MAX);
        let is_small = bytes <= BLOCK && names.len() >= WORTH_LISTING;
        let is_dense = is_small || bytes <= names.len() as u64 * MAX_BYTES_PER_NAME;
        if is_dense
            && let Ok(readable) = rustix::fs::openat(&opened, ".", OFlags::RDONLY | OFlags::DIRECTORY, Mode::empty())
            && let Ok(listed) = DirStream::new(readable)
            && let Ok(found) = listed_among(listed, names)
        {
            return Ok(found);
        }
        let is_there = |name: &&[u8]| match rustix::fs::statat(&opened, *name, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(_) => Ok(true),
            Err(Errno::NOENT) => Ok(false),
            Err(errno) => Err(trouble(errno)),
        };
        names.iter().map(is_there).collect()
    }
}

/// Which of the names a listing has.
fn listed_among(listed: DirStream, names: &[&[u8]]) -> Result<Vec<bool>, Errno> {
    let mut places: HashMap<&[u8], Vec<usize>> = HashMap::with_capacity(names.len());
    for (place, name) in names.iter().enumerate() {
        places.entry(name).or_default().push(place);
    }
    let mut found = vec![false; names.len()];
    for entry in listed {
        let known = places.get(entry?.file_name().to_bytes());
        known.into_iter().flatten().for_each(|place| found[*place] = true);
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Listed or looked up one by one, it is the same: few names in a large directory, many in a small one.
    #[test]
    #[expect(clippy::disallowed_methods, reason = "builds the tree that it looks at")]
    fn names_are_found_whether_the_directory_is_listed_or_not() {
        let tree = tempfile::tempdir().unwrap();
        let dir = tree.path().join("quay");
        std::fs::create_dir_all(dir.join("inner")).unwrap();
        (0..400).for_each(|number| std::fs::write(dir.join(format!("berth-{number}")), "").unwrap());
        std::os::unix::fs::symlink("/nowhere", dir.join("loose")).unwrap();
        let root = Root::offline(tree.path()).unwrap();
        let all: Vec<String> = (0..500).map(|number| format!("berth-{number}")).collect();
        for count in [1, 3, 9, 60, 500] {
            let mut names: Vec<&[u8]> = all.iter().rev().take(count).map(String::as_bytes).collect();
            names.extend([&b"inner"[..], b"loose", b"berth-7", b"berth-7", b"berth"]);
            let found = root.present(b"/quay", &names).unwrap();
            let expected = names.iter().map(|name| root.entry(&[b"/quay/", *name].concat()).is_ok());
            assert_eq!(found, expected.collect::<Vec<_>>(), "{count}");
        }
        assert!(root.present(b"/pier", &[b"berth"]).is_err_and(|error| error.is_missing()));
        assert!(root.present(b"/quay/berth-1", &[b"berth"]).is_err_and(|error| error.is_missing()));
        assert_eq!(root.gaps(), []);
    }
}
