//! The first line of a script: `#!INTERPRETER [ARGUMENT]`, as Linux reads it (`execve(2)`,
//! "Interpreter scripts").
//!
//! Traps: the kernel looks at the first 256 bytes only; blanks before and after the interpreter are
//! skipped; everything after it is *one* argument; `env` takes that argument as a command name, with
//! `-S` as a whole command line.

/// What the kernel looks at.
pub const LOOKED_AT: usize = 256;

/// A script's first line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Shebang<'a> {
    /// The line, without its line feed.
    pub line: &'a [u8],
    /// The interpreter's path as written.
    pub interpreter: &'a [u8],
    /// What follows it, as one argument; may be empty.
    pub argument: &'a [u8],
}

impl<'a> Shebang<'a> {
    /// Reads the start of a file; `None` when it is no script.
    #[must_use]
    pub fn parse(start: &'a [u8]) -> Option<Self> {
        let start = &start[..start.len().min(LOOKED_AT)];
        let line = start.strip_prefix(b"#!")?;
        let line = line.split(|&b| b == b'\n' || b == 0).next().unwrap_or_default();
        let rest = line.trim_ascii();
        let end = rest.iter().position(|b| matches!(b, b' ' | b'\t')).unwrap_or(rest.len());
        let (interpreter, argument) = rest.split_at(end);
        if interpreter.is_empty() {
            return None;
        }
        let whole = &start[..line.len() + 2];
        Some(Shebang { line: whole.trim_ascii_end(), interpreter, argument: argument.trim_ascii() })
    }

    /// The command that `env` is asked to look up on the search path, where `env` is the interpreter.
    #[must_use]
    pub fn looked_up(&self) -> Option<&'a [u8]> {
        if crate::bytes::path::name(self.interpreter) != b"env" {
            return None;
        }
        let mut words = self.argument.split(|b| matches!(b, b' ' | b'\t')).filter(|word| !word.is_empty());
        let mut word = words.next()?;
        // Options and assignments come before the command; `-S` merely allows several words.
        while word.starts_with(b"-") || word.contains(&b'=') {
            if word.starts_with(b"-u") || word.starts_with(b"-C") {
                words.next();
            }
            word = words.next()?;
        }
        Some(word)
    }
}

/// The interpreter that a script hands itself to in its second line, for want of room in the first: Python's
/// installers write `#!/bin/sh` and `'''exec' "/long path/python" "$0" "$@"`, which is a string to Python.
#[must_use]
pub fn handed_to(start: &[u8]) -> Option<&[u8]> {
    let second = start.split(|&b| b == b'\n').nth(1)?;
    let rest = second.strip_prefix(b"'''exec' ")?.trim_ascii_start();
    let end = match rest.strip_prefix(b"\"") {
        Some(quoted) => return Some(&quoted[..memchr::memchr(b'"', quoted)?]),
        None => memchr::memchr(b' ', rest)?,
    };
    Some(&rest[..end])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_script_can_hand_itself_to_an_interpreter() {
        let script = b"#!/bin/sh\n'''exec' \"/home/maren/tide lab/bin/python\" \"$0\" \"$@\"\n' '''\nimport x\n";
        assert_eq!(handed_to(script), Some(&b"/home/maren/tide lab/bin/python"[..]));
        assert_eq!(handed_to(b"#!/bin/sh\n'''exec' /opt/py/bin/python \"$0\"\n"), Some(&b"/opt/py/bin/python"[..]));
        for script in ["#!/bin/sh\necho\n", "#!/bin/sh", "#!/bin/sh\n'''exec' \"/x", "#!/bin/sh\n'''exec' /x"] {
            assert_eq!(handed_to(script.as_bytes()), None, "{script}");
        }
    }

    #[test]
    fn the_interpreter_is_found_as_the_kernel_finds_it() {
        let long = format!("#!/{}", "x".repeat(400));
        for (start, interpreter, argument, looked_up) in [
            ("#!/bin/sh\necho", "/bin/sh", "", None),
            ("#! /usr/bin/perl -w -T\r\n", "/usr/bin/perl", "-w -T", None),
            ("#!/usr/bin/env python3\n", "/usr/bin/env", "python3", Some("python3")),
            ("#!/usr/bin/env -S -i A=b node --x\n", "/usr/bin/env", "-S -i A=b node --x", Some("node")),
            ("#!/usr/bin/env\n", "/usr/bin/env", "", None),
            (&long, &long[2..LOOKED_AT], "", None),
        ] {
            let read = Shebang::parse(start.as_bytes()).unwrap();
            assert_eq!((read.interpreter, read.argument), (interpreter.as_bytes(), argument.as_bytes()));
            assert_eq!(read.looked_up(), looked_up.map(str::as_bytes), "{start}");
        }
        for start in ["", "#", "#!", "#!  \n/bin/sh", "\x7fELF"] {
            assert_eq!(Shebang::parse(start.as_bytes()), None);
        }
    }
}
