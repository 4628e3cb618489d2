//! What a shell knows: variables, functions, aliases, options; and what nobody can know without running something.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::lists::{LISTS, Place, parts};
use super::made::{Made, joined};
use super::piece::{has_known, is_known, mark};
use crate::UnknownId;
use crate::syntax::Command;
use whodunit_formats::bytes::ByteString;

/// A variable's value; each text can have unknown [pieces](super::piece).
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Value {
    /// One text.
    Text(Vec<u8>),
    /// Several.
    List(Vec<Vec<u8>>),
    /// Several of which some are missing, by number from 0.
    Sparse(BTreeMap<i64, Vec<u8>>),
    /// Several by their keys, in an order that the shell does not promise.
    Map(BTreeMap<Vec<u8>, Vec<u8>>),
}

/// What a variable does with what it is given.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Attributes {
    /// It takes nothing any more.
    pub readonly: bool,
    /// Whether it takes anything is not known.
    pub perhaps_readonly: bool,
    /// It computes what it is given.
    pub integer: bool,
    /// Its text is the name of the variable that is meant (`declare -n`).
    pub reference: bool,
    /// It keeps what it is given in a form of its own: a width, a base, a fraction (`typeset -Z` of zsh).
    pub formatted: bool,
    /// Letters become small.
    pub lower: bool,
    /// Letters become large.
    pub upper: bool,
    /// Whether its elements are joined by colons, where that was said (`set --path` and `--unpath` of fish). What was
    /// not said, its name says.
    pub path: Option<bool>,
}

/// A variable.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Variable {
    /// Its value.
    pub value: Value,
    /// Whether programs get it.
    pub exported: bool,
    /// Whether each part is kept once (`typeset -U`).
    pub unique: bool,
    /// The same of the list that stands for it in zsh: `path` for `PATH`. Each counts for its own assignments.
    pub unique_list: bool,
    /// For a list of directories: who put each part there.
    pub places: Vec<Place>,
    /// Doubts about the whole of it.
    pub taints: BTreeSet<UnknownId>,
    /// What it does with what it is given.
    pub attributes: Attributes,
    /// Whether nobody knows if it is set.
    pub is_perhaps: bool,
}

impl Variable {
    /// One text.
    pub fn text(value: impl Into<Vec<u8>>, exported: bool) -> Self {
        let value = Value::Text(value.into());
        Variable {
            value,
            exported,
            unique: false,
            unique_list: false,
            places: Vec::new(),
            taints: BTreeSet::new(),
            attributes: Attributes::default(),
            is_perhaps: false,
        }
    }

    /// The directories that a list of them has.
    fn directories(&self) -> Vec<&[u8]> {
        match &self.value {
            Value::List(list) => list.iter().map(Vec::as_slice).collect(),
            _ => parts(self.as_text()),
        }
    }

    /// Its text; of a list, the first.
    pub fn as_text(&self) -> &[u8] {
        match &self.value {
            Value::Text(text) => text,
            Value::List(list) => list.first().map_or(&[], Vec::as_slice),
            Value::Sparse(list) => list.get(&0).map_or(&[], Vec::as_slice),
            Value::Map(map) => map.get(&b"0"[..]).map_or(&[], Vec::as_slice),
        }
    }
}

/// A function.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Function {
    /// What it does; none where only its name is known.
    pub body: Option<Arc<Command>>,
    /// Where it was defined.
    pub place: Place,
    /// Whether it is certain that it is there.
    pub certain: bool,
    /// Whether it may be another one of the same name.
    pub varies: bool,
    /// Whether other shells get it.
    pub exported: bool,
    /// Whether it can be neither unset nor defined anew (`readonly -f`).
    pub readonly: bool,
}

impl Function {
    /// One that is certainly there.
    pub fn new(body: Option<Arc<Command>>, place: Place) -> Self {
        Function { body, place, certain: true, varies: false, exported: false, readonly: false }
    }
}

/// An alias.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Alias {
    /// What it stands for.
    pub value: Vec<u8>,
    /// Where it was made.
    pub place: Place,
    /// Whether it is certain that it is there.
    pub certain: bool,
    /// Whether it counts anywhere in a line (`-g`), or for endings of names (`-s`).
    pub kind: AliasKind,
}

/// Where an alias counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AliasKind {
    /// In the place of a command.
    Command,
    /// Anywhere.
    Global,
    /// Behind a point.
    Suffix,
}

/// A shell that `exec` starts in the place of another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Replacement {
    /// Its program.
    pub file: Vec<u8>,
    /// Whether it is started as one of a login (`-l`).
    pub is_login: bool,
    /// Whether it is made interactive (`-i`).
    pub is_interactive: bool,
    /// Where that is said.
    pub place: Place,
}

/// All of it at one moment.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct State {
    /// Variables by name.
    pub variables: BTreeMap<Vec<u8>, Variable>,
    /// Functions by name.
    pub functions: BTreeMap<Vec<u8>, Function>,
    /// Aliases by name.
    pub aliases: BTreeMap<Vec<u8>, Alias>,
    /// Names that programs will get once they are set.
    pub to_export: BTreeSet<Vec<u8>>,
    /// Positional parameters.
    pub arguments: Vec<Vec<u8>>,
    /// Doubts about the positional parameters.
    pub argument_taints: BTreeSet<UnknownId>,
    /// Options that are on.
    pub options: BTreeSet<Vec<u8>>,
    /// Builtins that are switched off.
    pub disabled: BTreeSet<Vec<u8>>,
    /// The current directory.
    pub dir: Vec<u8>,
    /// What is done at the end of the subshell that is followed (`trap … EXIT`).
    pub at_end: Option<Vec<u8>>,
    /// What became of files that were made or removed.
    pub made: BTreeMap<Vec<u8>, Made>,
    /// Directories that `~NAME` stands for in zsh (`hash -d`).
    pub named_dirs: BTreeMap<Vec<u8>, Vec<u8>>,
    /// Directories that `popd` goes back to, innermost last.
    pub pushed_dirs: Vec<Vec<u8>>,
    /// Doubts about which aliases and functions there are.
    pub taints: BTreeSet<UnknownId>,
    /// The shell that replaced this one.
    pub replaced_by: Option<Replacement>,
    /// Doubts about every one of [`LISTS`] from here on, whatever is assigned to it.
    pub lasting_taints: BTreeSet<UnknownId>,
    /// Doubts about those of [`LISTS`] that are not set.
    pub unset_taints: BTreeSet<UnknownId>,
    /// What stands in `PATH` in the place of an unknown, where that is one of two; `None` where it is more than that.
    pub choices: BTreeMap<UnknownId, Option<Choice>>,
}

/// The parts of a list of directories after the one of two ways, and after the other.
pub type Choice = [Vec<Vec<u8>>; 2];

impl State {
    /// A variable's text, where it is set.
    pub fn get(&self, name: &[u8]) -> Option<&[u8]> {
        self.variables.get(self.meant(name)).map(Variable::as_text)
    }

    /// The variable that a name means: itself, or what a reference of that name refers to.
    pub fn meant<'n>(&'n self, name: &'n [u8]) -> &'n [u8] {
        let mut name = name;
        for _ in 0..8 {
            match self.variables.get(name) {
                Some(variable) if variable.attributes.reference => name = variable.as_text(),
                _ => break,
            }
        }
        name
    }

    /// Sets a text that programs get.
    pub fn export(&mut self, name: &[u8], value: impl Into<Vec<u8>>) {
        self.variables.insert(name.to_vec(), Variable::text(value, true));
    }

    /// Whether an option is on.
    pub fn has(&self, option: &[u8]) -> bool {
        self.options.contains(option)
    }

    /// Makes every list of directories that is set uncertain.
    pub fn taint_lists(&mut self, unknown: UnknownId) {
        for name in LISTS {
            if let Some(variable) = self.variables.get_mut(name) {
                variable.taints.insert(unknown);
            }
        }
    }

    /// Notes what an unknown stands for; of two different things it stands for more than two.
    fn choose(&mut self, unknown: UnknownId, choice: Option<&Choice>) {
        let known = self.choices.entry(unknown).or_insert_with(|| choice.cloned());
        if known.as_ref() != choice {
            *known = None;
        }
    }

    /// What holds whichever of two ways was taken: what differs is uncertain.
    pub fn merged(self, other: &Self, unknown: UnknownId) -> Self {
        if self == *other {
            return self;
        }
        let mut merged = State {
            taints: &self.taints | &other.taints,
            unset_taints: &self.unset_taints | &other.unset_taints,
            lasting_taints: &self.lasting_taints | &other.lasting_taints,
            argument_taints: &self.argument_taints | &other.argument_taints,
            made: joined(self.made.clone(), &other.made),
            ..self.clone()
        };
        let names: BTreeSet<&Vec<u8>> = self.variables.keys().chain(other.variables.keys()).collect();
        for (id, choice) in &other.choices {
            merged.choose(*id, choice.as_ref());
        }
        for name in names {
            let both = (self.variables.get(name), other.variables.get(name));
            if both.0 != both.1 {
                let path = |one: Option<&Variable>| one.and_then(|variable| variable.attributes.path);
                let unique = |one: Option<&Variable>| one.map(|variable| (variable.unique, variable.unique_list));
                if path(both.0) != path(both.1)
                    || unique(both.0).unwrap_or_default() != unique(both.1).unwrap_or_default()
                {
                    // How it is joined, or what is kept of it, is not known, whatever it is given.
                    merged.lasting_taints.insert(unknown);
                }
                let (variable, choice) = either(name, both, unknown);
                merged.variables.insert(name.clone(), variable);
                if name == b"PATH" {
                    merged.choose(unknown, choice.as_ref());
                }
            }
        }
        for (name, function) in &other.functions {
            let before = self.functions.get(name);
            if before != Some(function) {
                let function = Function { certain: false, varies: before.is_some(), ..function.clone() };
                merged.functions.insert(name.clone(), function);
            }
        }
        for (name, alias) in &other.aliases {
            if self.aliases.get(name) != Some(alias) {
                merged.aliases.insert(name.clone(), Alias { certain: false, ..alias.clone() });
            }
        }
        if self.replaced_by != other.replaced_by {
            merged.replaced_by = None;
            merged.taints.insert(unknown);
            merged.unset_taints.insert(unknown);
            merged.taint_lists(unknown);
        }
        let lone = |name: &Vec<u8>| !other.functions.contains_key(name);
        merged.functions.iter_mut().filter(|(name, _)| lone(name)).for_each(|(_, function)| function.certain = false);
        let lone = |name: &Vec<u8>| !other.aliases.contains_key(name);
        merged.aliases.iter_mut().filter(|(name, _)| lone(name)).for_each(|(_, alias)| alias.certain = false);
        merged.options = &self.options & &other.options;
        if self.arguments != other.arguments {
            merged.arguments = vec![mark(unknown)];
        }
        if self.pushed_dirs != other.pushed_dirs {
            merged.pushed_dirs = vec![mark(unknown)];
        }
        if self.at_end != other.at_end {
            merged.at_end = Some(mark(unknown));
        }
        if self.dir != other.dir {
            merged.dir = mark(unknown);
        }
        if self.options != other.options {
            // What an option does to all that follows is not known.
            merged.lasting_taints.insert(unknown);
            merged.unset_taints.insert(unknown);
            merged.taint_lists(unknown);
        }
        merged
    }
}

/// A variable that two ways left different: of lists of directories, what both begin and end with stays known. Second,
/// what each of them has between, where that is known.
fn either(name: &[u8], both: (Option<&Variable>, Option<&Variable>), unknown: UnknownId) -> (Variable, Option<Choice>) {
    let exported = both.0.or(both.1).is_some_and(|variable| variable.exported);
    let of_both = || both.0.into_iter().chain(both.1).map(|variable| variable.attributes);
    let perhaps_readonly = of_both().any(|attributes| attributes.readonly || attributes.perhaps_readonly);
    let paths: BTreeSet<Option<bool>> = of_both().map(|attributes| attributes.path).collect();
    let path = paths.first().copied().flatten().filter(|_| paths.len() == 1);
    let attributes = Attributes { perhaps_readonly, path, ..Attributes::default() };
    let (Some(one), Some(two), true) = (both.0, both.1, LISTS.contains(&name)) else {
        let is_perhaps = [both.0, both.1].into_iter().any(|one| one.is_none_or(|one| one.is_perhaps));
        return (Variable { is_perhaps, attributes, ..Variable::text(mark(unknown), exported) }, None);
    };
    let is_same_kind = one.attributes.readonly == two.attributes.readonly;
    let attributes = if is_same_kind { one.attributes } else { Attributes { readonly: false, ..attributes } };
    let mut taints = &one.taints | &two.taints;
    if (one.exported, one.unique, one.unique_list) != (two.exported, two.unique, two.unique_list) {
        taints.insert(unknown);
    }
    let (first, second) = (one.directories(), two.directories());
    let is_perhaps = one.is_perhaps || two.is_perhaps;
    let mut start = first.iter().zip(&second).take_while(|(a, b)| a == b).count();
    let most = first.len().min(second.len()) - start;
    let mut end = first.iter().rev().zip(second.iter().rev()).take(most).take_while(|(a, b)| a == b).count();
    let is_told = |part: &&[u8]| has_known(part);
    if first != second && (is_perhaps || !first[..start].iter().chain(&first[first.len() - end..]).any(is_told)) {
        (start, end) = (0, 0); // Not even colons are certain.
    }
    let is_same = start == first.len() && start == second.len();
    let between = [&first, &second].map(|list| list[start..list.len() - end].to_vec());
    let is_told = between.iter().flatten().all(|part| is_known(part));
    let choice = is_told.then(|| between.map(|list| list.into_iter().map(<[u8]>::to_vec).collect()));
    let unknown = mark(unknown);
    let mut list: Vec<&[u8]> = first[..start].to_vec();
    list.extend((!is_same).then_some(unknown.as_slice()));
    list.extend(&first[first.len() - end..]);
    let place = |at: usize| one.places.get(at).cloned();
    let nowhere = || Place { file: ByteString::default(), line: 0 };
    let places = (0..start).map(place);
    let places = places.chain((!is_same).then(|| Some(nowhere()))).chain((first.len() - end..first.len()).map(place));
    let places = places.map(|place| place.unwrap_or_else(nowhere)).collect();
    let value = match &one.value {
        Value::Text(_) => Value::Text(list.join(&b':')),
        _ => Value::List(list.into_iter().map(<[u8]>::to_vec).collect()),
    };
    (Variable { value, exported, places, taints, is_perhaps, attributes, ..one.clone() }, choice)
}
