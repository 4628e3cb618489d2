//! The accounts and groups of a machine, as start-up files and `sudo` ask for them.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use hashbrown::HashMap;

use super::{PASSWD, User};
use crate::bytes::ByteString;
use crate::fs::{Limit, Root};
use whodunit_formats::accounts;

/// Where groups are recorded (`group(5)`).
const GROUP: &[u8] = b"/etc/group";

/// The accounts and groups of a machine, from `passwd(5)` and `group(5)`.
#[derive(Debug)]
pub struct Accounts {
    root: User,
    homes: Arc<BTreeMap<Vec<u8>, Vec<u8>>>,
    /// In the order of the file.
    groups: Vec<Group>,
    /// The places in `groups` of those that name a user.
    of_member: HashMap<ByteString, Vec<usize>>,
    /// The places in `groups` of those with a number.
    of_number: HashMap<u32, Vec<usize>>,
}

/// A group of accounts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Group {
    /// Its name.
    pub name: ByteString,
    /// Its number.
    pub number: u32,
    /// Those who are in it beside those whose own group it is.
    pub members: Vec<ByteString>,
}

impl Accounts {
    pub(super) fn read(root: &Root) -> Self {
        // What cannot be read is noted where it is read.
        let read = |file: &[u8]| root.read(file, Limit::RECORD).unwrap_or_default();
        let (passwd, group) = (read(PASSWD), read(GROUP));
        let mut homes = BTreeMap::new();
        for account in accounts::accounts(&passwd) {
            // Of several accounts of one name the system takes the first.
            homes.entry(account.name.to_vec()).or_insert_with(|| account.home.to_vec());
        }
        let first = accounts::accounts(&passwd).find(|account| account.uid == 0);
        let root = User {
            name: first.as_ref().map_or(&b"root"[..], |one| one.name).into(),
            uid: 0,
            group: 0,
            home: first.as_ref().map_or(&b"/root"[..], |one| one.home).into(),
            shell: first.as_ref().map_or(&b"/bin/sh"[..], |one| one.shell).into(),
        };
        let mut groups = Vec::new();
        let mut of_member: HashMap<ByteString, Vec<usize>> = HashMap::new();
        let mut of_number: HashMap<u32, Vec<usize>> = HashMap::new();
        for (place, group) in accounts::groups(&group).enumerate() {
            let members: Vec<ByteString> = group.members.into_iter().map(ByteString::from).collect();
            for member in &members {
                of_member.entry(member.clone()).or_default().push(place);
            }
            of_number.entry(group.number).or_default().push(place);
            groups.push(Group { name: group.name.into(), number: group.number, members });
        }
        Accounts { root, homes: Arc::new(homes), groups, of_member, of_number }
    }

    /// The account of the user with number 0; what is usual where none is recorded.
    #[must_use]
    pub fn root(&self) -> &User {
        &self.root
    }

    /// The home of every account.
    #[must_use]
    pub fn homes(&self) -> Arc<BTreeMap<Vec<u8>, Vec<u8>>> {
        Arc::clone(&self.homes)
    }

    /// The numbers of the groups that a user is in.
    #[must_use]
    pub fn group_numbers(&self, user: &User) -> BTreeSet<u32> {
        let named = self.of_member.get(&user.name).into_iter().flatten();
        named.map(|place| self.groups[*place].number).chain([user.group]).collect()
    }

    /// The names of the groups that a user is in, in the order of the file.
    #[must_use]
    pub fn group_names(&self, user: &User) -> Vec<ByteString> {
        let named = self.of_member.get(&user.name).into_iter().flatten();
        let places: BTreeSet<usize> =
            named.chain(self.of_number.get(&user.group).into_iter().flatten()).copied().collect();
        places.into_iter().map(|place| self.groups[place].name.clone()).collect()
    }

    /// The group with a number; the first of several.
    #[must_use]
    pub fn group(&self, number: u32) -> Option<&Group> {
        self.of_number.get(&number)?.first().map(|place| &self.groups[*place])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    #[expect(clippy::disallowed_methods, reason = "builds the tree that it looks at")]
    fn the_first_of_a_name_counts_and_groups_are_told_in_their_order() {
        let tree = tempfile::tempdir().unwrap();
        std::fs::create_dir(tree.path().join("etc")).unwrap();
        let write = |name: &str, text: &str| std::fs::write(tree.path().join("etc").join(name), text).unwrap();
        write("passwd", "skipper:x:0:0::/quay:/bin/bash\nmaren:x:1000:1000::/home/maren:\nmaren:x:1001:1::/other:\n");
        write("group", "crew:x:7:maren,maren\nmaren:x:1000:\nmaren:x:1000:maren\npilots:x:8:joost\n");
        let accounts = Accounts::read(&Root::offline(tree.path()).unwrap());
        let maren =
            User { name: "maren".into(), uid: 1000, group: 1000, home: "/home/maren".into(), shell: "/bin/sh".into() };
        assert_eq!((&*accounts.root().name, &*accounts.root().home), (&b"skipper"[..], &b"/quay"[..]));
        assert_eq!(accounts.homes()[&b"maren"[..]], b"/home/maren");
        assert_eq!(accounts.group_names(&maren), ["crew", "maren", "maren"].map(ByteString::from));
        assert_eq!(accounts.group_numbers(&maren), BTreeSet::from([7, 1000]));
        assert_eq!(accounts.group(8).unwrap().members, [ByteString::from("joost")]);
        assert_eq!(accounts.group(9), None);
    }
}
