//! Follows statements.

use super::{Fish, only_stars};
use crate::eval::lists::LISTS;
use crate::eval::made::joined;
use crate::eval::piece::{fits_perhaps, is_known, mark};
use crate::eval::run::{Flow, MAX_DEPTH, join_scopes};
use crate::syntax::fish::{Block, Kind, Part, Statement, Word};
use crate::syntax::pattern;

impl Fish<'_> {
    pub(super) fn block(&mut self, block: &Block) -> Flow {
        let mut skips = false;
        for statement in block {
            if !statement.is_chained {
                let status = self.run.status.map(|status| status == 0);
                skips = statement.after.is_some_and(|wanted| status.is_some_and(|status| status != wanted));
            }
            // Nothing is joined to what was not found.
            skips |= statement.is_chained && self.is_unfound();
            if skips {
                continue;
            }
            let flow = self.statement(statement);
            if flow != Flow::Next {
                return flow;
            }
        }
        Flow::Next
    }

    /// A block with variables of its own.
    pub(super) fn scoped(&mut self, inside: impl FnOnce(&mut Self) -> Flow) -> Flow {
        self.scopes.push(Vec::new());
        let flow = inside(self);
        for (name, variable) in self.scopes.pop().unwrap_or_default().into_iter().rev() {
            match variable {
                Some(variable) => self.run.state.variables.insert(name, variable),
                None => self.run.state.variables.remove(&name),
            };
        }
        flow
    }

    pub(super) fn either(
        &mut self,
        why: &str,
        one: &mut dyn FnMut(&mut Self) -> Flow,
        two: &mut dyn FnMut(&mut Self) -> Flow,
    ) -> Flow {
        let unknown = self.note_unknown(why);
        let (before, bodies) = (self.run.state.clone(), self.bodies.clone());
        let scopes = self.scopes.clone();
        let input = self.run.input.clone();
        let written = self.output.as_ref().map_or(0, Vec::len);
        let first = one(self);
        let written_by_one = self.output.as_mut().map(|output| output.split_off(written.min(output.len())));
        let input_of_one = std::mem::replace(&mut self.run.input, input);
        let scopes_of_one = std::mem::replace(&mut self.scopes, scopes);
        let after_one = std::mem::replace(&mut self.run.state, before);
        self.bodies.extend(bodies);
        let second = two(self);
        join_scopes(&mut self.scopes, scopes_of_one, unknown);
        if let Some(output) = self.output.as_mut()
            && Some(&output[written.min(output.len())..]) != written_by_one.as_deref()
        {
            output.truncate(written);
            output.push(mark(unknown));
        }
        self.run.join_input(input_of_one.as_ref(), unknown);
        self.run.status = None;
        self.run.join_ways((first, after_one), second, unknown)
    }

    pub(super) fn statement(&mut self, statement: &Statement) -> Flow {
        let is_in_doubt = statement.is_background || !statement.outputs.is_empty();
        let made = is_in_doubt.then(|| self.run.state.made.clone());
        let flow = self.followed(statement);
        // Nothing is opened for a command that is not found, and what is not waited for may come later.
        if let Some(before) = made.filter(|_| statement.is_background || self.is_unfound()) {
            self.run.state.made = joined(before, &self.run.state.made);
        }
        self.run.find_back();
        if self.ends { Flow::Exit } else { flow }
    }

    fn followed(&mut self, statement: &Statement) -> Flow {
        if !self.run.step(1) {
            return Flow::Exit;
        }
        if !self.holds_line {
            self.run.place.line = statement.line;
        }
        match (statement.after, self.run.status) {
            (Some(wanted), Some(status)) if (status == 0) != wanted => return Flow::Next,
            (Some(_), None) => {
                let bare = Statement { after: None, ..statement.clone() };
                let why = self.run.why_unknown();
                return self.either(&why, &mut |fish| fish.statement(&bare), &mut |_| Flow::Next);
            }
            _ => {}
        }
        self.run.unrun = None;
        self.depth += 1;
        let flow = if self.depth > 4 * MAX_DEPTH {
            self.stop("commands are nested too deeply");
            Flow::Exit
        } else {
            match &statement.input {
                _ if statement
                    .outputs
                    .iter()
                    .any(|file| file.0.iter().any(|part| matches!(part, Part::Output(..)))) =>
                {
                    let why = "writes a file whose name is unknown";
                    self.either(why, &mut |fish| fish.kind(&statement.kind), &mut |fish| {
                        fish.run.status = None;
                        Flow::Next
                    })
                }
                _ if !self.opens(&statement.outputs) => {
                    self.run.status = Some(1).filter(|_| self.run.read_taints.is_empty());
                    Flow::Next
                }
                Some(file) => self.reading_from(file, |fish| fish.kind(&statement.kind)),
                None => self.kind(&statement.kind),
            }
        };
        self.depth -= 1;
        if statement.negated && !self.is_unfound() {
            self.run.status = self.run.status.map(|status| u8::from(status == 0));
        }
        flow
    }

    pub(super) fn kind(&mut self, kind: &Kind) -> Flow {
        let flow = self.follow(kind);
        // That a command was not found matters to what stands around it, but not to what is around these.
        self.is_missing &= !matches!(kind, Kind::If(..) | Kind::Switch(..) | Kind::For(..) | Kind::While(..));
        flow
    }

    fn follow(&mut self, kind: &Kind) -> Flow {
        match kind {
            Kind::Command(words) => {
                let outer = std::mem::take(&mut self.run.read_taints);
                let words = self.words(words);
                let flow = match words.split_first() {
                    _ if self.is_misworded() => Flow::Next,
                    Some((name, arguments)) if !name.is_empty() => self.command(&name.clone(), arguments.to_vec()),
                    // Which number tells of a mistake depends on the version.
                    _ => {
                        self.run.status = None;
                        Flow::Next
                    }
                };
                self.run.read_taints.extend(outer);
                flow
            }
            Kind::With(assignments, kind) => self.scoped(|fish| {
                for (name, word) in assignments {
                    let values = fish.words(std::slice::from_ref(word));
                    if fish.is_misworded() {
                        return Flow::Next;
                    }
                    fish.hide(name);
                    fish.assign(name, values, false, Some(true));
                }
                fish.kind(kind)
            }),
            Kind::Pipeline(block) => self.pipeline(block),
            Kind::Block(block) => self.scoped(|fish| fish.block(block)),
            Kind::If(branches, otherwise) => self.branches(branches, otherwise.as_ref()),
            Kind::Switch(word, arms) => self.switch(word, arms),
            Kind::For(name, words, body) => {
                let early = self.run.early.len();
                if LISTS.contains(&&name[..]) {
                    self.run.taint_for_good("a loop whose variable is a list of directories");
                }
                let values = self.words(words);
                if self.is_misworded() {
                    return Flow::Next;
                }
                for value in values {
                    if !is_known(&value) {
                        let why = "the number of iterations of a loop is unknown";
                        let flow = self.either(
                            why,
                            &mut |fish| {
                                fish.assign(name, vec![value.clone()], false, None);
                                fish.scoped(|fish| fish.block(body))
                            },
                            &mut |_| Flow::Next,
                        );
                        match flow {
                            Flow::Next | Flow::Continue(_) => continue,
                            Flow::Break(_) => break,
                            other => return other,
                        }
                    }
                    self.assign(name, vec![value], false, None);
                    match self.scoped(|fish| fish.block(body)) {
                        Flow::Next | Flow::Continue(_) => {}
                        Flow::Break(_) => break,
                        other => return other,
                    }
                }
                self.run.join_early(early, |flow| matches!(flow, Flow::Break(_) | Flow::Continue(_)));
                Flow::Next
            }
            Kind::While(condition, body) => self.while_loop(condition, body),
            Kind::Function(words, body) => self.define(words, body),
        }
    }

    /// Whether what was done last ended because a command was not found: nothing is made of that.
    pub(super) fn is_unfound(&self) -> bool {
        self.is_missing && self.run.status == Some(127)
    }

    /// Whether words could not be made, and what they are for is not done.
    pub(super) fn is_misworded(&mut self) -> bool {
        let is_it = std::mem::take(&mut self.is_misworded);
        if is_it {
            self.run.status = self.run.status.filter(|status| *status == 127);
            // What stands around it is not done either.
            self.is_missing = self.run.status.is_some();
        }
        is_it
    }

    /// Ends as the last command of the body did, or well where that never ran.
    fn while_loop(&mut self, condition: &Block, body: &Block) -> Flow {
        let early = self.run.early.len();
        let mut status = Some(0);
        loop {
            let flow = self.block(condition);
            if flow != Flow::Next {
                return flow;
            }
            match self.run.status {
                Some(0) => match self.scoped(|fish| fish.block(body)) {
                    Flow::Next | Flow::Continue(_) => status = self.run.status,
                    Flow::Break(_) => break,
                    other => return other,
                },
                Some(_) => {
                    self.run.status = status;
                    break;
                }
                None => {
                    let why = "the number of iterations of a loop is unknown";
                    let flow = self.either(why, &mut |fish| fish.scoped(|fish| fish.block(body)), &mut |_| Flow::Next);
                    if !matches!(flow, Flow::Next | Flow::Break(_) | Flow::Continue(_)) {
                        return flow;
                    }
                    break;
                }
            }
            if self.run.is_stopped {
                break;
            }
        }
        self.run.join_early(early, |flow| matches!(flow, Flow::Break(_) | Flow::Continue(_)));
        Flow::Next
    }

    fn switch(&mut self, word: &Word, arms: &[(Vec<Word>, Block)]) -> Flow {
        let outer = std::mem::take(&mut self.run.read_taints);
        let mut texts = self.words(std::slice::from_ref(word));
        if self.is_misworded() {
            self.run.read_taints.extend(outer);
            return Flow::Next;
        }
        let is_uncertain = !self.run.read_taints.is_empty();
        self.run.read_taints.extend(outer);
        if texts.len() > 1 && !is_uncertain {
            self.run.status = Some(2); // fish takes at most one.
            return Flow::Next;
        }
        let mut text = texts.pop().unwrap_or_default();
        if is_uncertain {
            text = self.unknown_value("a list that is uncertain");
        }
        // What is unknown, and not in quotes, may be more than one word.
        let is_quoted = |part: &Part| {
            matches!(part, Part::Plain(_) | Part::Quoted(_) | Part::Variable(_, true, ..) | Part::Output(_, true, _))
        };
        if is_known(&text) || word.0.iter().all(is_quoted) {
            return self.arms(&text, arms);
        }
        self.either("depends on how many words a list has", &mut |fish| fish.arms(&text, arms), &mut |fish| {
            fish.run.status = Some(2);
            Flow::Next
        })
    }

    /// Follows the first arm of a `switch` that fits.
    fn arms(&mut self, text: &[u8], arms: &[(Vec<Word>, Block)]) -> Flow {
        for (number, (patterns, body)) in arms.iter().enumerate() {
            // Without quotes a pattern stands for the names of files that fit, and for nothing where none does.
            let mut fitting: Vec<Vec<u8>> = Vec::new();
            for (text, unquoted) in patterns.iter().flat_map(|word| self.expand(word)).collect::<Vec<_>>() {
                let is_pattern = unquoted.iter().any(|b| b"*?".contains(b)) && pattern::is_pattern(&unquoted);
                if is_pattern {
                    fitting.extend(self.run.matching(&unquoted, None).iter().map(|file| pattern::escaped(file)));
                } else {
                    fitting.push(only_stars(&text));
                }
            }
            self.is_misworded = false;
            let patterns = fitting;
            let fits: Vec<_> = patterns.iter().map(|one| fits_perhaps(one, text)).collect();
            let one_fits =
                if fits.contains(&Some(true)) { Some(true) } else { fits.iter().all(Option::is_some).then_some(false) };
            match one_fits {
                Some(true) => return self.scoped(|fish| fish.block(body)),
                Some(false) => {}
                None => {
                    let (why, rest) = ("depends on a condition that is unknown", &arms[number + 1..]);
                    return self.either(why, &mut |fish| fish.scoped(|fish| fish.block(body)), &mut |fish| {
                        fish.arms(text, rest)
                    });
                }
            }
        }
        Flow::Next
    }

    pub(super) fn branches(&mut self, branches: &[(Block, Block)], otherwise: Option<&Block>) -> Flow {
        for (number, (condition, body)) in branches.iter().enumerate() {
            let flow = self.block(condition);
            if flow != Flow::Next {
                return flow;
            }
            match self.run.status {
                Some(0) => return self.scoped(|fish| fish.block(body)),
                Some(_) => {}
                None => {
                    let rest = &branches[number + 1..];
                    let why = self.run.why_unknown();
                    return self.either(&why, &mut |fish| fish.scoped(|fish| fish.block(body)), &mut |fish| {
                        fish.branches(rest, otherwise)
                    });
                }
            }
        }
        match otherwise {
            Some(block) => self.scoped(|fish| fish.block(block)),
            None => {
                self.run.status = Some(0);
                Flow::Next
            }
        }
    }

    /// The lines that commands write.
    pub(super) fn output_of(&mut self, block: &Block) -> Vec<Vec<u8>> {
        let outer = self.output.replace(Vec::new());
        if self.scoped(|fish| fish.block(block)) == Flow::Exit {
            (self.is_misworded, self.ends) = (true, true);
        }
        std::mem::replace(&mut self.output, outer).unwrap_or_default()
    }
}
