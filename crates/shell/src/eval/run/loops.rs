//! Follows loops.

use super::{Flow, Run};
use crate::eval::state::Value;
use crate::eval::substitute::is_list;
use crate::syntax::{List, Part, Word};

/// So many values of a loop may each be any number of words: every one doubles the ways.
const MAX_OPEN: usize = 4;

impl Run<'_> {
    pub(super) fn for_loop(&mut self, name: &[u8], words: Option<&[Word]>, body: &List) -> Flow {
        let values = match words {
            Some(words) => words.iter().flat_map(|word| self.loop_values(word)).collect(),
            None => self.uncounted(self.state.arguments.clone(), !self.state.argument_taints.is_empty()),
        };
        if let Some(flow) = self.failure.take() {
            return flow;
        }
        self.status = Some(0);
        let early = self.early.len();
        let names: Vec<&[u8]> = name.split(|&b| b == b' ').collect();
        let flow = if values.iter().filter(|value| !self.is_counted([*value])).count() > MAX_OPEN {
            let unknown = self.unknown_value("a text that is split into words");
            names.iter().for_each(|name| self.assign(name, Value::Text(unknown.clone()), false));
            self.perhaps(body)
        } else {
            self.iterate(&names, &values, body)
        };
        if flow != Flow::Next {
            return flow;
        }
        self.join_early(early, |flow| matches!(flow, Flow::Break(1) | Flow::Continue(1)));
        Flow::Next
    }

    /// What a loop goes through because of one word.
    fn loop_values(&mut self, word: &Word) -> Vec<Vec<u8>> {
        let (values, taints) = self.gathering(|run| run.fields(std::slice::from_ref(word)));
        let is_one = |part: &Part| matches!(part, Part::Double(parts) if !parts.iter().any(is_list_of_words));
        let may_be_more = !taints.is_empty() && !word.0.iter().all(is_one);
        self.read_taints.extend(taints);
        self.uncounted(values, may_be_more)
    }

    /// These values; where they may be more or fewer, one that stands for any number.
    pub(in crate::eval) fn uncounted(&mut self, values: Vec<Vec<u8>>, may_be_more: bool) -> Vec<Vec<u8>> {
        if may_be_more { vec![self.any_number("an uncertain text may be several words")] } else { values }
    }

    /// Follows the body for each value. Of one that may be several words, or none, nobody knows how often.
    fn iterate(&mut self, names: &[&[u8]], values: &[Vec<u8>], body: &List) -> Flow {
        let mut rest = values;
        while !rest.is_empty() && !self.is_stopped {
            let now = &rest[..names.len().min(rest.len())];
            rest = &rest[now.len()..];
            let refusals = self.refusals;
            let follow = |run: &mut Self| {
                for (number, name) in names.iter().enumerate() {
                    run.assign(name, Value::Text(now.get(number).cloned().unwrap_or_default()), false);
                }
                if run.refusals > refusals { Err(Flow::Next) } else { run.once(body) }
            };
            if self.is_counted(now) {
                match follow(self) {
                    Ok(()) => {}
                    Err(flow) => return flow,
                }
                continue;
            }
            let why = "the number of iterations of a loop is unknown";
            return self.either(
                why,
                &mut |run| match follow(run) {
                    Ok(()) => run.iterate(names, rest, body),
                    Err(flow) => flow,
                },
                &mut |run| run.iterate(names, rest, body),
            );
        }
        Flow::Next
    }

    /// `for ((from; to; by))`.
    pub(super) fn counted_loop(&mut self, [from, to, by]: [&[u8]; 3], body: &List) -> Flow {
        self.number(from);
        let early = self.early.len();
        self.status = Some(0);
        loop {
            let holds = if to.trim_ascii().is_empty() { Some(1) } else { self.deciding(to) };
            match holds {
                Some(0) => break,
                Some(_) => {}
                None => return self.perhaps(body),
            }
            match self.once(body) {
                Ok(()) => {}
                Err(Flow::Next) => break,
                Err(flow) => return flow,
            }
            self.number(by);
            if !self.step(1) {
                break;
            }
        }
        self.join_early(early, |flow| matches!(flow, Flow::Break(1) | Flow::Continue(1)));
        Flow::Next
    }

    /// `repeat COUNT` of zsh.
    pub(super) fn repeat(&mut self, count: &Word, body: &List) -> Flow {
        let count = self.one(count, false);
        let Some(count) = self.deciding(&count) else { return self.perhaps(body) };
        let early = self.early.len();
        for _ in 0..count {
            match self.once(body) {
                Ok(()) => {}
                Err(Flow::Next) => break,
                Err(flow) => return flow,
            }
            if !self.step(1) {
                break;
            }
        }
        self.join_early(early, |flow| matches!(flow, Flow::Break(1) | Flow::Continue(1)));
        Flow::Next
    }

    /// Follows a loop's body one time. An error ends the loop, with what follows it.
    fn once(&mut self, body: &List) -> Result<(), Flow> {
        self.loops += 1;
        let flow = self.list(body);
        self.loops -= 1;
        match flow {
            Flow::Next | Flow::Continue(1) => Ok(()),
            Flow::Break(1) => Err(Flow::Next),
            Flow::Break(count) => Err(Flow::Break(count - 1)),
            Flow::Continue(count) => Err(Flow::Continue(count - 1)),
            other => Err(other),
        }
    }

    /// A loop's body, once and not at all: what it changes is uncertain.
    pub(super) fn perhaps(&mut self, body: &List) -> Flow {
        self.either(
            "the number of iterations of a loop is unknown",
            &mut |run| {
                run.loops += 1;
                let flow = run.list(body);
                run.loops -= 1;
                match flow {
                    Flow::Break(_) | Flow::Continue(_) => Flow::Next,
                    other => other,
                }
            },
            &mut |_| Flow::Next,
        )
    }

    pub(in crate::eval) fn while_loop(&mut self, condition: &List, body: &List, until: bool) -> Flow {
        let early = self.early.len();
        let mut last = Some(0);
        loop {
            self.loops += 1;
            let flow = self.unchecked(|run| run.list(condition));
            self.loops -= 1;
            match flow {
                Flow::Next => {}
                Flow::Break(1) => break,
                Flow::Continue(1) => {
                    if !self.step(1) {
                        break;
                    }
                    continue;
                }
                other => return other,
            }
            match self.status {
                Some(status) if (status == 0) != until => match self.once(body) {
                    Ok(()) => last = self.status,
                    Err(Flow::Next) => {
                        last = self.status;
                        break;
                    }
                    Err(flow) => return flow,
                },
                Some(_) => break,
                None => {
                    let flow = self.perhaps(body);
                    if flow != Flow::Next {
                        return flow;
                    }
                    last = None;
                    break;
                }
            }
            if self.is_stopped {
                break;
            }
        }
        self.join_early(early, |flow| matches!(flow, Flow::Break(1) | Flow::Continue(1)));
        self.status = last;
        Flow::Next
    }
}

/// Whether a part in double quotes may be any number of words.
fn is_list_of_words(part: &Part) -> bool {
    matches!(part, Part::Parameter(parameter) if is_list(parameter))
}
