//! What the set-up commands of managers would make a shell do, by rule: known programs and files are not run, and what
//! they would write is told as commands.

use super::run::Run;
use crate::Files;
use crate::eval::run::SMALL;
use crate::syntax::Dialect;
use whodunit_formats::bytes::{path, shell_word};

/// Programs that end well as far as start-up files care, and write nothing that bears on search paths.
pub(super) fn succeeds(program: &[u8]) -> bool {
    matches!(program, b"date" | b"sleep")
}

/// Programs that write nothing where a text is made of it, unless they are asked to.
pub(super) fn is_silent(program: &[u8], words: &[&[u8]]) -> bool {
    let known: [&[u8]; 6] = [b"mkdir", b"touch", b"chmod", b"sleep", b"rm", b"ln"];
    known.contains(&program) && !words.iter().any(|word| word.starts_with(b"-") && word.contains(&b'v'))
}

/// The commands that a program writes for the shell to take.
pub(super) fn of_program(run: &mut Run<'_>, file: &[u8], words: &[&[u8]]) -> Option<Vec<u8>> {
    let program = path::name(file);
    let home = run.state.get(b"HOME").unwrap_or_default().to_vec();
    let own = |run: &Run<'_>, variable: &[u8], below: &[u8]| {
        let set = run.state.get(variable).filter(|set| !set.is_empty()).map(<[u8]>::to_vec);
        set.unwrap_or_else(|| path::join(&home, below).to_vec())
    };
    // Words of a completion's script change no search path.
    let is_completion = words.iter().any(|word| word.windows(10).any(|part| part == b"completion"));
    match (program, words) {
        (b"brew", [b"shellenv", ..]) => Some(homebrew(run, file)),
        (b"path_helper", [] | [b"-s"]) => Some(super::path_helper::commands(run)),
        (b"pyenv" | b"rbenv" | b"nodenv" | b"goenv" | b"jenv", [b"init", ..]) => {
            let name = String::from_utf8_lossy(program).into_owned();
            let root = own(run, format!("{}_ROOT", name.to_uppercase()).as_bytes(), format!(".{name}").as_bytes());
            Some(shims(run, &name, &root, words))
        }
        (b"pyenv", [b"virtualenv-init", ..]) => {
            let shims = path::join(&own(run, b"PYENV_ROOT", b".pyenv"), b"plugins/pyenv-virtualenv/shims");
            Some(
                format!(
                    "export PATH={}:\"$PATH\" PYENV_VIRTUALENV_INIT=1\n_pyenv_virtualenv_hook() {{ :; }}\n",
                    shell_word(&shims)
                )
                .into_bytes(),
            )
        }
        (b"conda" | b"mamba", words) if words.iter().any(|word| *word == b"hook") => {
            let base = path::parent(path::parent(file));
            Some(conda(run, base, &home))
        }
        (b"mise" | b"rtx", [b"activate", ..]) => {
            let unknown = run.note_unknown("mise changes the search path at each prompt");
            run.taint_all(unknown);
            Some(b"mise() { command mise \"$@\"; }\n".to_vec())
        }
        (b"fnm", [b"env", ..]) => {
            let dir = run.unknown_value("fnm adds a directory that it creates for each shell");
            Some([&b"export PATH="[..], &dir, b":\"$PATH\"\n"].concat())
        }
        (b"dircolors", _) => Some(b"LS_COLORS='di=01;34'\nexport LS_COLORS\n".to_vec()),
        (b"lesspipe" | b"lesspipe.sh", _) => {
            Some(b"export LESSOPEN='| lesspipe %s'\nexport LESSCLOSE='lesspipe %s %s'\n".to_vec())
        }
        (b"ssh-agent", [] | [b"-s"]) => {
            Some(b"SSH_AUTH_SOCK=/tmp/agent; export SSH_AUTH_SOCK; SSH_AGENT_PID=1; export SSH_AGENT_PID\n".to_vec())
        }
        (b"flatpak", [b"--installations"]) => Some(installations(run)),
        (b"go", [b"env", b"GOPATH"]) => Some([own(run, b"GOPATH", b"go"), b"\n".to_vec()].concat()),
        (b"npm", [b"bin" | b"prefix", b"-g"]) => None,
        _ if is_completion => Some(Vec::new()),
        _ => None,
    }
}

/// `brew shellenv`.
fn homebrew(run: &Run<'_>, file: &[u8]) -> Vec<u8> {
    let prefix = path::parent(path::parent(file)).to_vec();
    let list = run.state.get(b"PATH").unwrap_or_default();
    let front = [&prefix[..], b"/bin:", &prefix, b"/sbin"].concat();
    if list.starts_with(&front) {
        return Vec::new();
    }
    let prefix = shell_word(&prefix);
    format!(
        "export HOMEBREW_PREFIX={prefix} HOMEBREW_CELLAR={prefix}/Cellar HOMEBREW_REPOSITORY={prefix}/Homebrew\n\
             export PATH={prefix}/bin:{prefix}/sbin\"${{PATH+:$PATH}}\"\n\
             [ -z \"${{MANPATH-}}\" ] || export MANPATH=\":${{MANPATH#:}}\"\n\
             export INFOPATH={prefix}/share/info:\"${{INFOPATH:-}}\"\n"
    )
    .into_bytes()
}

/// `init` of pyenv and the managers made after the same plan.
fn shims(run: &Run<'_>, name: &str, root: &[u8], words: &[&[u8]]) -> Vec<u8> {
    // Without a dash it only says what is to be written into a start-up file.
    if !words.iter().any(|word| matches!(*word, b"-" | b"--path")) {
        return Vec::new();
    }
    let shims = path::join(root, b"shims");
    let list = run.state.get(b"PATH").unwrap_or_default();
    let rest: Vec<&[u8]> = match name {
        // The newer ones take it out of where it was.
        "pyenv" => list.split(|&b| b == b':').filter(|part| **part != *shims).collect(),
        _ => list.split(|&b| b == b':').collect(),
    };
    let is_moved = rest.len() != list.split(|&b| b == b':').count();
    let shims = shell_word(&shims);
    let set = match (name, is_moved) {
        // What is named at the end is empty: it tells that the rest is what was there.
        ("pyenv", true) => {
            format!("export PATH={shims}:{}\"${{PATH:+}}\"\n", shell_word(&rest.join(&b':')))
        }
        _ => format!("export PATH={shims}:\"$PATH\"\n"),
    };
    let function = format!("{name}() {{ command {name} \"$@\"; }}\n");
    let has_function = !words.contains(&&b"--path"[..]);
    format!("{set}{}", if has_function { function } else { String::new() }).into_bytes()
}

/// A conda set-up: the function, `condabin`, and the base environment unless a user said no.
fn conda(run: &Run<'_>, base: &[u8], home: &[u8]) -> Vec<u8> {
    let settings = run.seen().read(&path::join(home, b".condarc"), SMALL).unwrap_or_default();
    let is_off = settings.split(|&b| b == b'\n').any(|line| {
        let line: Vec<u8> = line.iter().filter(|b| !b.is_ascii_whitespace()).map(u8::to_ascii_lowercase).collect();
        [&b"auto_activate_base:false"[..], b"auto_activate:false"].contains(&line.as_slice())
    });
    let base = shell_word(base);
    let mut text = format!("conda() {{ command conda \"$@\"; }}\nexport CONDA_EXE={base}/bin/conda CONDA_SHLVL=0\n");
    text.push_str(&format!("export PATH={base}/condabin:\"$PATH\"\n"));
    if !is_off {
        text.push_str(&format!("export PATH={base}/bin:\"$PATH\" CONDA_PREFIX={base} CONDA_SHLVL=1\n"));
    }
    text.into_bytes()
}

/// The installations of the machine, one a line.
fn installations(run: &Run<'_>) -> Vec<u8> {
    let mut text = b"/var/lib/flatpak\n".to_vec();
    let dir = b"/etc/flatpak/installations.d";
    let names = run.seen().list(dir);
    for (name, _) in names.iter().filter(|(name, _)| name.ends_with(b".conf")) {
        let content = run.seen().read(&path::join(dir, name), SMALL).unwrap_or_default();
        for line in content.split(|&b| b == b'\n') {
            if let Some(place) = line.trim_ascii().strip_prefix(b"Path=") {
                text.extend_from_slice(place);
                text.push(b'\n');
            }
        }
    }
    text
}

/// Files of managers that are large or ask programs: what they do, as commands. None: the file is followed itself.
pub(super) fn of_file(run: &mut Run<'_>, file: &[u8]) -> Option<Vec<u8>> {
    let dir = path::parent(file);
    match path::name(file) {
        // Completions define functions of their own and change no search path.
        b"bash_completion" => Some(Vec::new()),
        b"nvm.sh" if run.dialect() != Dialect::Posix || run.is_dir(&path::join(dir, b"versions")) => {
            let mut text = b"nvm() { :; }\n".to_vec();
            if let Some(version) = nvm_version(run, dir) {
                let bin = path::join(&path::join(dir, b"versions/node"), &[&version[..], b"/bin"].concat());
                if run.is_dir(&bin) {
                    text.extend(format!("export NVM_BIN={0} PATH={0}:\"$PATH\"\n", shell_word(&bin)).into_bytes());
                }
            }
            Some(text)
        }
        b"sdkman-init.sh" => {
            let candidates = path::join(path::parent(dir), b"candidates");
            let names = run.seen().list(&candidates);
            let mut names: Vec<_> = names.into_iter().map(|(name, _)| name).collect();
            names.sort();
            let mut text = b"sdk() { :; }\n".to_vec();
            for name in names {
                let current = path::join(&path::join(&candidates, &name), b"current");
                if run.is_dir(&current) {
                    let bin = path::join(&current, b"bin");
                    let bin = if run.is_dir(&bin) { bin } else { current };
                    text.extend(format!("export PATH={}:\"$PATH\"\n", shell_word(&bin)).into_bytes());
                }
            }
            Some(text)
        }
        _ => None,
    }
}

/// The version that nvm's alias `default` leads to.
fn nvm_version(run: &Run<'_>, dir: &[u8]) -> Option<Vec<u8>> {
    let read = |name: &[u8]| -> Option<Vec<u8>> {
        let file = path::join(&path::join(dir, b"alias"), name);
        let content = run.seen().read(&file, SMALL).ok()?;
        Some(content.split(|&b| b == b'\n').next()?.trim_ascii().to_vec()).filter(|text| !text.is_empty())
    };
    let mut wanted = read(b"default")?;
    for _ in 0..8 {
        match read(&wanted) {
            Some(next) if next != wanted => wanted = next,
            _ => break,
        }
    }
    let wanted = wanted.strip_prefix(b"v").unwrap_or(&wanted).to_vec();
    let versions = run.seen().list(&path::join(dir, b"versions/node"));
    let fits = |name: &&[u8]| {
        let bare = name.strip_prefix(b"v").unwrap_or(name);
        matches!(&wanted[..], b"node" | b"stable") || bare == wanted || bare.starts_with(&[&wanted[..], b"."].concat())
    };
    let found = versions.iter().map(|(name, _)| &**name).filter(fits);
    found.max_by(|a, b| crate::eval::natural::compare(a, b)).map(<[u8]>::to_vec)
}

/// Whether a program writes commands for the shell to take.
pub(super) fn is_set_up(file: Option<&[u8]>, words: &[Vec<u8>]) -> bool {
    let first = words.first().map_or(&b""[..], Vec::as_slice);
    let is_hook = words.iter().any(|word| word == b"hook");
    match file.map(path::name) {
        Some(b"brew") => first == b"shellenv",
        Some(b"pyenv" | b"rbenv" | b"nodenv" | b"goenv" | b"jenv") => matches!(first, b"init" | b"virtualenv-init"),
        Some(b"conda" | b"mamba") => is_hook,
        Some(b"path_helper") => true,
        Some(b"mise" | b"fnm") => matches!(first, b"activate" | b"env"),
        _ => false,
    }
}

/// The same in fish's language: what the rule would set, set there.
pub(super) fn of_program_in_fish(run: &mut Run<'_>, file: &[u8], words: &[Vec<u8>]) -> Vec<Vec<u8>> {
    let words: Vec<&[u8]> = words.iter().map(Vec::as_slice).collect();
    let Some(text) = of_program(run, file, &words) else { return Vec::new() };
    let before = run.state.clone();
    let outer = run.output.take();
    let dialect = std::mem::replace(&mut run.at.dialect, Dialect::Bash);
    let _ = run.text(&text);
    run.at.dialect = dialect;
    run.output = outer;
    let after = std::mem::replace(&mut run.state, before);
    let mut lines = Vec::new();
    for (name, variable) in &after.variables {
        if run.state.variables.get(name) != Some(variable) && variable.exported {
            let separator = if name.ends_with(b"PATH") { b':' } else { 0 };
            let values = variable.as_text().split(|&b| b == separator).map(|part| shell_word(part).into_bytes());
            lines.push([&b"set -gx "[..], name, b" ", &values.collect::<Vec<_>>().join(&b' ')].concat());
        }
    }
    let new = after.functions.keys().filter(|name| !run.state.functions.contains_key(*name));
    lines.extend(new.map(|name| [&b"function "[..], name, b"; command ", name, b" $argv; end"].concat()));
    lines
}
