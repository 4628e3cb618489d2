//! Follows loops.

use super::{Flow, Run};
use crate::eval::state::Value;
use crate::syntax::{List, Word};

impl Run<'_> {
    pub(super) fn for_loop(&mut self, name: &[u8], words: Option<&[Word]>, body: &List) -> Flow {
        let values = match words {
            Some(words) => self.fields(words),
            None => self.state.arguments.clone(),
        };
        if let Some(flow) = self.failure.take() {
            return flow;
        }
        self.status = Some(0);
        let early = self.early.len();
        let mut values = values.into_iter().peekable();
        let names: Vec<&[u8]> = name.split(|&b| b == b' ').collect();
        while values.peek().is_some() {
            let refusals = self.refusals;
            for name in &names {
                let value = values.next().unwrap_or_default();
                self.assign(name, Value::Text(value), false);
            }
            if self.refusals > refusals {
                break;
            }
            match self.once(body) {
                Ok(()) => {}
                Err(Flow::Next) => break,
                Err(flow) => return flow,
            }
            if self.is_stopped {
                break;
            }
        }
        self.join_early(early, |flow| matches!(flow, Flow::Break(1) | Flow::Continue(1)));
        Flow::Next
    }

    /// `for ((from; to; by))`.
    pub(super) fn counted_loop(&mut self, [from, to, by]: [&[u8]; 3], body: &List) -> Flow {
        self.number(from);
        let early = self.early.len();
        loop {
            let holds = if to.trim_ascii().is_empty() { Some(1) } else { self.computed(to) };
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
        self.status = Some(0);
        Flow::Next
    }

    /// `repeat COUNT` of zsh.
    pub(super) fn repeat(&mut self, count: &Word, body: &List) -> Flow {
        let count = self.one(count, false);
        let Some(count) = self.computed(&count) else { return self.perhaps(body) };
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
        match self.list(body) {
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
            &mut |run| match run.list(body) {
                Flow::Break(_) | Flow::Continue(_) => Flow::Next,
                other => other,
            },
            &mut |_| Flow::Next,
        )
    }

    pub(in crate::eval) fn while_loop(&mut self, condition: &List, body: &List, until: bool) -> Flow {
        let early = self.early.len();
        loop {
            let flow = self.unchecked(|run| run.list(condition));
            if flow != Flow::Next {
                return flow;
            }
            match self.status {
                Some(status) if (status == 0) != until => match self.once(body) {
                    Ok(()) => {}
                    Err(Flow::Next) => break,
                    Err(flow) => return flow,
                },
                Some(_) => break,
                None => {
                    let flow = self.perhaps(body);
                    if flow != Flow::Next {
                        return flow;
                    }
                    break;
                }
            }
            if self.is_stopped {
                break;
            }
        }
        self.join_early(early, |flow| matches!(flow, Flow::Break(1) | Flow::Continue(1)));
        self.status = Some(0);
        Flow::Next
    }
}
