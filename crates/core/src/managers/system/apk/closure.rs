//! What `apk add` would install along with a package: `D:` within the indexes that were fetched, and what `i:` adds.
//!
//! Follows `apk-package(5)`: a need is a name, what is provided (`so:`, `cmd:`, `pc:`), perhaps with `=`, `<`, `<=`, `>`,
//! `>=` or `~` and a version; `!` before it is a conflict. A package with `i:` is installed once all that it names is.
//!
//! Trap: of a version behind `~` only the beginning counts, so that any version is taken here, and the answer is said
//! to be uncertain.

use hashbrown::HashSet;

use crate::backend::closure::{Candidate, Present, closure_until};
use crate::backend::dependency_graph::{Need, Node, Want, sign_of};
use crate::bytes::ByteString;
use crate::model::{Offer, Pulled, PullsIn, Relation};
use crate::version::gentoo;
use whodunit_formats::stanza::{Stanza, stanzas};

/// What installing an offer brings along, from the stanzas of the database and of the indexes in their order; `None`
/// where its entry is not found again.
pub(super) fn of(installed: &[u8], indexes: &[Vec<u8>], offer: &Offer) -> Option<PullsIn> {
    let here: Vec<Node> = stanzas(installed).filter_map(|stanza| Some(Listed::of(stanza)?.candidate.node)).collect();
    let mut listed: Vec<Listed> = indexes.iter().flat_map(|index| stanzas(index).filter_map(Listed::of)).collect();
    // The newest first.
    listed.sort_by(|a, b| gentoo::compare(b.version(), a.version()));
    let is_it = |one: &&Listed| {
        one.candidate.package.name == offer.name && one.candidate.package.version.as_ref() == offer.version.as_ref()
    };
    let start = listed.iter().find(is_it)?;
    let mut lookup = |names: &HashSet<Vec<u8>>| {
        let has = |one: &&Listed| one.candidate.node.offers.iter().any(|(name, _)| names.contains(name));
        listed.iter().filter(has).map(|one| one.candidate.clone()).collect()
    };
    let order = |a: &[u8], b: &[u8]| gentoo::compare(a, b);
    let before = Present::new(&here, &order);
    // What comes along, and the package itself.
    let new = |found: &PullsIn| -> Vec<&Listed> {
        listed.iter().filter(|one| found.packages.contains(&one.candidate.package)).chain([start]).collect()
    };
    let mut joining = |found: &PullsIn| {
        let after = before.clone().with(new(found).into_iter().map(|one| &one.candidate.node));
        let joins = |one: &&Listed| {
            let all_in = |present: &Present<'_>| one.joins.iter().all(|want| present.meets(want));
            !one.joins.is_empty() && all_in(&after) && !all_in(&before)
        };
        listed.iter().filter(joins).map(|one| Need::of(&one.candidate.package.name, Relation::Recommends)).collect()
    };
    let mut found = closure_until(&start.candidate.node, &here, &mut lookup, &order, &mut joining)?;
    found.complete &= !new(&found).iter().any(|one| one.is_vague);
    Some(found)
}

/// A package of an index.
struct Listed {
    candidate: Candidate,
    /// What must be there so that it is installed by itself.
    joins: Vec<Want>,
    /// Whether a need of it is not compared in full.
    is_vague: bool,
}

impl Listed {
    fn of(stanza: Stanza<'_>) -> Option<Self> {
        let field = |name: &[u8]| stanza.fields().flatten().find(|field| field.name == name).map(|field| field.value);
        let number = |name: &[u8]| std::str::from_utf8(field(name)?).ok()?.parse::<u64>().ok();
        let (name, version) = (field(b"P")?, field(b"V")?);
        let mut is_vague = false;
        let mut wants = |list: Option<&[u8]>| -> Vec<Want> {
            let words = list.unwrap_or_default().split(u8::is_ascii_whitespace);
            let words = words.filter(|word| !word.is_empty() && !word.starts_with(b"!"));
            words.map(|word| want(word, &mut is_vague)).collect()
        };
        let (needs, joins) = (wants(field(b"D")), wants(field(b"i")));
        let mut node = Node::default();
        node.offers.push((name.to_vec(), Some(version.to_vec())));
        let provided = field(b"p").unwrap_or_default().split(u8::is_ascii_whitespace).filter(|word| !word.is_empty());
        node.offers.extend(provided.map(|word| match memchr::memchr(b'=', word) {
            Some(at) => (word[..at].to_vec(), Some(word[at + 1..].to_vec())),
            None => (word.to_vec(), None),
        }));
        node.needs.extend(needs.into_iter().map(|want| {
            let says = ByteString::from(&*want.name).to_string();
            Need { any_of: vec![want], says, relation: Relation::Requires }
        }));
        let package = Pulled {
            name: name.into(),
            version: Some(version.into()),
            download_size: number(b"S"),
            installed_size: number(b"I"),
            shared: false,
        };
        Some(Listed { candidate: Candidate { node, package }, joins, is_vague })
    }

    fn version(&self) -> &[u8] {
        self.candidate.package.version.as_deref().unwrap_or_default()
    }
}

/// One name with its version.
fn want(word: &[u8], is_vague: &mut bool) -> Want {
    let end = word.iter().position(|b| b"=<>~@".contains(b)).unwrap_or(word.len());
    let (name, rest) = word.split_at(end);
    let signs = rest.iter().take_while(|b| b"=<>~".contains(b)).count();
    let (sign, version) = rest.split_at(signs);
    *is_vague |= sign.contains(&b'~');
    let sign = sign_of(sign);
    let version = version.split(|&b| b == b'@').next().unwrap_or_default();
    Want { name: name.to_vec(), version: sign.map(|sign| (sign, version.to_vec())) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{ManagerId, Scope};

    const INSTALLED: &[u8] = b"P:musl\nV:1.2.4-r2\np:so:libc.musl.so.1=1\n\nP:tide-libs\nV:2.0-r0\np:so:libtide.so.2=2.0\n\nP:docs\nV:0.1-r0\n";
    const INDEX: &[u8] = b"P:chartplot\nV:3.0-r1\nS:10\nI:40\nD:so:libtide.so.3 so:libc.musl.so.1 paper>=2 !oldcharts\n\nP:tide-libs\nV:3.1-r0\nS:5\nI:20\np:so:libtide.so.3=3.1\n\nP:paper\nV:1.0-r0\nS:1\nI:1\n\nP:paper\nV:2.0-r0\nS:2\nI:2\nD:ruler~1\n\nP:ruler\nV:1.4-r0\nS:3\nI:3\n\nP:chartplot-doc\nV:3.0-r1\nS:4\nI:4\ni:docs chartplot=3.0-r1\n\nP:chartplot-lang\nV:3.0-r1\ni:lang chartplot\n\nP:lamp\nV:1-r0\nS:1\nI:1\nD:wick\n";

    #[test]
    fn what_comes_along_is_what_the_indexes_say() {
        let pulled = |name: &str, version: &str| {
            let offer = Offer::bare(ManagerId("apk"), Scope::System, name.into(), version.into(), None, false);
            let found = of(INSTALLED, &[INDEX.to_vec()], &offer)?;
            let mut names: Vec<String> = found
                .packages
                .iter()
                .map(|one| format!("{} {}", one.name, one.version.clone().unwrap_or_default()))
                .collect();
            names.sort();
            Some((names.join(", "), found.download_size, found.complete))
        };
        for (name, version, expected) in [
            (
                "chartplot",
                "3.0-r1",
                // The need of `ruler~1` is not compared in full.
                Some(("chartplot-doc 3.0-r1, paper 2.0-r0, ruler 1.4-r0, tide-libs 3.1-r0", Some(14), false)),
            ),
            ("tide-libs", "3.1-r0", Some(("", Some(0), true))),
            ("paper", "1.0-r0", Some(("", Some(0), true))),
            ("lamp", "1-r0", Some(("", Some(0), false))),
            ("anchor", "1-r0", None),
        ] {
            let expected = expected.map(|(names, size, complete)| (names.to_owned(), size, complete));
            assert_eq!(pulled(name, version), expected, "{name}");
        }
    }
}
