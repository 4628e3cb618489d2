//! What surrounds a run: signals, limits, times of access, the current directory, and what the system sees of it.

use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant, SystemTime};

use super::support::{finish, has, lantern, not_compared, program, run, tree};

const STATUS: &[u8] =
    b"Package: tidegauge\nStatus: install ok installed\nVersion: 1\nArchitecture: all\nMaintainer: x\n";

/// Reading this takes minutes: the digest of twelve gigabytes that nobody has written.
#[test]
fn who_interrupts_verify_keeps_what_was_found() {
    let made = tree(&[
        ("etc/passwd", b"root:x:0:0::/root:/bin/sh\n"),
        ("var/lib/dpkg/status", STATUS),
        ("var/lib/dpkg/info/tidegauge.list", b"/.\n/usr\n/usr/gone\n/usr/tides\n"),
        ("var/lib/dpkg/info/tidegauge.md5sums", b"52f5ac132d06d650edad2d46ff65494f  usr/tides\n"),
        ("usr/tides", b""),
    ]);
    fs::File::options().write(true).open(made.path().join("usr/tides")).unwrap().set_len(12 << 30).unwrap();
    let mut command = Command::new(program());
    command.args(["verify", "--format", "json", "--root"]).arg(made.path());
    let running = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    // It has got to the large file.
    let open_files = format!("/proc/{}/fd", running.id());
    let is_reading = || {
        let files = fs::read_dir(&open_files).into_iter().flatten().flatten();
        files.filter_map(|file| fs::read_link(file.path()).ok()).any(|file| file.ends_with("usr/tides"))
    };
    let start = Instant::now();
    while !is_reading() {
        assert!(start.elapsed() < Duration::from_secs(60), "it never read the file");
        std::thread::sleep(Duration::from_millis(5));
    }
    let process = rustix::process::Pid::from_child(&running);
    rustix::process::kill_process(process, rustix::process::Signal::INT).unwrap();
    let ended = running.wait_with_output().unwrap();
    let document: serde_json::Value = serde_json::from_slice(&ended.stdout).unwrap();
    assert_eq!(ended.status.code(), Some(3));
    assert_eq!(document["stopped"], true);
    assert_eq!(document["findings"][0]["paths"][0], "/usr/gone");
    assert_eq!(document["extent"]["read"], 0);
}

#[test]
fn a_current_directory_that_is_gone_is_no_other_one() {
    let made = tempfile::tempdir().unwrap();
    let script = "cd \"$1\" && rmdir \"$1\" && exec \"$2\" owner ./etc/passwd";
    let mut command = Command::new("/bin/sh");
    let ran = finish(command.args(["-c", script, "sh"]).arg(made.path()).arg(program()));
    assert_eq!((ran.status, ran.out.as_str()), (2, ""));
    assert!(ran.err.contains("the current directory does not exist any more"), "{}", ran.err);
    // It is removed already.
    let _ = made.keep();
}

#[test]
fn what_is_read_does_not_look_used() {
    let made = tree(&[
        ("etc/passwd", b"root:x:0:0::/root:/bin/sh\n"),
        ("var/lib/dpkg/status", STATUS),
        ("var/lib/dpkg/info/tidegauge.list", b"/.\n/usr\n/usr/bin\n/usr/bin/tidegauge\n"),
        ("usr/bin/tidegauge", b"#!/bin/sh\n"),
    ]);
    let files = ["etc/passwd", "var/lib/dpkg/status", "var/lib/dpkg/info", "usr/bin/tidegauge"];
    // Long before the last change: a mount with relative times would set it anew.
    let long_ago = SystemTime::UNIX_EPOCH + Duration::from_secs(1_000_000_000);
    for file in files {
        let opened = fs::File::open(made.path().join(file)).unwrap();
        opened.set_times(fs::FileTimes::new().set_accessed(long_ago)).unwrap();
    }
    for command in ["check", "verify", "inventory"] {
        run([command, "--root", made.path().to_str().unwrap()]);
    }
    for file in files {
        assert_eq!(fs::metadata(made.path().join(file)).unwrap().atime(), 1_000_000_000, "{file}");
    }
}

#[test]
fn the_environment_does_not_choose_how_many_threads_there_are() {
    let made = tree(&[("etc/passwd", b"root:x:0:0::/root:/bin/sh\n"), ("var/lib/dpkg/status", STATUS)]);
    let mut command = Command::new(program());
    command.args(["inventory", "--verbose", "--verbose", "--root"]).arg(made.path());
    command.env("RAYON_NUM_THREADS", "100000");
    let ran = finish(&mut command);
    assert!(ran.status == 0 && ran.out.contains("tidegauge"), "{ran:?}");
}

/// System calls that a run may not make, and those that open: judged by what the kernel was asked.
const TRACED: &str = "trace=execve,execveat,socket,connect,bind,open,openat,openat2,creat,unlink,unlinkat,rename,renameat,\
                      renameat2,mkdir,mkdirat,rmdir,link,linkat,symlink,symlinkat,truncate,ftruncate,chmod,fchmod,fchmodat,\
                      chown,fchown,lchown,fchownat,mknod,mknodat,setxattr,lsetxattr,fsetxattr,utimensat,kill,mount";

#[test]
fn nothing_is_started_sent_written_or_opened_outside() {
    if !has(&["strace"]) {
        return;
    }
    let root = lantern().to_str().unwrap();
    let target = "/usr/bin/tidegauge";
    let commands: [&[&str]; 18] = [
        &["owner", "tidegauge", "chartdesk"],
        &["paths", "--all-users"],
        &["shadows"],
        &["launchers"],
        &["unowned"],
        &["impact", target],
        &["check"],
        &["conflicts"],
        &["verify"],
        &["inventory", "--all"],
        &["offers", "tidegauge"],
        &["states"],
        &["timeline", "tidegauge"],
        &["why", "python3.11"],
        &["space"],
        &["leftovers"],
        &["plan", "remove", "chartdesk"],
        &["explain", "missing-file"],
    ];
    for command in commands {
        for offline in [true, false] {
            // A live run reads this whole machine: that of what is named is enough.
            if !offline && matches!(command[0], "verify" | "unowned" | "check" | "conflicts" | "space" | "leftovers") {
                continue;
            }
            let log = tempfile::NamedTempFile::new().unwrap();
            let mut traced = Command::new("strace");
            traced.args(["-f", "-qq", "-s", "300", "-e", TRACED, "-e", "signal=none", "-o"]).arg(log.path());
            traced.arg(program()).args(command).args(offline.then_some(["--root", root]).into_iter().flatten());
            let output = traced.env_remove("PAGER").output().unwrap();
            assert!(output.status.code().is_some_and(|code| code < 2), "{command:?}: {output:?}");
            let log = fs::read_to_string(log.path()).unwrap();
            let calls: Vec<&str> =
                log.lines().filter_map(|line| line.split_once(' ').map(|(_, call)| call.trim_start())).collect();
            assert!(calls.len() > 3, "{command:?}: {log}");
            let started = calls.iter().filter(|call| call.starts_with("execve")).count();
            assert_eq!(started, 1, "{command:?}");
            // Of a thread that was between two calls when the process ended, no call was begun.
            let is_call = |call: &&&str| {
                !call.starts_with("execve") && !call.contains("resumed>") && **call != "???( <detached ...>"
            };
            for call in calls.iter().filter(is_call) {
                let opens = call.starts_with("open");
                assert!(
                    opens && !["O_WRONLY", "O_RDWR", "O_CREAT", "O_TRUNC"].iter().any(|flag| call.contains(flag)),
                    "{command:?}: {call}"
                );
                // Inside a root the kernel itself keeps what is opened there; by name only the program's own needs are
                // opened: its libraries and their seed, the root, its settings, what the system tells of limits.
                let is_contained = call.starts_with("openat2(") && call.contains("RESOLVE_IN_ROOT");
                let own = [
                    "/etc/ld.so",
                    "/dev/urandom",
                    "/lib",
                    "/usr/lib",
                    "/proc/",
                    "/sys/",
                    "/etc/whodunit",
                    "\".\"",
                    root,
                    "whodunit/config",
                ];
                let is_own = !offline || own.iter().any(|own| call.contains(own)) || !call.contains("AT_FDCWD");
                assert!(is_contained || is_own, "{command:?}: {call}");
            }
        }
    }
}

#[test]
fn settings_of_another_user_do_not_count() {
    if !rustix::process::geteuid().is_root() {
        // Only root can give a file away; a user who cannot is not in danger of one that was.
        return not_compared("files can be given to another user by root alone");
    }
    let made = tree(&[("etc/passwd", b"root:x:0:0::/root:/bin/sh\n"), ("var/lib/dpkg/status", STATUS)]);
    let home = tree(&[(".config/whodunit/config.toml", b"this is no setting\n")]);
    let file = home.path().join(".config/whodunit/config.toml");
    let ask = || {
        let mut command = Command::new(program());
        finish(
            command.env("HOME", home.path()).env_remove("XDG_CONFIG_HOME").args(["check", "--root"]).arg(made.path()),
        )
    };
    let own = ask();
    assert!(own.status == 2 && own.err.contains("config.toml, line 1"), "{own:?}");
    std::os::unix::fs::chown(&file, Some(12345), None).unwrap();
    let others = ask();
    assert!(others.status < 2 && others.err.contains("belongs to another user"), "{others:?}");
}
