//! What each context of a user searches, from the files that decide it: `pam_env(8)`, `login.defs(5)`, `sudoers(5)`,
//! `crontab(5)`, `environment.d(5)`, `systemd.exec(5)`, and each shell's own start-up files.

#![expect(clippy::disallowed_methods, reason = "builds the trees that are read")]

#[expect(dead_code, reason = "the machines of other tests have more on them")]
#[path = "support/machine.rs"]
mod machine;

use machine::Machine;
use whodunit_core::fs::Root;
use whodunit_core::host::{Host, ProcessEnv, UserSelection};
use whodunit_core::resolve::contexts::resolve_context;
use whodunit_core::resolve::{Context, Overrides, SearchPath};

/// A machine's files, and what a context of maren's searches there.
struct Row {
    why: &'static str,
    files: &'static [(&'static str, &'static str)],
    context: Context,
    path: &'static str,
}

/// `ID` and `ID_LIKE` of a system.
const DEBIAN: (&str, &str) = ("etc/os-release", "ID=debian\n");
const UBUNTU: (&str, &str) = ("etc/os-release", "ID=ubuntu\nID_LIKE=debian\n");
const FEDORA: (&str, &str) = ("etc/os-release", "ID=fedora\n");
/// maren's account, by her shell.
const BASH: (&str, &str) = ("etc/passwd", "root:x:0:0::/root:/bin/bash\nmaren:x:1000:1000::/home/maren:/bin/bash\n");
const DASH: (&str, &str) = ("etc/passwd", "root:x:0:0::/root:/bin/sh\nmaren:x:1000:1000::/home/maren:/bin/sh\n");
const ZSH: (&str, &str) = ("etc/passwd", "root:x:0:0::/root:/bin/zsh\nmaren:x:1000:1000::/home/maren:/bin/zsh\n");
const FISH: (&str, &str) = ("etc/passwd", "root:x:0:0::/root:/bin/fish\nmaren:x:1000:1000::/home/maren:/bin/fish\n");
/// Which services read `/etc/environment`.
const PAM_LOGIN: (&str, &str) = ("etc/pam.d/login", "session required pam_env.so\n");

fn searched(files: &[(&str, &str)], context: Context) -> String {
    let machine = ["home/maren/", "root/"].iter().fold(Machine::empty(), |machine, dir| machine.file(dir, ""));
    let machine = files.iter().fold(machine, |machine, (path, content)| machine.file(path, content));
    let host = Host::new(Root::offline(machine.path()).unwrap(), &UserSelection::All, ProcessEnv::default()).unwrap();
    let maren = host.users.iter().find(|user| *user.name == *b"maren").expect("her account");
    let resolved = resolve_context(&host, context, maren, &Overrides::default());
    let search = SearchPath::in_context(&host, &resolved);
    let dirs: Vec<String> = search.entries.iter().map(|entry| entry.spelled.to_string()).collect();
    let uncertain = if resolved.unknowns.is_empty() { "" } else { " ?" };
    dirs.join(":") + uncertain
}

fn compare(rows: &[Row]) {
    let wrong: Vec<String> = rows
        .iter()
        .filter_map(|row| {
            let searched = searched(row.files, row.context);
            (searched != row.path).then(|| format!("{}\n  expected {}\n  searched {searched}", row.why, row.path))
        })
        .collect();
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn a_login_searches_what_its_shell_reads() {
    compare(&[
        Row {
            why: "the system's profile, then the user's",
            files: &[
                DEBIAN,
                DASH,
                ("etc/profile", "PATH=/usr/bin:/bin\n"),
                ("home/maren/.profile", "PATH=/opt/a:$PATH\n"),
            ],
            context: Context::Login,
            path: "/opt/a:/usr/bin:/bin",
        },
        Row {
            why: "bash reads the first of three files, and .profile only where there is no other",
            files: &[
                DEBIAN,
                BASH,
                ("etc/profile", "PATH=/usr/bin\n"),
                ("home/maren/.bash_login", "PATH=$PATH:/opt/login\n"),
                ("home/maren/.profile", "PATH=$PATH:/opt/profile\n"),
            ],
            context: Context::Login,
            path: "/usr/bin:/opt/login",
        },
        Row {
            why: ".bash_profile comes before .bash_login",
            files: &[
                DEBIAN,
                BASH,
                ("etc/profile", "PATH=/usr/bin\n"),
                ("home/maren/.bash_profile", "PATH=$PATH:/opt/own\n"),
                ("home/maren/.bash_login", "PATH=$PATH:/opt/login\n"),
            ],
            context: Context::Login,
            path: "/usr/bin:/opt/own",
        },
        Row {
            why: "an empty .bash_profile is one too",
            files: &[
                DEBIAN,
                BASH,
                ("etc/profile", "PATH=/usr/bin\n"),
                ("home/maren/.bash_profile", ""),
                ("home/maren/.profile", "PATH=$PATH:/opt/profile\n"),
            ],
            context: Context::Login,
            path: "/usr/bin",
        },
        Row {
            why: "and so is a directory of that name, which bash cannot read",
            files: &[
                DEBIAN,
                BASH,
                ("etc/profile", "PATH=/usr/bin\n"),
                ("home/maren/.bash_profile/", ""),
                ("home/maren/.profile", "PATH=/nowhere\n"),
            ],
            context: Context::Login,
            path: "/usr/bin",
        },
        Row {
            why: "a link that leads nowhere is none",
            files: &[
                DEBIAN,
                BASH,
                ("etc/profile", "PATH=/usr/bin\n"),
                ("home/maren/.bash_profile", "-> /nowhere"),
                ("home/maren/.profile", "PATH=$PATH:/opt/profile\n"),
            ],
            context: Context::Login,
            path: "/usr/bin:/opt/profile",
        },
        Row {
            why: "called as sh, bash reads .profile alone",
            files: &[
                FEDORA,
                DASH,
                ("bin/bash", "\x7fELF"),
                ("bin/sh", "-> bash"),
                ("etc/profile", "PATH=/usr/bin\n"),
                ("home/maren/.bash_profile", "PATH=$PATH:/opt/own\n"),
                ("home/maren/.profile", "PATH=$PATH:/opt/profile\n"),
            ],
            context: Context::Login,
            path: "/usr/bin:/opt/profile",
        },
        Row {
            why: "a login of bash reads no .bashrc by itself",
            files: &[DEBIAN, BASH, ("etc/profile", "PATH=/usr/bin\n"), ("home/maren/.bashrc", "PATH=/opt/rc:$PATH\n")],
            context: Context::Login,
            path: "/usr/bin",
        },
        Row {
            why: "zsh: zshenv, zprofile, zlogin of the system and the home, and no profile",
            files: &[
                DEBIAN,
                ZSH,
                ("etc/profile", "PATH=/nowhere\n"),
                ("etc/zsh/zshenv", "PATH=/usr/bin\n"),
                ("home/maren/.zshenv", "PATH=$PATH:/opt/env\n"),
                ("etc/zsh/zprofile", "PATH=$PATH:/etc/p\n"),
                ("home/maren/.zprofile", "PATH=$PATH:/opt/p\n"),
                ("etc/zsh/zlogin", "PATH=$PATH:/etc/l\n"),
                ("home/maren/.zlogin", "PATH=$PATH:/opt/l\n"),
                ("home/maren/.profile", "PATH=/nowhere\n"),
            ],
            context: Context::Login,
            path: "/usr/bin:/opt/env:/etc/p:/opt/p:/etc/l:/opt/l",
        },
        Row {
            why: "ZDOTDIR, set by .zshenv, moves the later files",
            files: &[
                DEBIAN,
                ZSH,
                ("etc/zsh/zshenv", "PATH=/usr/bin\n"),
                ("home/maren/.zshenv", "ZDOTDIR=$HOME/.config/zsh\n"),
                ("home/maren/.zprofile", "PATH=$PATH:/opt/home\n"),
                ("home/maren/.config/zsh/.zprofile", "PATH=$PATH:/opt/moved\n"),
            ],
            context: Context::Login,
            path: "/usr/bin:/opt/moved",
        },
        Row {
            why: "fish: conf.d before config.fish, the user's before the system's, one file of a name",
            files: &[
                DEBIAN,
                FISH,
                ("home/maren/.config/fish/conf.d/a.fish", "set PATH /opt/a $PATH\n"),
                ("etc/fish/conf.d/a.fish", "set PATH /nowhere $PATH\n"),
                ("etc/fish/conf.d/b.fish", "set PATH /opt/b $PATH\n"),
                ("etc/fish/config.fish", "set PATH /opt/c $PATH\n"),
                ("home/maren/.config/fish/config.fish", "set PATH /opt/d $PATH\n"),
            ],
            context: Context::Login,
            path: "/opt/d:/opt/c:/opt/b:/opt/a:/bin:/usr/bin",
        },
    ]);
}

#[test]
fn what_comes_before_the_shell_is_pams_and_logins() {
    compare(&[
        Row {
            why: "Debian's login, where nothing says otherwise",
            files: &[DEBIAN, DASH],
            context: Context::Login,
            path: "/bin:/usr/bin",
        },
        Row {
            why: "ENV_PATH, with or without the name before it",
            files: &[DEBIAN, DASH, ("etc/login.defs", "ENV_PATH PATH=/usr/bin:/opt/defs\n")],
            context: Context::Login,
            path: "/usr/bin:/opt/defs",
        },
        Row {
            why: "the same without it",
            files: &[DEBIAN, DASH, ("etc/login.defs", "# ENV_PATH /nowhere\nENV_PATH\t/usr/bin:/opt/defs\n")],
            context: Context::Login,
            path: "/usr/bin:/opt/defs",
        },
        Row {
            why: "/etc/environment overrides it, where the service reads it",
            files: &[
                DEBIAN,
                DASH,
                PAM_LOGIN,
                ("etc/login.defs", "ENV_PATH /usr/bin\n"),
                ("etc/environment", "PATH=\"/usr/bin:/opt/env\"\n"),
            ],
            context: Context::Login,
            path: "/usr/bin:/opt/env",
        },
        Row {
            why: "the last of equal names wins, and nothing is expanded: what is no whole path is searched nowhere",
            files: &[DEBIAN, DASH, PAM_LOGIN, ("etc/environment", "PATH=/usr/bin\nexport PATH=/a:$PATH\n")],
            context: Context::Login,
            path: "/a",
        },
        Row {
            why: "a blank before the sign of equality makes the line useless",
            files: &[DEBIAN, DASH, PAM_LOGIN, ("etc/environment", "PATH=/usr/bin\nPATH =/a\n")],
            context: Context::Login,
            path: "/usr/bin",
        },
        Row {
            why: "a comment on the line keeps the closing quotation mark",
            files: &[DEBIAN, DASH, PAM_LOGIN, ("etc/environment", "PATH=\"/usr/bin:/a\"   # mine\n")],
            context: Context::Login,
            path: "/usr/bin:/a\"   ",
        },
        Row {
            why: "pam_env.conf, with its references",
            files: &[DEBIAN, DASH, PAM_LOGIN, ("etc/security/pam_env.conf", "PATH DEFAULT=/usr/bin:@{HOME}/bin\n")],
            context: Context::Login,
            path: "/usr/bin:/home/maren/bin",
        },
        Row {
            why: "the home's own file is not read unless the service says so",
            files: &[
                DEBIAN,
                DASH,
                PAM_LOGIN,
                ("etc/environment", "PATH=/usr/bin\n"),
                ("home/maren/.pam_environment", "PATH DEFAULT=/nowhere\n"),
            ],
            context: Context::Login,
            path: "/usr/bin",
        },
        Row {
            why: "and is the last word where it does",
            files: &[
                DEBIAN,
                DASH,
                ("etc/pam.d/login", "session required pam_env.so user_readenv=1\n"),
                ("etc/environment", "PATH=/usr/bin\n"),
                ("home/maren/.pam_environment", "PATH DEFAULT=/usr/bin:/opt/own\n"),
            ],
            context: Context::Login,
            path: "/usr/bin:/opt/own",
        },
    ]);
}

#[test]
fn a_terminal_starts_from_the_session_and_reads_the_interactive_files() {
    compare(&[
        Row {
            why: "bash: the system's bashrc, then the user's",
            files: &[
                DEBIAN,
                BASH,
                ("etc/profile", "PATH=/usr/bin\n"),
                ("etc/bash.bashrc", "PATH=$PATH:/etc/rc\n"),
                ("home/maren/.bashrc", "PATH=/opt/rc:$PATH\n"),
            ],
            context: Context::Terminal,
            path: "/opt/rc:/usr/bin:/etc/rc",
        },
        Row {
            why: "a file that returns where the shell is not interactive goes on here",
            files: &[
                DEBIAN,
                BASH,
                ("etc/profile", "PATH=/usr/bin\n"),
                ("home/maren/.bashrc", "case $- in *i*) ;; *) return;; esac\nPATH=/opt/rc:$PATH\n"),
            ],
            context: Context::Terminal,
            path: "/opt/rc:/usr/bin",
        },
        Row {
            why: "dash: the file that ENV names, expanded",
            files: &[
                DEBIAN,
                DASH,
                ("etc/profile", "PATH=/usr/bin\n"),
                ("home/maren/.profile", "export ENV='$HOME/.shrc'\n"),
                ("home/maren/.shrc", "PATH=$PATH:/opt/rc\n"),
            ],
            context: Context::Terminal,
            path: "/usr/bin:/opt/rc",
        },
        Row {
            why: "zsh: zshenv and zshrc",
            files: &[
                DEBIAN,
                ZSH,
                ("etc/zsh/zshenv", "PATH=/usr/bin\n"),
                ("etc/zsh/zshrc", "path+=(/etc/rc)\n"),
                ("home/maren/.zshrc", "path=(/opt/rc $path)\ntypeset -U path\n"),
            ],
            context: Context::Terminal,
            path: "/opt/rc:/usr/bin:/etc/rc",
        },
    ]);
}

#[test]
fn what_no_shell_starts_reads_settings_of_its_own() {
    compare(&[
        Row {
            why: "cron's own default",
            files: &[DEBIAN, DASH, ("etc/environment", "PATH=/nowhere\n")],
            context: Context::Cron,
            path: "/usr/bin:/bin",
        },
        Row {
            why: "a user's own table, with quotation marks and blanks",
            files: &[
                DEBIAN,
                DASH,
                ("var/spool/cron/crontabs/maren", "# PATH=/nowhere\nPATH = \"/usr/bin:/opt/cron\"\n7 4 * * * pegel\n"),
            ],
            context: Context::Cron,
            path: "/usr/bin:/opt/cron",
        },
        Row {
            why: "nothing is expanded, and what is no whole path is searched nowhere",
            files: &[DEBIAN, DASH, ("var/spool/cron/crontabs/maren", "PATH=$HOME/bin:/usr/bin\n")],
            context: Context::Cron,
            path: "/usr/bin",
        },
        Row {
            why: "a table that was cut off may be ignored as a whole",
            files: &[DEBIAN, DASH, ("var/spool/cron/crontabs/maren", "PATH=/usr/bin:/opt/cron\n7 4 * * * peg")],
            context: Context::Cron,
            path: "/usr/bin:/bin ?",
        },
        Row {
            why: "sudo's secure_path; the last matching one wins",
            files: &[
                DEBIAN,
                DASH,
                ("etc/sudoers", "Defaults secure_path=\"/nowhere\"\nDefaults secure_path=\"/usr/sbin:/usr/bin\"\n"),
            ],
            context: Context::Sudo,
            path: "/usr/sbin:/usr/bin",
        },
        Row {
            why: "a file of the included directory overrides; one with a dot in its name is not read",
            files: &[
                DEBIAN,
                DASH,
                ("etc/sudoers", "Defaults secure_path=/usr/bin\n@includedir /etc/sudoers.d\n"),
                ("etc/sudoers.d/harbour", "Defaults secure_path=/usr/bin:/opt/harbour\n"),
                ("etc/sudoers.d/old.conf", "Defaults secure_path=/nowhere\n"),
                ("etc/sudoers.d/zz~", "Defaults secure_path=/nowhere\n"),
            ],
            context: Context::Sudo,
            path: "/usr/bin:/opt/harbour",
        },
        Row {
            why: "the user's own default comes after the general ones",
            files: &[
                DEBIAN,
                DASH,
                (
                    "etc/sudoers",
                    "Defaults:maren secure_path=/opt/maren\nDefaults secure_path=/usr/bin\nDefaults:tobin secure_path=/nowhere\n",
                ),
            ],
            context: Context::Sudo,
            path: "/opt/maren",
        },
        Row {
            why: "without one, the caller's search path stays",
            files: &[DEBIAN, DASH, ("etc/sudoers", "Defaults env_reset\n"), ("etc/profile", "PATH=/usr/bin:/opt/a\n")],
            context: Context::Sudo,
            path: "/usr/bin:/opt/a",
        },
        Row {
            why: "a unit of the system, where nothing says otherwise",
            files: &[DEBIAN, DASH],
            context: Context::Service,
            path: "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
        },
        Row {
            why: "the manager's DefaultEnvironment; a later file of settings adds to it",
            files: &[
                DEBIAN,
                DASH,
                ("etc/systemd/system.conf", "[Manager]\nDefaultEnvironment=PATH=/nowhere\n"),
                (
                    "etc/systemd/system.conf.d/harbour.conf",
                    "[Manager]\nDefaultEnvironment=\"PATH=/usr/bin:/opt/harbour\"\n",
                ),
            ],
            context: Context::Service,
            path: "/usr/bin:/opt/harbour",
        },
        Row {
            why: "environment.d in the order of the names, over all directories; an earlier directory's file replaces a later one's",
            files: &[
                DEBIAN,
                DASH,
                ("usr/lib/environment.d/10-a.conf", "PATH=/nowhere\n"),
                ("etc/environment.d/10-a.conf", "PATH=/usr/bin\n"),
                ("home/maren/.config/environment.d/20-b.conf", "PATH=$PATH:${HOME}/b\n"),
                ("usr/lib/environment.d/30-c.conf", "PATH=${PATH:+$PATH:}/opt/c\n"),
            ],
            context: Context::UserService,
            path: "/usr/bin:/home/maren/b:/opt/c",
        },
        Row {
            why: "an empty file of a name masks the others",
            files: &[
                DEBIAN,
                DASH,
                ("usr/lib/environment.d/30-c.conf", "PATH=/nowhere\n"),
                ("home/maren/.config/environment.d/30-c.conf", ""),
                ("usr/lib/environment.d/40-d.conf", "export PATH=/nowhere\nPATH=/usr/bin:${UNSET:-/opt/d}\n"),
            ],
            context: Context::UserService,
            path: "/usr/bin:/opt/d",
        },
    ]);
}

#[test]
fn an_ssh_command_gets_what_sshd_and_its_shell_give() {
    compare(&[
        Row {
            why: "compiled into Debian's",
            files: &[DEBIAN, DASH],
            context: Context::Remote,
            path: "/usr/local/bin:/usr/bin:/bin:/usr/games",
        },
        Row {
            why: "bash of Debian reads the files of an interactive shell",
            files: &[DEBIAN, BASH, ("home/maren/.bashrc", "PATH=/opt/rc:$PATH\n"), ("etc/profile", "PATH=/nowhere\n")],
            context: Context::Remote,
            path: "/opt/rc:/usr/local/bin:/usr/bin:/bin:/usr/games",
        },
        Row {
            why: "which the usual guard of the file ends",
            files: &[DEBIAN, BASH, ("home/maren/.bashrc", "case $- in *i*) ;; *) return;; esac\nPATH=/opt/rc:$PATH\n")],
            context: Context::Remote,
            path: "/usr/local/bin:/usr/bin:/bin:/usr/games",
        },
        Row {
            why: "zsh reads zshenv",
            files: &[
                DEBIAN,
                ZSH,
                ("home/maren/.zshenv", "path=(/opt/env $path)\n"),
                ("home/maren/.zshrc", "path=(/nowhere)\n"),
            ],
            context: Context::Remote,
            path: "/opt/env:/usr/local/bin:/usr/bin:/bin:/usr/games",
        },
        Row {
            why: "/etc/environment, where sshd's service reads it",
            files: &[
                UBUNTU,
                DASH,
                ("etc/pam.d/sshd", "session required pam_env.so\n"),
                ("etc/environment", "PATH=\"/usr/bin:/snap/bin\"\n"),
            ],
            context: Context::Remote,
            path: "/usr/bin:/snap/bin",
        },
        Row {
            why: "SetEnv of sshd's settings comes last",
            files: &[DEBIAN, DASH, ("etc/ssh/sshd_config", "SetEnv PATH=/usr/bin:/opt/ssh\n")],
            context: Context::Remote,
            path: "/usr/bin:/opt/ssh",
        },
        Row {
            why: "the home's own environment is read only where it is permitted",
            files: &[DEBIAN, DASH, ("home/maren/.ssh/environment", "PATH=/nowhere\n")],
            context: Context::Remote,
            path: "/usr/local/bin:/usr/bin:/bin:/usr/games",
        },
        Row {
            why: "the same, permitted",
            files: &[
                DEBIAN,
                DASH,
                ("etc/ssh/sshd_config", "PermitUserEnvironment yes\n"),
                ("home/maren/.ssh/environment", "PATH=/usr/bin:/opt/own\n"),
            ],
            context: Context::Remote,
            path: "/usr/bin:/opt/own",
        },
        Row {
            why: "of equal names the last, and quotation marks are part of the value",
            files: &[
                DEBIAN,
                DASH,
                ("etc/ssh/sshd_config", "PermitUserEnvironment yes\nPermitUserEnvironment no\n"),
                (
                    "home/maren/.ssh/environment",
                    "PATH=/nowhere\n# PATH=/nowhere\n  PATH=/usr/bin:/opt/own\nPATH =/nowhere\n",
                ),
            ],
            context: Context::Remote,
            path: "/usr/bin:/opt/own",
        },
        Row {
            why: "a list of patterns permits some variables",
            files: &[
                DEBIAN,
                DASH,
                ("etc/ssh/sshd_config", "PermitUserEnvironment LANG,LC_*\n"),
                ("home/maren/.ssh/environment", "PATH=/nowhere\n"),
            ],
            context: Context::Remote,
            path: "/usr/local/bin:/usr/bin:/bin:/usr/games",
        },
        Row {
            why: "and one with an exclamation mark forbids",
            files: &[
                DEBIAN,
                DASH,
                ("etc/ssh/sshd_config", "PermitUserEnvironment !PATH,*\n"),
                ("home/maren/.ssh/environment", "PATH=/nowhere\n"),
            ],
            context: Context::Remote,
            path: "/usr/local/bin:/usr/bin:/bin:/usr/games",
        },
        Row {
            why: "SetEnv outweighs it",
            files: &[
                DEBIAN,
                DASH,
                ("etc/ssh/sshd_config", "PermitUserEnvironment P*\nSetEnv PATH=/usr/bin:/opt/ssh\n"),
                ("home/maren/.ssh/environment", "PATH=/nowhere\n"),
            ],
            context: Context::Remote,
            path: "/usr/bin:/opt/ssh",
        },
        Row {
            why: "which key is used, and what that one sets, no file tells",
            files: &[
                DEBIAN,
                DASH,
                ("etc/ssh/sshd_config", "PermitUserEnvironment yes\n"),
                ("home/maren/.ssh/authorized_keys", "environment=\"PATH=/opt/key\" ssh-ed25519 AAAA maren\n"),
            ],
            context: Context::Remote,
            path: "/usr/local/bin:/usr/bin:/bin:/usr/games ?",
        },
    ]);
}

#[test]
fn a_desktop_session_starts_as_its_display_manager_starts_it() {
    compare(&[
        Row {
            why: "gdm with X11: sh reads the profile and .profile, whatever the user's shell",
            files: &[
                DEBIAN,
                BASH,
                ("etc/X11/default-display-manager", "/usr/sbin/gdm3\n"),
                ("usr/sbin/gdm3", "\x7fELF"),
                ("etc/gdm3/daemon.conf", "[daemon]\nWaylandEnable=false\n"),
                ("etc/profile", "PATH=/usr/bin\n"),
                ("home/maren/.bash_profile", "PATH=/nowhere\n"),
                ("home/maren/.profile", "PATH=$PATH:/opt/profile\n"),
                ("home/maren/.xprofile", "PATH=$PATH:/opt/xprofile\n"),
            ],
            context: Context::Desktop,
            path: "/usr/bin:/opt/profile:/opt/xprofile",
        },
        Row {
            why: "gdm with Wayland: the login files of the user's own shell",
            files: &[
                DEBIAN,
                BASH,
                ("etc/X11/default-display-manager", "/usr/sbin/gdm3\n"),
                ("usr/sbin/gdm3", "\x7fELF"),
                ("etc/profile", "PATH=/usr/bin\n"),
                ("home/maren/.profile", "PATH=$PATH:/opt/profile\n"),
            ],
            context: Context::Desktop,
            path: "/usr/bin:/opt/profile",
        },
        Row {
            why: "lightdm of Debian reads no profile",
            files: &[
                DEBIAN,
                BASH,
                ("etc/X11/default-display-manager", "/usr/sbin/lightdm\n"),
                ("usr/sbin/lightdm", "\x7fELF"),
                ("etc/profile", "PATH=/nowhere\n"),
                ("home/maren/.profile", "PATH=/nowhere\n"),
                ("etc/X11/Xsession.d/40rc", "if [ -r \"$USERXSESSIONRC\" ]; then\n. \"$USERXSESSIONRC\"\nfi\n"),
                ("etc/X11/Xsession.d/50rc.old", "PATH=/nowhere\n"),
                ("home/maren/.xsessionrc", "export PATH=/opt/x:$PATH\n"),
            ],
            context: Context::Desktop,
            path: "/opt/x:/usr/local/bin:/usr/bin:/bin:/usr/local/games:/usr/games",
        },
    ]);
}

#[test]
fn root_s_own_contexts_are_root_s() {
    compare(&[
        Row {
            why: "su -: root's definitions, then root's files",
            files: &[
                DEBIAN,
                DASH,
                ("etc/login.defs", "ENV_SUPATH PATH=/usr/sbin:/usr/bin\nENV_PATH PATH=/nowhere\n"),
                ("root/.profile", "PATH=/root/bin:$PATH\n"),
                ("home/maren/.profile", "PATH=/nowhere\n"),
            ],
            context: Context::RootLogin,
            path: "/root/bin:/usr/sbin:/usr/bin",
        },
        Row {
            why: "a profile that asks who it is",
            files: &[
                DEBIAN,
                DASH,
                ("etc/profile", "if [ \"$(id -u)\" -eq 0 ]; then PATH=/usr/sbin:/usr/bin; else PATH=/usr/bin; fi\n"),
                ("usr/bin/id", "\x7fELF"),
            ],
            context: Context::RootLogin,
            path: "/usr/sbin:/usr/bin",
        },
        Row {
            why: "the same profile in a user's login",
            files: &[
                DEBIAN,
                DASH,
                ("etc/profile", "if [ \"$(id -u)\" -eq 0 ]; then PATH=/usr/sbin:/usr/bin; else PATH=/usr/bin; fi\n"),
                ("usr/bin/id", "\x7fELF"),
            ],
            context: Context::Login,
            path: "/usr/bin",
        },
    ]);
}

#[test]
fn a_script_has_what_the_session_exports() {
    compare(&[
        Row {
            why: "no file of the terminal's shell is read",
            files: &[
                DEBIAN,
                BASH,
                ("etc/profile", "PATH=/usr/bin\nexport PATH\n"),
                ("home/maren/.bashrc", "PATH=/opt/rc:$PATH\n"),
            ],
            context: Context::Script,
            path: "/usr/bin",
        },
        Row {
            why: "BASH_ENV names a file that a script of bash reads, and sh none",
            files: &[
                DEBIAN,
                DASH,
                ("etc/profile", "PATH=/usr/bin\nexport PATH BASH_ENV=/home/maren/.env\n"),
                ("home/maren/.env", "PATH=/nowhere\n"),
            ],
            context: Context::Script,
            path: "/usr/bin",
        },
    ]);
}

/// `PATH=…` and the zero byte behind it are 131,072 bytes at most (`execve(2)`): with one more, `env` says "Argument list
/// too long".
#[test]
fn a_list_that_no_program_can_be_given_is_cut_and_said_to_be() {
    let dirs: Vec<String> = (0..512).map(|number| format!("/pier/{number:0248}")).collect();
    // 255 bytes each: what is left of the most is the last directory's.
    let fitting = 131_072 - "PATH=".len() - 255 * dirs.len() - 1;
    for (last, is_cut) in [(fitting, false), (fitting + 1, true)] {
        let last = format!("/{}", "x".repeat(last - 1));
        let profile = format!("PATH={}:{last}\n", dirs.join(":"));
        let path = searched(&[DASH, ("home/maren/.profile", &profile)], Context::Login);
        let found: Vec<&str> = path.split(':').collect();
        assert_eq!(found[..dirs.len()], dirs, "{is_cut}");
        assert_eq!(found.get(dirs.len()).copied(), (!is_cut).then_some(&*last));
    }
}
