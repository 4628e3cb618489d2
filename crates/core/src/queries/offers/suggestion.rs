//! Which offer to take, by the user's own settings, with the reasons.

use std::cmp::{Ordering, Reverse};

use schemars::JsonSchema;
use serde::Serialize;

use super::{Offered, upstream_order};
use crate::bytes::ByteString;
use crate::managers;
use crate::model::{Evidence, ManagerKind, Offer};

/// What the settings say of sources.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Preferences {
    /// Which sources come first: managers, names of sources, or `distribution` and `sandboxed`.
    pub prefer: Vec<String>,
    /// Whether the newest version comes before anything else.
    pub newest: bool,
    /// Whether the smallest comes first, with all that it brings along.
    pub smallest: bool,
    /// Whether what is confined comes before what is not.
    pub confined: bool,
    /// The file that says so.
    pub file: Option<ByteString>,
}

/// The offer to take.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Suggestion {
    /// Its place in `offers`, counted from 0.
    pub offer: usize,
    /// Why, each with the setting or the record that says so.
    pub because: Vec<Evidence>,
}

/// The order of sources where none is set.
const USUAL: [&str; 2] = ["distribution", "sandboxed"];

impl Preferences {
    fn words(&self) -> Vec<&str> {
        match self.prefer.is_empty() {
            true => USUAL.to_vec(),
            false => self.prefer.iter().map(String::as_str).collect(),
        }
    }

    /// Where a source stands in the order of preference.
    pub(super) fn rank(&self, offer: &Offer) -> usize {
        self.words().iter().position(|word| fits(word, offer)).unwrap_or(usize::MAX)
    }

    fn setting(&self, key: &str, says: String) -> Evidence {
        match &self.file {
            Some(file) => Evidence::at(file.clone(), format!("sources.{key}"), says),
            None => Evidence::compiled_in("whodunit", says),
        }
    }

    /// Orders two offers, the one to take first.
    pub(super) fn order(&self, a: &Offered, b: &Offered) -> Ordering {
        let is_confined = |one: &Offered| one.offer.confinement.as_deref().is_some_and(|word| word != "none");
        let size = |one: &Offered| total(one).unwrap_or(u64::MAX);
        let when = |is_set: bool, order: Ordering| if is_set { order } else { Ordering::Equal };
        when(self.confined, is_confined(b).cmp(&is_confined(a)))
            .then(when(self.newest, upstream_order(&b.offer, &a.offer)))
            .then(when(self.smallest, size(a).cmp(&size(b))))
            .then_with(|| self.rank(&a.offer).cmp(&self.rank(&b.offer)))
            .then_with(|| b.offer.candidate.cmp(&a.offer.candidate))
            .then_with(|| upstream_order(&b.offer, &a.offer))
    }

    /// Why an offer comes first among these.
    pub(super) fn reasons(&self, first: &Offered, all: &[&Offered]) -> Vec<Evidence> {
        let mut because = Vec::new();
        let offer = &first.offer;
        let at = || offer.evidence.first().cloned();
        let others = all.iter().filter(|one| !std::ptr::eq(**one, first)).count();
        if others == 0 {
            let says = "no other source that was asked has it".to_owned();
            because.extend(at().map(|at| Evidence { says, ..at }));
        }
        if self.confined && offer.confinement.as_deref().is_some_and(|word| word != "none") {
            because.push(self.setting("confined", "what is confined comes first".to_owned()));
        }
        if self.newest && first.newest && others > 0 {
            because.push(self.setting("newest", "the newest version comes first".to_owned()));
        }
        if self.smallest && total(first).is_some() && others > 0 {
            because.push(self.setting("smallest", "the smallest comes first".to_owned()));
        }
        let word = self.words().into_iter().find(|word| fits(word, offer)).map(str::to_owned);
        if let Some(word) = word.filter(|_| others > 0) {
            let says = match self.prefer.is_empty() {
                true => format!("{word} comes first where no order is set"),
                false => format!("{word} comes first"),
            };
            because.push(self.setting("prefer", says));
        }
        if offer.installed {
            because.extend(at().map(|at| Evidence { says: "this version is installed already".to_owned(), ..at }));
        } else if first.newest && !self.newest && others > 0 {
            because.extend(at().map(|at| Evidence { says: "no newer version is known".to_owned(), ..at }));
        }
        because
    }
}

/// Bytes to fetch with everything that comes along.
fn total(one: &Offered) -> Option<u64> {
    let more = one.pulls_in.as_ref().map_or(Some(0), |pulled| pulled.download_size)?;
    Some(one.offer.download_size? + more)
}

fn fits(word: &str, offer: &Offer) -> bool {
    let source = offer.source.as_ref();
    match word {
        "distribution" => source.and_then(|source| source.trust.as_deref()) == Some("distribution"),
        "sandboxed" => managers::profile(offer.manager).kind == ManagerKind::Sandbox,
        word => {
            let is_named = |name: &ByteString| {
                *name == *word || name.split(|b| matches!(b, b' ' | b'/')).any(|part| part == word.as_bytes())
            };
            offer.manager.0 == word || source.is_some_and(|source| is_named(&source.name))
        }
    }
}

/// Puts offers in order: the newest first, and of one version the one that the settings prefer.
pub(super) fn tie(preferences: &Preferences, a: &Offer, b: &Offer) -> Ordering {
    preferences.rank(a).cmp(&preferences.rank(b)).then_with(|| Reverse(a.candidate).cmp(&Reverse(b.candidate)))
}
