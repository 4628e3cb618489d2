//! Answers that are each user's own, of which those that say the same are told once.

use hashbrown::HashMap;

use crate::bytes::ByteString;

/// One answer about a name, for one user or several.
pub(crate) trait OfUsers: PartialEq + Sized {
    /// What it is about.
    fn name(&self) -> &ByteString;

    /// The users for whom it is so; empty where nobody in particular asked.
    fn users(&mut self) -> &mut Vec<ByteString>;

    /// What it says, without the users and without those files of one user's that make it so.
    fn essence(&self) -> Self;
}

/// The answers for each user, in their order. Those that say the same are one, with all of its users.
pub(crate) fn merged<T: OfUsers>(of_each: impl IntoIterator<Item = T>) -> Vec<T> {
    let mut merged: Vec<T> = Vec::new();
    // The places of a name's answers, each with what it says.
    let mut known: HashMap<ByteString, Vec<(usize, T)>> = HashMap::new();
    for mut one in of_each {
        let essence = one.essence();
        let of_name = known.entry_ref(one.name()).or_default();
        match of_name.iter().find(|(_, says)| *says == essence) {
            Some((at, _)) => {
                let users = merged[*at].users();
                // What several users start as root is root's for each of them.
                one.users().retain(|user| !users.contains(user));
                users.append(one.users());
            }
            None => {
                of_name.push((merged.len(), essence));
                merged.push(one);
            }
        }
    }
    merged
}
