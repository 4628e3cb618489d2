//! Start-up files that this machine's packages ship, followed and compared with the shells.

use std::fs;
use std::path::{Path, PathBuf};

use super::machine::{Machine, silently_wrong};
use super::{SHELLS, is_here};

/// Where packages put start-up files, and the shells that read them.
const PLACES: [(&str, &[&str]); 7] = [
    ("/etc/profile.d", &["sh", "bash"]),
    ("/etc/X11/Xsession.d", &["sh"]),
    ("/etc/skel", &["sh", "bash", "zsh"]),
    ("/etc/zsh", &["zsh"]),
    ("/etc/fish/conf.d", &["fish"]),
    ("/usr/share/fish/vendor_conf.d", &["fish"]),
    ("/usr/share/zsh/vendor-functions", &["zsh"]),
];

/// The files of a place that a shell would read.
fn files(place: &str, shell: &str) -> Vec<PathBuf> {
    let entries = fs::read_dir(place).into_iter().flatten().flatten();
    let mut files: Vec<PathBuf> = entries.map(|entry| entry.path()).filter(|path| path.is_file()).collect();
    files.retain(|file| {
        let name = file.file_name().unwrap_or_default().to_string_lossy();
        let is_for = |shell: &str| name.ends_with(shell) || name.contains(&format!(".{shell}"));
        let others = SHELLS.into_iter().chain(["csh", "face"]).filter(|other| *other != "sh" && *other != shell);
        !(others.into_iter().any(is_for) || name == ".profile" && shell == "zsh")
    });
    files
}

/// The files below a directory whose names end with that of a shell.
fn below(dir: &Path, shell: &str, found: &mut Vec<PathBuf>) {
    for path in fs::read_dir(dir).into_iter().flatten().flatten().map(|entry| entry.path()) {
        if path.is_dir() && !path.is_symlink() {
            below(&path, shell, found);
        } else if path.is_file() && path.extension().is_some_and(|extension| extension == shell) {
            found.push(path);
        }
    }
}

/// Each file alone. `WHODUNIT_CORPUS` names directories below which there are more, separated by colons.
#[test]
fn start_up_files_of_packages_are_followed_as_the_shells_follow_them() {
    let machine = Machine::new(&format!("shell-corpus-{}", std::process::id()));
    let (mut told, mut uncertain, mut wrong) = (0, 0, Vec::new());
    for shell in SHELLS.into_iter().filter(|shell| is_here(shell)) {
        let mut all: Vec<PathBuf> = PLACES
            .iter()
            .filter(|(_, shells)| shells.contains(&shell))
            .flat_map(|(place, _)| files(place, shell))
            .collect();
        let more = std::env::var("WHODUNIT_CORPUS").unwrap_or_default();
        for dir in more.split_terminator(':').filter(|_| shell != "sh") {
            below(Path::new(dir), shell, &mut all);
        }
        // The shell itself reads this one, with variables of its own.
        all.retain(|file| file != Path::new("/usr/share/fish/config.fish"));
        all.sort();
        all.dedup();
        for file in &all {
            let (word, file) = (if shell == "sh" { "." } else { "source" }, file.display());
            let script = format!("{word} '{file}'");
            let (ours, unknowns) = machine.ours(shell, &script);
            let differences = silently_wrong(&ours, &machine.theirs(shell, &script));
            if ours.iter().flatten().any(|(_, value)| value.is_none()) {
                println!("uncertain: {shell} {file}: {}", unknowns.join("; "));
                uncertain += 1;
            }
            told += 1;
            wrong.extend((!differences.is_empty()).then(|| format!("{shell} {file}: {}", differences.join("; "))));
        }
    }
    println!("{told} start-up files of packages, {uncertain} uncertain, {} wrong", wrong.len());
    assert!(wrong.is_empty(), "{}", machine.shown(&wrong.join("\n")));
}
