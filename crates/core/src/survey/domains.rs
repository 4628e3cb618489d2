//! Which installations can say anything of a path: with thousands of homes, those of one user.

use hashbrown::HashMap;

use super::Survey;
use crate::backend::{FileIndex, Installation};
use crate::bytes::{ByteString, path};

/// The numbers of the installations, by the directories outside of which they claim nothing.
#[derive(Debug)]
pub(super) struct Domains {
    /// Those that may claim any path.
    everywhere: Vec<u16>,
    within: HashMap<ByteString, Vec<u16>>,
}

impl Domains {
    fn of<'h>(installations: impl Iterator<Item = &'h dyn Installation>) -> Self {
        let (mut everywhere, mut within) = (Vec::new(), HashMap::<ByteString, Vec<u16>>::new());
        for (holder, held) in (0..).zip(installations) {
            match held.file_index().and_then(FileIndex::domain) {
                Some(dirs) => dirs.iter().for_each(|dir| within.entry(plain(dir)).or_default().push(holder)),
                None => everywhere.push(holder),
            }
        }
        Domains { everywhere, within }
    }

    /// Those in whose domain a canonical path lies, in the order of their numbers.
    fn around(&self, canonical: &[u8]) -> Vec<u16> {
        let mut found = self.everywhere.clone();
        let mut dir = canonical;
        loop {
            found.extend(self.within.get(dir).into_iter().flatten());
            if dir.len() <= 1 {
                break;
            }
            dir = path::parent(dir);
        }
        found.sort_unstable();
        found.dedup();
        found
    }
}

/// A directory as [`path::parent`] gives it.
fn plain(dir: &[u8]) -> ByteString {
    match dir.strip_suffix(b"/").unwrap_or(dir) {
        b"" => "/".into(),
        dir => dir.into(),
    }
}

impl Survey<'_> {
    /// The installations that may claim a canonical path, or know what it starts; the others need not be asked.
    pub(super) fn installations_around(&self, canonical: &[u8]) -> impl Iterator<Item = (u16, &dyn Installation)> {
        let all = self.installations();
        let domains = self.domains.get_or_init(|| Domains::of(all.iter().map(|held| &**held)));
        domains.around(canonical).into_iter().map(|holder| (holder, &*all[usize::from(holder)]))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Each installation is found once, from its directory itself and from anything below, and from nothing beside.
    #[test]
    fn installations_are_found_by_the_directories_around_a_path() {
        let within = [("/home/maren", vec![1, 3]), ("/home/maren/.keel", vec![3, 2]), ("/", vec![4])];
        let within = within.into_iter().map(|(dir, holders)| (dir.into(), holders)).collect();
        let domains = Domains { everywhere: vec![5, 0], within };
        for (path, expected) in [
            ("/home/maren", &[0, 1, 3, 4, 5][..]),
            ("/home/maren/.keel/bin/keel", &[0, 1, 2, 3, 4, 5]),
            ("/home/maren/.keeled", &[0, 1, 3, 4, 5]),
            ("/home/marenka/.keel", &[0, 4, 5]),
            ("/", &[0, 4, 5]),
        ] {
            assert_eq!(domains.around(path.as_bytes()), expected, "{path}");
        }
    }
}
