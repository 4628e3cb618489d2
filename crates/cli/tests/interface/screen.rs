//! Programs that are driven by keys, on a screen of a pseudo-terminal.

use std::fs::File;
use std::io::{Read as _, Write as _};
use std::num::NonZero;
use std::process::{Child, Command};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use super::support::{pseudo_terminal, resize};

/// How long is waited for a text before it is said that it does not come.
const PATIENCE: Duration = Duration::from_secs(60);

fn cells(count: u16) -> NonZero<u16> {
    NonZero::new(count).unwrap()
}

/// A screen on which the program runs.
pub struct Screen {
    keyboard: File,
    pub child: Child,
    /// What is seen, and everything that was written.
    seen: Arc<Mutex<(vt100::Parser, Vec<u8>)>>,
}

impl Screen {
    /// Starts a command on a screen of this size.
    pub fn of(command: &Command, lines: u16, columns: u16) -> Self {
        let (main, side) = pseudo_terminal(lines, columns);
        // With a session of its own, the terminal is its terminal.
        let mut session = Command::new("setsid");
        session.args(["--ctty", "--wait"]).arg(command.get_program()).args(command.get_args()).env_clear();
        session.envs(command.get_envs().filter_map(|(name, value)| Some((name, value?))));
        let (input, errors) = (side.try_clone().unwrap(), side.try_clone().unwrap());
        let child = session.stdin(input).stdout(side).stderr(errors).spawn().unwrap();
        drop(session);
        let seen = Arc::new(Mutex::new((vt100::Parser::new(cells(lines), cells(columns), 0), Vec::new())));
        let (of_reader, mut reader) = (seen.clone(), main.try_clone().unwrap());
        std::thread::spawn(move || {
            let mut part = [0; 4096];
            while let Ok(length @ 1..) = reader.read(&mut part) {
                let mut seen = of_reader.lock().unwrap();
                seen.0.process(&part[..length]);
                seen.1.extend_from_slice(&part[..length]);
            }
        });
        Screen { keyboard: main, child, seen }
    }

    pub fn text(&self) -> String {
        self.seen.lock().unwrap().0.screen().contents()
    }

    /// Everything that was written.
    pub fn written(&self) -> String {
        String::from_utf8_lossy(&self.seen.lock().unwrap().1).into_owned()
    }

    /// What is on the screen once these texts are, nothing is being read, and nothing changes any more.
    pub fn with(&self, texts: &[&str]) -> String {
        let start = Instant::now();
        let mut before = String::new();
        loop {
            let now = self.text();
            let is_there = texts.iter().all(|text| now.contains(text)) && !now.contains("reading");
            if is_there && now == before {
                return now;
            }
            assert!(start.elapsed() < PATIENCE, "{texts:?} does not come:\n{now}");
            before = now;
            std::thread::sleep(Duration::from_millis(200));
        }
    }

    /// Waits until the line with the cursor has no such text.
    pub fn without(&self, text: &str) {
        let start = Instant::now();
        let line = || {
            let seen = self.seen.lock().unwrap();
            let screen = seen.0.screen();
            let (_, columns) = screen.size();
            screen.rows(0, columns.get()).nth(usize::from(screen.cursor_position().0)).unwrap_or_default()
        };
        while line().contains(text) {
            assert!(start.elapsed() < PATIENCE, "{text} does not go:\n{}", self.text());
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    pub fn press(&mut self, keys: &str) {
        self.keyboard.write_all(keys.as_bytes()).unwrap();
    }

    pub fn resize(&self, lines: u16, columns: u16) {
        self.seen.lock().unwrap().0.screen_mut().set_size(cells(lines), cells(columns));
        resize(&self.keyboard, lines, columns);
    }

    /// Leaves, and tells whether that went well, and that the terminal is as it was.
    pub fn leave(mut self, keys: &str) {
        self.press(keys);
        let start = Instant::now();
        let status = loop {
            if let Some(status) = self.child.try_wait().unwrap() {
                break status;
            }
            assert!(start.elapsed() < PATIENCE, "it does not end:\n{}", self.text());
            std::thread::sleep(Duration::from_millis(20));
        };
        assert!(status.success(), "{status}: {}", self.text());
        // Its last words may still be on their way.
        let is_as_it_was = || {
            let seen = self.seen.lock().unwrap();
            !seen.0.screen().alternate_screen() && !seen.0.screen().hide_cursor()
        };
        while !is_as_it_was() {
            assert!(start.elapsed() < PATIENCE, "the terminal is left as it was");
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}
