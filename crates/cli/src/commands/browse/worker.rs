//! Reading apart from drawing: lists are read one after the other, answers as they are asked for.

use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, TryRecvError, channel};

use super::answers::{Shown, shown};
use super::facts::{Facts, Item, Section};
use super::target::Target;

/// What was read.
pub enum News {
    /// A list.
    List(Section, Vec<Item>),
    /// The answer about something; none where there is no such thing.
    Answer(Target, Option<Shown>),
}

/// The threads that read.
pub struct Worker {
    wanted: Sender<Target>,
    news: Receiver<News>,
}

impl Worker {
    /// Starts to read. The threads end with the process: nobody who leaves waits for them.
    pub fn start(facts: Facts<'static>) -> Self {
        let facts = Arc::new(facts);
        let (tell, news) = channel();
        let (wanted, wishes) = channel();
        let (of_lists, tell_lists) = (facts.clone(), tell.clone());
        std::thread::spawn(move || {
            for section in Section::READING {
                if tell_lists.send(News::List(section, of_lists.list(section))).is_err() {
                    return;
                }
            }
        });
        std::thread::spawn(move || {
            while let Some(target) = newest(&wishes) {
                let answer = shown(&facts, &target);
                if tell.send(News::Answer(target, answer)).is_err() {
                    return;
                }
            }
        });
        Worker { wanted, news }
    }

    /// Asks about something; what was asked before and is not begun is given up.
    pub fn ask(&self, target: Target) {
        // Without a reader there is no answer either, and the page says that it is being read.
        let _ = self.wanted.send(target);
    }

    /// What was read meanwhile.
    pub fn news(&self) -> impl Iterator<Item = News> + '_ {
        self.news.try_iter()
    }

    /// Waits for what is read next; none where there is nothing more to come.
    pub fn next(&self) -> Option<News> {
        self.news.recv().ok()
    }
}

/// The newest of the wishes, waiting for one; none where nobody can have one any more.
fn newest(wishes: &Receiver<Target>) -> Option<Target> {
    let mut last = wishes.recv().ok()?;
    loop {
        match wishes.try_recv() {
            Ok(newer) => last = newer,
            Err(TryRecvError::Empty) => return Some(last),
            Err(TryRecvError::Disconnected) => return None,
        }
    }
}
