//! Which packages of different managers are the same software, and why we think so.
//!
//! Two packages are likened by what they have in common. Each thing has a weight, and packages whose weights come to
//! [`ENOUGH`] are one title:
//!
//! | in common | weight |
//! |---|---|
//! | a user said so | [`ENOUGH`], whatever else |
//! | the name in the registry of one language, also as `python3-x` of a distribution | 100 |
//! | the reversed-domain id of an app | 100 |
//! | the main command, called as the package is | 60 |
//! | the name, without what managers add to it | 50 |
//! | the address of upstream | 60 |
//! | the id of a launcher | 40 |
//! | addresses of upstream that differ | −40 |
//! | registries of different languages | −60 |
//! | the registry of a language, and a package that does not depend on its interpreter | −60 |
//!
//! A wrong union is worse than a missed one: a name alone is never enough, and a title never gets two packages of one
//! installation that have different names.

mod naming;

use hashbrown::HashMap;

use crate::backend::runtimes;
use crate::bytes::ByteString;
use crate::managers;
pub use crate::model::Rules;
use crate::model::{ManagerId, Scope};

pub use crate::model::Language;
pub use naming::{key_of, language_of};

/// From this weight on, two packages are the same software.
pub const ENOUGH: i32 = 100;

/// The features that can identify the software of a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Known {
    /// Who records it.
    pub manager: ManagerId,
    /// Whose it is.
    pub scope: Scope,
    /// Its name, as the manager spells it.
    pub name: ByteString,
    /// The source that its packagers made it from.
    pub source: Option<ByteString>,
    /// The names of its commands; of an app in a sandbox, of the programs that it starts.
    pub commands: Vec<ByteString>,
    /// The ids of its launchers, without `.desktop`.
    pub launchers: Vec<ByteString>,
    /// The address of upstream.
    pub upstream: Option<ByteString>,
    /// The languages whose interpreters it depends on; `None` where that is not known.
    pub runtimes: Option<Vec<Language>>,
}

/// Whether a rule's word means a package.
fn means(word: &ByteString, known: &Known) -> bool {
    match memchr::memchr(b':', word) {
        Some(at) => word[..at] == *known.manager.0.as_bytes() && word[at + 1..] == *known.name,
        None => **word == *known.name,
    }
}

/// Whether a user says that two packages are one piece of software.
fn says_same(rules: &Rules, a: &Known, b: &Known) -> bool {
    rules.same.iter().any(|list| [a, b].iter().all(|one| list.iter().any(|word| means(word, one))))
}

/// Why two packages are one title.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Likeness {
    /// The packages, by their places.
    pub pair: (usize, usize),
    /// The sum.
    pub weight: i32,
    /// What they have in common, each with its weight.
    pub because: Vec<(i32, String)>,
}

/// The titles of a machine.
#[derive(Debug, Clone, Default)]
pub struct Titles {
    /// The title of each package, by its place; none where no other package is the same software.
    pub of: Vec<Option<u32>>,
    /// What each title is called.
    pub names: Vec<ByteString>,
    /// Why: one for each union that was made.
    pub because: Vec<Likeness>,
}

impl Titles {
    /// The places of the packages of a title.
    #[must_use]
    pub fn members(&self, title: u32) -> Vec<usize> {
        self.of.iter().enumerate().filter(|(_, of)| **of == Some(title)).map(|(place, _)| place).collect()
    }
}

/// A feature that more packages than this share is not used to pair them.
const MAX_ALIKE: usize = 64;

/// Finds the titles.
#[must_use]
pub fn cluster(known: &[Known], rules: &Rules) -> Titles {
    let traits: Vec<Traits> = known.iter().map(Traits::of).collect();
    let mut pairs: Vec<Likeness> = candidates(known, &traits, rules)
        .into_iter()
        .filter_map(|pair| {
            let likeness = liken(known, &traits, rules, pair);
            (likeness.weight >= ENOUGH).then_some(likeness)
        })
        .collect();
    // A distribution's package is sooner the same as another distribution's than as one of a language's registry.
    let in_registry = |one: &Likeness| [one.pair.0, one.pair.1].iter().any(|place| traits[*place].language.is_some());
    pairs.sort_by_key(|one| (std::cmp::Reverse(one.weight), in_registry(one), one.pair));
    let mut groups: Vec<Vec<usize>> = (0..known.len()).map(|place| vec![place]).collect();
    let mut of: Vec<usize> = (0..known.len()).collect();
    let mut because = Vec::new();
    for likeness in pairs {
        let (a, b) = (of[likeness.pair.0], of[likeness.pair.1]);
        if a == b || !may_join(known, &traits, rules, &groups[a], &groups[b]) {
            continue;
        }
        let moved = std::mem::take(&mut groups[b]);
        moved.iter().for_each(|place| of[*place] = a);
        groups[a].extend(moved);
        because.push(likeness);
    }
    let mut titles = Titles { of: vec![None; known.len()], names: Vec::new(), because };
    for group in groups.iter().filter(|group| group.len() > 1) {
        let number = u32::try_from(titles.names.len()).unwrap_or(u32::MAX);
        group.iter().for_each(|place| titles.of[*place] = Some(number));
        titles.names.push(called(group, &traits));
    }
    titles
}

/// The name that most of its packages have, and of those the shortest.
fn called(group: &[usize], traits: &[Traits]) -> ByteString {
    let mut counts: HashMap<&ByteString, usize> = HashMap::new();
    for place in group {
        *counts.entry(&traits[*place].key).or_default() += 1;
    }
    let best = counts
        .into_iter()
        .max_by_key(|(name, count)| (*count, std::cmp::Reverse(name.len()), std::cmp::Reverse(*name)));
    best.map(|(name, _)| name.clone()).unwrap_or_default()
}

/// The features of a package that are compared.
struct Traits {
    key: ByteString,
    language: Option<(Language, ByteString)>,
    /// The packagers named its source differently.
    source: Option<ByteString>,
    id: Option<ByteString>,
    upstream: Option<ByteString>,
}

impl Traits {
    fn of(known: &Known) -> Self {
        let naming = managers::profile(known.manager).naming;
        let key = key_of(naming, &known.name);
        let source = known.source.as_ref().map(|source| key_of(naming, source)).filter(|source| *source != key);
        let ids = std::iter::once(&known.name).chain(&known.launchers);
        Traits {
            language: language_of(naming, &known.name),
            source,
            id: ids.into_iter().find(|id| naming::is_reversed_domain(id)).map(|id| id.to_ascii_lowercase().into()),
            upstream: known.upstream.as_ref().and_then(|address| naming::address(address)),
            key,
        }
    }

    fn is_called(&self, command: &ByteString) -> bool {
        command.to_ascii_lowercase() == *self.key || self.source.as_ref().is_some_and(|source| source == command)
    }
}

/// The language in whose registry one of two is, though the other runs without it.
fn foreign(known: [&Known; 2], traits: [&Traits; 2]) -> Option<Language> {
    let is_without = |(of_one, other): (&Traits, &Known)| {
        let (language, _) = of_one.language.as_ref().filter(|(language, _)| runtimes::is_told(*language))?;
        (!other.runtimes.as_ref()?.contains(language)).then_some(*language)
    };
    let is_of_both = traits.iter().all(|one| one.language.is_some());
    let found = [(traits[0], known[1]), (traits[1], known[0])].into_iter().find_map(is_without);
    found.filter(|_| !is_of_both)
}

/// Whether two groups may be one title: no two packages of one installation that are called otherwise, none of a
/// language's registry with one that runs without it, unless they have one address, and nothing that a user keeps apart.
fn may_join(known: &[Known], traits: &[Traits], rules: &Rules, a: &[usize], b: &[usize]) -> bool {
    let pairs = || a.iter().flat_map(|one| b.iter().map(move |other| (*one, *other)));
    pairs().all(|(one, other)| {
        let of_both = [&traits[one], &traits[other]];
        let (one, other) = (&known[one], &known[other]);
        let is_upstream_same = of_both[0].upstream.is_some() && of_both[0].upstream == of_both[1].upstream;
        if !is_upstream_same && foreign([one, other], of_both).is_some() && !says_same(rules, one, other) {
            return false;
        }
        let is_kept_apart = rules.different.iter().any(|list| {
            let at = |known: &Known| list.iter().position(|word| means(word, known));
            matches!((at(one), at(other)), (Some(x), Some(y)) if x != y)
        });
        let is_same_place = one.manager == other.manager && one.scope == other.scope;
        !is_kept_apart && (!is_same_place || one.name == other.name)
    })
}

/// Pairs that have something in common.
fn candidates(known: &[Known], traits: &[Traits], rules: &Rules) -> Vec<(usize, usize)> {
    let mut by_trait: HashMap<(u8, ByteString), Vec<usize>> = HashMap::new();
    for (place, (one, of)) in known.iter().zip(traits).enumerate() {
        let mut add = |sort: u8, what: ByteString| by_trait.entry((sort, what)).or_default().push(place);
        add(0, of.key.clone());
        of.source.iter().for_each(|source| add(0, source.clone()));
        of.language.iter().for_each(|(_, name)| add(1, name.clone()));
        of.id.iter().for_each(|id| add(2, id.clone()));
        of.upstream.iter().for_each(|address| add(3, address.clone()));
        one.commands.iter().for_each(|command| add(4, command.clone()));
        for (number, list) in rules.same.iter().enumerate() {
            if list.iter().any(|word| means(word, one)) {
                add(5, number.to_string().into());
            }
        }
    }
    let mut pairs: Vec<(usize, usize)> = Vec::new();
    for ((sort, _), mut places) in by_trait {
        places.dedup();
        if places.len() > MAX_ALIKE && sort != 5 {
            continue;
        }
        for (at, one) in places.iter().enumerate() {
            pairs.extend(places[at + 1..].iter().map(|other| (*one.min(other), *one.max(other))));
        }
    }
    pairs.sort_unstable();
    pairs.dedup();
    // Two packages of one installation are told apart by their manager itself.
    pairs.retain(|(a, b)| {
        let (a, b) = (&known[*a], &known[*b]);
        a.manager != b.manager || a.name == b.name
    });
    pairs
}

fn liken(known: &[Known], traits: &[Traits], rules: &Rules, pair: (usize, usize)) -> Likeness {
    let ((a, of_a), (b, of_b)) = ((&known[pair.0], &traits[pair.0]), (&known[pair.1], &traits[pair.1]));
    let mut because: Vec<(i32, String)> = Vec::new();
    if says_same(rules, a, b) {
        because.push((ENOUGH * 10, "the configuration file says so".to_owned()));
    }
    match (&of_a.language, &of_b.language) {
        (Some(x), Some(y)) if x == y => because.push((100, format!("both are {} of {}", x.1, x.0.word()))),
        (Some((x, _)), Some((y, _))) if x != y => {
            because.push((-60, format!("one is of {}, the other of {}", x.word(), y.word())));
        }
        _ => {}
    }
    if let Some(language) = foreign([a, b], [of_a, of_b]) {
        because.push((-60, format!("one is of {}, the other runs without it", language.word())));
    }
    if a.manager == b.manager && a.name == b.name {
        because.push((100, format!("both have the name {} in {}", a.name, a.manager)));
    }
    if let (Some(x), Some(y)) = (&of_a.id, &of_b.id)
        && x == y
    {
        because.push((100, format!("both have the id {x}")));
    }
    let is_same_name =
        of_a.key == of_b.key || of_a.source.as_ref() == Some(&of_b.key) || of_b.source.as_ref() == Some(&of_a.key);
    if is_same_name {
        because.push((
            50,
            format!(
                "both have the name {}",
                if of_a.source.as_ref() == Some(&of_b.key) { &of_b.key } else { &of_a.key }
            ),
        ));
    }
    let main = a
        .commands
        .iter()
        .find(|command| b.commands.contains(command) && (of_a.is_called(command) || of_b.is_called(command)));
    if let Some(command) = main {
        because.push((60, format!("both provide the command {command}")));
    }
    match (&of_a.upstream, &of_b.upstream) {
        (Some(x), Some(y)) if x == y => because.push((60, format!("both come from {x}"))),
        (Some(x), Some(y)) => because.push((-40, format!("one comes from {x}, the other from {y}"))),
        _ => {}
    }
    if let Some(launcher) =
        a.launchers.iter().find(|launcher| b.launchers.contains(launcher) && !naming::is_reversed_domain(launcher))
    {
        because.push((40, format!("both provide the launcher {launcher}")));
    }
    Likeness { pair, weight: because.iter().map(|(weight, _)| weight).sum(), because }
}
