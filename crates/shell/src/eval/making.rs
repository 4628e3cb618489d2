//! What programs and redirections make and remove, as far as their words tell.

use super::builtin_names::among;
use super::made::{MAX_CONTENT, MAX_FILES, Made, Seen, key};
use super::piece::is_known;
use super::run::{MAX_FILE, Run};
use crate::{FileType, Files, ReadError};
use whodunit_formats::bytes::path;

impl Run<'_> {
    /// The files as the commands that are followed find them.
    pub(super) fn seen(&self) -> Seen<'_> {
        let (disk, uid) = (self.at.files, self.at.user.uid);
        Seen::new(disk, &self.state.made, uid, &self.why_astray)
    }

    /// Notes what becomes of a file; where it is a link, of that or of what it leads to.
    pub(super) fn make(&mut self, file: &[u8], follows: bool, made: Made) {
        self.has_touched = true;
        let file = key(self.at.files, &self.absolute(file), follows);
        if self.state.made.len() < MAX_FILES {
            // What was below is gone, or not known, with it.
            self.state.made.retain(|known, _| !(known.starts_with(&file) && known.get(file.len()) == Some(&b'/')));
            self.state.made.insert(file, made);
        } else {
            self.stop("too many files are changed");
        }
    }

    /// Notes that a command writes a file, and what, where that is known: what it adds to where `appends`.
    pub(super) fn writes_file(&mut self, file: &[u8], appends: bool, content: Option<Vec<u8>>) {
        if !is_known(file) || file.is_empty() || file.starts_with(b"/dev/") {
            return;
        }
        let astray = self.why_astray.get();
        let before = if appends { self.seen().read(&self.absolute(file), MAX_FILE) } else { Ok(Vec::new()) };
        self.why_astray.set(astray);
        let content = match (before, content.filter(|content| is_known(content))) {
            (Ok(before), Some(content)) => Some([before, content].concat()),
            (Err(ReadError::Absent(_)), content) => content,
            _ => None,
        };
        let kept = |made: &Made| if let Made::File(Some(content)) = made { content.len() } else { 0 };
        let room = MAX_CONTENT.saturating_sub(self.state.made.values().map(kept).sum());
        let content = content.filter(|content| content.len() <= room).map(Into::into);
        // What was removed before is made again, with the rights of a new file.
        let is_new = self.state.made.get(&key(self.at.files, &self.absolute(file), true)) == Some(&Made::Gone);
        self.make(file, true, if is_new { Made::Unknown } else { Made::File(content) });
    }

    /// What a program makes or removes, and how it ends, where it is one that does nothing else.
    pub(super) fn making(&mut self, program: &[u8], words: &[&[u8]]) -> Option<Option<u8>> {
        let ends = words.iter().position(|word| *word == b"--").unwrap_or(words.len());
        let (mut options, mut operands) = (Vec::new(), Vec::new());
        for (at, word) in words.iter().enumerate().filter(|(at, _)| *at != ends) {
            let is_option = at < ends && word.len() > 1 && word.starts_with(b"-");
            if is_option { options.push(*word) } else { operands.push(*word) }
        }
        let letters: Option<Vec<u8>> =
            options.iter().map(|word| letters_of(word)).collect::<Option<Vec<_>>>().map(|all| all.concat());
        let fits = |known: &[u8]| letters.as_ref().is_some_and(|letters| letters.iter().all(|one| known.contains(one)));
        let has = |letter: u8| letters.as_ref().is_some_and(|letters| letters.contains(&letter));
        let each = |run: &mut Self, one: &dyn Fn(&mut Self, &[u8]) -> Option<u8>| {
            let ends: Vec<Option<u8>> = operands.iter().map(|file| one(run, file)).collect();
            let worst = ends.iter().copied().collect::<Option<Vec<u8>>>()?;
            if worst.is_empty() { None } else { worst.into_iter().max() }
        };
        Some(match program {
            b"mkdir" if fits(b"pv") => each(self, &|run, dir| run.make_dir(dir, has(b'p'))),
            b"touch" if fits(b"") => each(self, &|run, file| run.touch(file)),
            b"rm" if fits(b"fvrR") => each(self, &|run, file| run.remove(file, has(b'f'), has(b'r') || has(b'R'))),
            b"rmdir" if fits(b"") => each(self, &|run, dir| {
                let is_empty = run.is_dir(dir) && run.seen().list(&run.absolute(dir)).is_empty();
                if is_empty { run.remove(dir, true, true) } else { Some(1) }
            }),
            b"chmod"
                if let [mode, files @ ..] = &operands[..]
                    && files.iter().all(|file| self.has_mode(file, mode)) =>
            {
                Some(0)
            }
            b"ln"
                if let [target, link] = operands[..]
                    && has(b's')
                    && self.seen().read_link(&self.absolute(link)).is_some_and(|there| *there == *target)
                    && !self.is_dir(link) =>
            {
                Some(u8::from(!has(b'f')))
            }
            b"mkdir" | b"touch" | b"rm" | b"rmdir" | b"cp" | b"mv" | b"ln" | b"install" | b"chmod" | b"tee"
            | b"unlink" | b"truncate" | b"dd" => {
                self.make_unknown(program, &operands);
                None
            }
            _ => return None,
        })
    }

    /// Whether a file that is there has this mode already, which is written in octal digits.
    fn has_mode(&self, file: &[u8], mode: &[u8]) -> bool {
        let mode = std::str::from_utf8(mode).ok().and_then(|mode| u32::from_str_radix(mode, 8).ok());
        self.meta(file).is_some_and(|meta| Some(meta.mode & 0o7777) == mode)
    }

    fn touch(&mut self, file: &[u8]) -> Option<u8> {
        self.has_touched = true;
        match self.meta(file) {
            Some(meta) => return Some(u8::from(meta.owner != self.at.user.uid && !self.may(meta, 2))),
            None if self.cannot_write(">>", file) => return Some(1),
            None => self.make(file, true, Made::File(Some([].into()))),
        }
        Some(0)
    }

    fn make_dir(&mut self, dir: &[u8], with_parents: bool) -> Option<u8> {
        if let Some(there) = self.kind(dir) {
            return Some(u8::from(!with_parents || there != FileType::Dir));
        }
        let dir = self.absolute(dir);
        let is_link = self.seen().entry_type(&dir).is_some();
        let above = path::parent(&dir).to_vec();
        if is_link || above.is_empty() {
            return Some(1);
        }
        if with_parents && self.meta(&above).is_none() {
            match self.make_dir(&above, true) {
                Some(0) => {}
                ends => return ends,
            }
        }
        if self.cannot_write(">>", &dir) {
            return Some(1);
        }
        self.make(&dir, true, Made::Dir);
        Some(0)
    }

    fn remove(&mut self, file: &[u8], is_forced: bool, is_deep: bool) -> Option<u8> {
        let path = self.absolute(file);
        let Some(there) = self.seen().entry_type(&path) else { return Some(u8::from(!is_forced)) };
        let is_dir = there == FileType::Dir;
        if is_dir && !is_deep {
            return Some(1);
        }
        let above = self.meta(path::parent(&path));
        let may = above.is_none_or(|dir| self.may(dir, 2));
        // What is written-protected is asked about, and a directory can keep what is in it.
        let is_sure = self.at.user.uid == 0 || is_forced && !is_dir;
        let made = if may && is_sure { Made::Gone } else { Made::Unknown };
        let status = if made == Made::Gone { Some(0) } else { None };
        self.make(&path, false, made);
        status
    }

    /// Of each file that one of these words may name, nobody knows what it will be.
    fn make_unknown(&mut self, program: &[u8], operands: &[&[u8]]) {
        // In a directory that is there, a copy gets the name of the first.
        if let (b"cp" | b"mv" | b"ln" | b"install", [sources @ .., last]) = (program, operands)
            && self.is_dir(last)
        {
            for source in sources {
                self.make_perhaps(&path::join(last, path::name(source)));
                if program == b"mv" {
                    self.make_perhaps(source);
                }
            }
        } else {
            for file in operands {
                // What is written anew stays where it is.
                match self.kind(file) {
                    Some(FileType::File) if matches!(program, b"cp" | b"tee" | b"dd" | b"truncate") => {
                        self.writes_file(file, false, None);
                    }
                    _ => self.make_perhaps(file),
                }
            }
        }
    }

    /// Notes that nobody knows what becomes of a file, and of those directories above it that are not there.
    fn make_perhaps(&mut self, file: &[u8]) {
        let file = self.absolute(file);
        let mut highest = &file[..];
        while let above = path::parent(highest)
            && above.len() > 1
            && self.at.files.metadata(above).is_none()
            && !self.state.made.contains_key(above)
        {
            highest = above;
        }
        self.make(highest, true, Made::Unknown);
    }

    /// A program that is not known may make what its words name and what is not there, and change what was made before.
    pub(super) fn may_make(&mut self, program: &[u8], words: &[&[u8]]) {
        let is_in_place = |word: &&[u8]| word.starts_with(b"-i") || word.starts_with(b"--in-place");
        if matches!(program, b"sed" | b"perl") && words.iter().any(is_in_place) {
            let files: Vec<&[u8]> = words.iter().copied().filter(|word| self.meta(word).is_some()).collect();
            files.into_iter().for_each(|file| self.writes_file(file, false, None));
        }
        if among(READERS, program) {
            return;
        }
        let (takes_commands, takes_a_command) = (among(INTERPRETERS, program), among(WRAPPERS, program));
        for word in words {
            if takes_commands && word.iter().any(|b| b" ;(".contains(b)) {
                let is_apart = |b: &u8| b.is_ascii_whitespace() || b"'\"();<>|&=,".contains(b);
                let writes =
                    [&b">"[..], b"open", b"write"].iter().any(|sign| memchr::memmem::find(word, sign).is_some());
                for file in word.split(is_apart).filter(|part| !part.is_empty()) {
                    if writes && self.kind(file) == Some(FileType::File) {
                        self.make_perhaps(file);
                    } else {
                        self.may_change(file);
                    }
                }
                continue;
            }
            let value =
                memchr::memchr(b'=', word).filter(|_| word.starts_with(b"-")).map_or(*word, |at| &word[at + 1..]);
            let is_option = value.starts_with(b"-");
            let is_path = memchr::memchr(b'/', value).is_some();
            if !is_option && (is_path || takes_a_command || self.is_made(value)) {
                self.may_change(value);
            }
        }
    }

    /// Whether it is noted already what became of a file.
    fn is_made(&self, file: &[u8]) -> bool {
        self.state.made.contains_key(&key(self.at.files, &self.absolute(file), true))
    }

    fn may_change(&mut self, file: &[u8]) {
        if self.is_made(file) || self.at.files.entry_type(&self.absolute(file)).is_none() {
            self.make_perhaps(file);
        }
    }
}

/// The letters that an option stands for; none where it takes a word, or is none of these.
fn letters_of(option: &[u8]) -> Option<Vec<u8>> {
    let letter = match option {
        b"--parents" => b'p',
        b"--verbose" => b'v',
        b"--force" => b'f',
        b"--recursive" => b'r',
        _ => return option.strip_prefix(b"-").filter(|letters| !letters.starts_with(b"-")).map(<[u8]>::to_vec),
    };
    Some(vec![letter])
}

/// Programs that make no file.
const READERS: &str = "[ awk basename cat cmp comm cut date diff dircolors dirname du echo egrep expr fgrep file find \
                       getconf getent grep head hostname id join kill less locale ls lesspipe man more mountpoint \
                       nl nproc od pgrep printf ps pwd readlink realpath seq sleep stat stty sum tac tail test \
                       tput tr true tty uname uniq wc which whoami xxd zcat";

/// Programs to which another is given with its words.
const WRAPPERS: &str = "doas env ionice nice nohup setsid stdbuf sudo timeout xargs";

/// Programs to which commands are given as a word.
const INTERPRETERS: &str = "bash dash fish lua node perl php python python2 python3 ruby sh tclsh zsh";
