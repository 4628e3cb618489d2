//! Simple commands: assignments, aliases, functions, builtins and programs.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::assign::EMPTY_LIST;
use super::{Flow, MAX_DEPTH, MAX_FILE, Mishap, Run};
use crate::Files;
use crate::UnknownId;
use crate::eval::builtin_names::is_builtin;
use crate::eval::builtins::takes_apart;
use crate::eval::lists::{self, LISTS, Place};
use crate::eval::piece::is_known;
use crate::eval::state::{Alias, AliasKind, Function, Variable};
use crate::syntax::{Assignment, Command, Dialect, Kind, Parser, Part, Word, literal};
use whodunit_formats::bytes::{ByteString, path};

impl Run<'_> {
    pub(in crate::eval) fn simple(&mut self, assignments: &[Assignment], words: &[Word], command: &Command) -> Flow {
        let outer = std::mem::take(&mut self.read_taints);
        let flow = self.simple_alone(assignments, words, command);
        self.read_taints.extend(outer);
        flow
    }

    fn simple_alone(&mut self, assignments: &[Assignment], words: &[Word], command: &Command) -> Flow {
        if let Some(flow) = self.alias(words, command) {
            return flow;
        }
        let name = words.first().and_then(literal);
        if let Some(name) = name.filter(|name| self.declares(name)) {
            return self.declare_with(assignments, &name, &words[1..]);
        }
        self.is_unmatched = false;
        let (refusals, substitutions) = (self.refusals, self.substitutions);
        let fields = self.command_words(words);
        if let Some(flow) = self.failure.take() {
            // For a program zsh looks for files when it has started a process for it, which then ends.
            let is_program =
                |name: Vec<u8>| !self.state.functions.contains_key(&name) && !is_builtin(self.dialect(), &name);
            if self.is_unmatched && words.first().and_then(literal).is_some_and(is_program) {
                self.status = Some(1);
                return Flow::Next;
            }
            return flow;
        }
        let reads_on = |name: &Vec<u8>| matches!(&name[..], b"eval" | b"." | b"source");
        if !self.word_taints.is_empty() && fields.first().is_some_and(reads_on) {
            self.taint_for_good("reads commands that may be others");
        }
        let Some((name, arguments)) = fields.split_first() else {
            assignments.iter().for_each(|assignment| self.assignment(assignment));
            if self.refusals > refusals {
                self.fail(Mishap::Expansion);
            }
            // Else it ends as the last command did that wrote a part of it.
            if self.failure.is_none() {
                self.status = if self.substitutions == substitutions { Some(0) } else { self.substituted };
            }
            // `$(<file)`: what is read is what is written.
            if assignments.is_empty()
                && self.dialect() != Dialect::Posix
                && self.output.is_some()
                && let Some(text) = self.rest_of_input()
            {
                self.write(&text);
            }
            return Flow::Next;
        };
        let (name, arguments) = (name.clone(), arguments.to_vec());
        if assignments.is_empty() {
            return self.call(&name, arguments);
        }
        let before = self.assigned_for_now(assignments);
        if let Some(flow) = self.failure.take() {
            return flow;
        }
        let flow = self.call(&name, arguments);
        if !(self.dialect() == Dialect::Posix && crate::eval::builtins::is_special(&name)) {
            self.restore(before);
        }
        flow
    }

    /// The words of a command. Where one is uncertain, what a builtin would be given is unknown, unless the builtin
    /// only passes on what it is given; and so is which command it is.
    fn command_words(&mut self, words: &[Word]) -> Vec<Vec<u8>> {
        let is_plain =
            self.dialect() == Dialect::Zsh && words.first().and_then(literal).is_some_and(|name| name == b"noglob");
        let globs = is_plain && self.state.options.insert(b"noglob".to_vec());
        let outer = std::mem::take(&mut self.read_taints);
        let mut fields: Vec<Vec<u8>> = Vec::new();
        let (mut uncertain, mut taints) = (Vec::new(), BTreeSet::new());
        for word in words {
            let from = fields.len();
            fields.extend(self.fields(std::slice::from_ref(word)));
            if !self.read_taints.is_empty() {
                uncertain.push(from..fields.len());
                taints.append(&mut self.read_taints);
            }
        }
        if globs {
            self.state.options.remove(&b"noglob"[..]);
        }
        self.read_taints = &outer | &taints;
        self.word_taints = taints;
        let Some(name) = fields.first().filter(|_| !uncertain.is_empty()) else { return fields };
        if uncertain.iter().any(|range| range.start == 0) {
            let unknown = self.note_unknown("runs a command that may be another one");
            self.taint_all(unknown);
        } else if !self.state.functions.contains_key(name) && takes_apart(self.dialect(), name) {
            for at in uncertain.into_iter().flatten() {
                fields[at] = self.unknown_value("a word that is uncertain");
            }
        }
        fields
    }

    /// Sets the positional parameters; gives those before.
    pub(in crate::eval) fn take_arguments(
        &mut self,
        arguments: Vec<Vec<u8>>,
        taints: BTreeSet<UnknownId>,
    ) -> (Vec<Vec<u8>>, BTreeSet<UnknownId>) {
        let outer = std::mem::replace(&mut self.state.arguments, arguments);
        (outer, std::mem::replace(&mut self.state.argument_taints, taints))
    }

    /// A declaration with assignments before it.
    fn declare_with(&mut self, assignments: &[Assignment], name: &[u8], words: &[Word]) -> Flow {
        if assignments.is_empty() {
            return self.declare(name, words);
        }
        let before = self.assigned_for_now(assignments);
        let flow = self.declare(name, words);
        // In bash what is declared without a value keeps the one for now.
        let declared: Vec<Vec<u8>> = words.iter().filter_map(literal).collect();
        let lasts = |name: &Vec<u8>| self.dialect() == Dialect::Bash && declared.contains(name);
        match self.dialect() {
            Dialect::Posix => {}
            _ => self.restore(before.into_iter().filter(|(name, _)| !lasts(name)).collect()),
        }
        flow
    }

    /// Makes assignments that last for one command; gives what was there before.
    fn assigned_for_now(&mut self, assignments: &[Assignment]) -> Vec<(Vec<u8>, Option<Variable>)> {
        let mut before = Vec::new();
        for assignment in assignments {
            let of_list = lists::tied(&assignment.name).filter(|_| self.dialect() == Dialect::Zsh);
            let name = of_list.unwrap_or(self.state.meant(&assignment.name)).to_vec();
            // In zsh an element that is assigned stays so.
            if assignment.index.is_none() || self.dialect() != Dialect::Zsh {
                before.push((name.clone(), self.state.variables.get(&name).cloned()));
            }
            self.assignment(assignment);
            if let Some(variable) = self.state.variables.get_mut(&name) {
                variable.exported = true;
            }
        }
        before
    }

    fn restore(&mut self, before: Vec<(Vec<u8>, Option<Variable>)>) {
        for (name, variable) in before.into_iter().rev() {
            match variable {
                Some(mut variable) => {
                    // In zsh a list whose elements are kept once may be given to itself again.
                    let mut seen = BTreeSet::new();
                    let is_kept_once = variable.unique || variable.unique_list;
                    let has_twins =
                        is_kept_once && !lists::parts(variable.as_text()).into_iter().all(|one| seen.insert(one));
                    if has_twins {
                        let unknown = self.note_unknown("whether a list that comes back keeps what it has twice");
                        variable.taints.insert(unknown);
                    }
                    // A list that was empty comes back as text: as one empty element.
                    if self.dialect() == Dialect::Zsh && LISTS.contains(&&*name) && variable.as_text().is_empty() {
                        let unknown = self.note_unknown(EMPTY_LIST);
                        variable.taints.insert(unknown);
                    }
                    self.state.variables.insert(name, variable)
                }
                None => self.state.variables.remove(&name),
            };
        }
    }

    /// Whether aliases count.
    pub(in crate::eval) fn expands_aliases(&self) -> bool {
        self.dialect() != Dialect::Bash || self.has_in_bash(b"expand_aliases")
    }

    /// What an alias in the place of the command does.
    pub(in crate::eval) fn alias(&mut self, words: &[Word], command: &Command) -> Option<Flow> {
        let expands = self.expands_aliases();
        let [Part::Plain(name)] = &words.first()?.0[..] else { return None };
        let is_recent = self.moments.dropped.get(name).is_some_and(|dropped| *dropped >= self.moments.now);
        if expands && is_recent {
            self.taint_for_good("uses an alias that was changed since the command was taken apart");
        }
        let alias = self.state.aliases.get(name).filter(|alias| expands && alias.kind == AliasKind::Command)?;
        // A complete command is taken apart before anything in it is done.
        let is_later = self.moments.aliases.get(name).is_some_and(|made| *made >= self.moments.now);
        if self.expanding.contains(name) || is_later {
            return None;
        }
        let Alias { value, certain, .. } = alias.clone();
        if !certain {
            self.taint_for_good("uses an alias that may be another one, or none");
        }
        let mut lists = Vec::new();
        for list in Parser::new(&value, self.at.dialect) {
            lists.extend(list.ok()?);
        }
        if let Some(Command { kind: Kind::Simple(_, last), redirects, .. }) = lists.last_mut() {
            last.extend(words[1..].iter().cloned());
            redirects.extend(command.redirects.iter().cloned());
        }
        self.expanding.push(name.clone());
        let held = std::mem::replace(&mut self.holds_line, true);
        let flow = self.list(&lists);
        self.holds_line = held;
        self.expanding.pop();
        Some(flow)
    }

    /// The body of a function that zsh reads from a file of its name when it is first called, where a start-up file
    /// put the file's directory into `fpath`.
    fn autoloaded(&mut self, name: &[u8]) -> Option<Arc<Command>> {
        if self.dialect() != Dialect::Zsh || name.contains(&b'/') {
            return None;
        }
        let dirs = self.list_of(b"fpath").unwrap_or_default();
        let told = self.state.functions.get(name).map(|function| function.place.file.to_vec());
        let told = told.filter(|file| path::name(file) == name).map(|file| path::parent(&file).to_vec());
        let dirs: Vec<Vec<u8>> = told.into_iter().chain(dirs).collect();
        let files = dirs.iter().filter(|dir| is_known(dir)).map(|dir| [&dir[..], b"/", name].concat());
        let file = files.into_iter().find(|file| self.kind(file) == Some(crate::FileType::File))?;
        let file = ByteString::from(self.absolute(&file));
        let content = self.seen().read(&file, MAX_FILE).ok()?;
        let mut list = Vec::new();
        for commands in Parser::new(&content, Dialect::Zsh) {
            match commands {
                Ok(commands) => list.extend(commands),
                Err(error) => {
                    let unknown = self.note_unknown(format!(
                        "calls {name}, which cannot be parsed ({})",
                        error.what,
                        name = ByteString::from(name)
                    ));
                    self.taint_all(unknown);
                    return None;
                }
            }
        }
        // A file that only defines the function stands for the function itself.
        let body = match &list[..] {
            [Command { kind: Kind::Function(names, body), .. }] if names.iter().any(|one| one == name) => {
                Arc::clone(body)
            }
            _ => Arc::new(Command { line: 1, kind: Kind::Group(list), redirects: Vec::new() }),
        };
        if let Some(function) = self.state.functions.get_mut(name) {
            function.body = Some(Arc::clone(&body));
            function.place = Place { file, line: 1 };
        }
        Some(body)
    }

    /// Notes where a function that is called may be missing, or another one.
    pub(in crate::eval) fn note_uncertain_function(&mut self, name: &[u8]) {
        if self.state.functions.get(name).is_some_and(|function| !function.certain) {
            self.taint_for_good(&format!("calls {}, which may be missing or another function", ByteString::from(name)));
        }
    }

    /// Follows a function.
    pub(in crate::eval) fn function(&mut self, name: &[u8], function: &Function, arguments: Vec<Vec<u8>>) -> Flow {
        let Some(body) = function.body.clone().or_else(|| self.autoloaded(name)) else {
            self.status = None;
            return Flow::Next;
        };
        if self.depth >= MAX_DEPTH {
            self.stop("functions call each other too deeply");
            return Flow::Next;
        }
        self.depth += 1;
        let taints = std::mem::take(&mut self.word_taints);
        let outer = self.take_arguments(arguments, taints);
        let held = std::mem::replace(&mut self.holds_line, true);
        let early = self.early.len();
        let options = self.state.options.clone();
        self.scopes.push(Vec::new());
        // In zsh `$0` is the function.
        let zero = (self.dialect() == Dialect::Zsh).then(|| std::mem::replace(&mut self.at.name, name.to_vec()));
        self.calls.push(name.to_vec());
        // In dash each function takes options apart anew.
        let getopts = (self.dialect() == Dialect::Posix).then(|| {
            let index = self.state.variables.insert(b"OPTIND".to_vec(), Variable::text("1", false));
            (index, std::mem::take(&mut self.option_at))
        });
        let moment = self.moments.functions.get(name).copied().unwrap_or(self.moments.now);
        let moment = std::mem::replace(&mut self.moments.now, moment);
        // In zsh a function may leave the loops of whoever calls it.
        let loops = self.loops;
        if self.dialect() != Dialect::Zsh {
            self.loops = 0;
        }
        if let (Dialect::Zsh, Kind::Group(list)) = (self.dialect(), &body.kind)
            && list.is_empty()
        {
            self.status = Some(0);
        }
        let flow = self.command(&body);
        self.loops = loops;
        self.moments.now = moment;
        self.calls.pop();
        if let Some((index, at)) = getopts {
            self.restore(vec![(b"OPTIND".to_vec(), index)]);
            self.option_at = at;
        }
        if let Some(zero) = zero {
            self.at.name = zero;
        }
        self.join_early(early, |flow| flow == Flow::Return);
        let before = self.scopes.pop().unwrap_or_default();
        self.restore(before);
        if self.state.has(b"localoptions") {
            self.state.options = options;
        }
        self.holds_line = held;
        (self.state.arguments, self.state.argument_taints) = outer;
        self.depth -= 1;
        match flow {
            Flow::Return => Flow::Next,
            Flow::Break(_) | Flow::Continue(_) if self.dialect() != Dialect::Zsh => Flow::Next,
            other => other,
        }
    }
}
