//! Sets of start-up files of the kinds that distributions, installers and users write, for the shells to judge.

/// One set: its name, in which shells and manners it is tried (`b`ash, `d`ash, `z`sh, `f`ish; `l`og-in, `t`erminal,
/// `s`cript, `r`emote), and the files. Paths that begin with `~` are maren's, and a name that ends in `/` is a
/// directory.
pub type Set = (&'static str, &'static str, &'static [(&'static str, &'static str)]);

#[rustfmt::skip]
pub const SETS: &[Set] = &[
    ("nothing at all", "bl bt bs br dl zl zs fl", &[]),
    ("a plain profile", "bl dl bs", &[("/etc/profile", "PATH=/usr/local/bin:/usr/bin:/bin\nexport PATH\n")]),
    (
        "only the first of three",
        "bl dl",
        &[
            ("~/.bash_profile", "PATH=$PATH:/opt/first\n"),
            ("~/.bash_login", "PATH=$PATH:/opt/second\n"),
            ("~/.profile", "PATH=$PATH:/opt/third\n"),
        ],
    ),
    (
        "root and others apart",
        "bl dl",
        &[(
            "/etc/profile",
            "if [ \"$(id -u)\" -eq 0 ]; then\n  PATH=\"/usr/sbin:/usr/bin\"\nelse\n  PATH=\"/usr/bin:/usr/games\"\nfi\nexport PATH\n",
        )],
    ),
    (
        "parts in a directory, in order",
        "bl dl",
        &[
            (
                "/etc/profile",
                "for part in /etc/profile.d/*.sh; do\n  if [ -r \"$part\" ]; then\n    . \"$part\"\n  fi\ndone\nunset part\n",
            ),
            ("/etc/profile.d/20-quay.sh", "PATH=$PATH:/opt/quay\n"),
            ("/etc/profile.d/10-mole.sh", "PATH=$PATH:/opt/mole\n"),
            ("/etc/profile.d/note.txt", "PATH=/wrong\n"),
        ],
    ),
    (
        "no part fits",
        "bl dl",
        &[("/etc/profile", "for p in /etc/none.d/*.sh; do test -f \"$p\" && . \"$p\"; X=$p; done\nPATH=$PATH:$X\n")],
    ),
    (
        "home directories if they are there",
        "bl dl",
        &[
            (
                "~/.profile",
                "if [ -d \"$HOME/bin\" ] ; then\n    PATH=\"$HOME/bin:$PATH\"\nfi\nif [ -d \"$HOME/.local/bin\" ] ; then\n    PATH=\"$HOME/.local/bin:$PATH\"\nfi\n",
            ),
            ("~/.local/bin/", ""),
        ],
    ),
    (
        "the profile reads bashrc in bash only",
        "bl dl bt",
        &[
            (
                "~/.profile",
                "if [ -n \"$BASH_VERSION\" ]; then\n  if [ -f \"$HOME/.bashrc\" ]; then . \"$HOME/.bashrc\"; fi\nfi\n",
            ),
            ("~/.bashrc", "case $- in\n    *i*) ;;\n      *) return;;\nesac\nalias ll='ls -l'\nPATH=~/tools:$PATH\n"),
        ],
    ),
    (
        "guards of several kinds",
        "bt br bl",
        &[
            ("~/.bash_profile", "[[ $- != *i* ]] && return\n. ~/.bashrc\n"),
            ("~/.bashrc", "[ -z \"$PS1\" ] && return\nexport PATH=\"$PATH:/opt/interactive\"\n"),
        ],
    ),
    (
        "what a guard does not stop",
        "br bt",
        &[("~/.bashrc", "PATH=/opt/always:$PATH\n[[ $- == *i* ]] || return 0\nPATH=/opt/typed:$PATH\n")],
    ),
    (
        "a helper that adds once",
        "bl dl",
        &[(
            "/etc/profile",
            "munge () {\n    case \":${PATH}:\" in\n        *:\"$1\":*)\n            ;;\n        *)\n            if [ \"$2\" = \"after\" ] ; then\n                PATH=$PATH:$1\n            else\n                PATH=$1:$PATH\n            fi\n    esac\n}\nmunge /usr/local/sbin after\nmunge /usr/bin\nmunge /opt/front\nexport PATH\nunset -f munge\n",
        )],
    ),
    (
        "a helper with locals and shift",
        "bl zl",
        &[
            (
                "~/.bash_profile",
                "add() { local d; for d in \"$@\"; do [ -d \"$d\" ] && PATH=\"$d${PATH:+:$PATH}\"; done; }\nadd ~/a ~/b ~/none\n",
            ),
            (
                "~/.zprofile",
                "add() { local d; for d in \"$@\"; do [ -d \"$d\" ] && PATH=\"$d${PATH:+:$PATH}\"; done; }\nadd ~/a ~/b ~/none\n",
            ),
            ("~/a/", ""),
            ("~/b/", ""),
        ],
    ),
    (
        "append when not there",
        "bl dl",
        &[(
            "/etc/profile",
            "append_path () {\n    case \":$PATH:\" in\n        *:\"$1\":*) ;;\n        *) PATH=\"${PATH:+$PATH:}$1\" ;;\n    esac\n}\nappend_path '/usr/local/sbin'\nappend_path '/usr/bin'\nappend_path '/usr/local/bin'\nunset -f append_path\nexport PATH\n",
        )],
    ),
    (
        "a toolchain's small file",
        "bl dl zl zs",
        &[
            ("~/.profile", ". \"$HOME/.shoal/env\"\n"),
            ("~/.zshenv", ". \"$HOME/.shoal/env\"\n"),
            (
                "~/.shoal/env",
                "#!/bin/sh\n# adds once\ncase \":${PATH}:\" in\n    *:\"$HOME/.shoal/bin\":*)\n        ;;\n    *)\n        export PATH=\"$HOME/.shoal/bin:$PATH\"\n        ;;\nesac\n",
            ),
        ],
    ),
    (
        "a guard by a variable",
        "bl bt",
        &[
            (
                "/etc/profile.d/store.sh",
                "if [ -n \"${__STORE_SET:-}\" ]; then return; fi\n__STORE_SET=1\nexport PATH=\"$HOME/.store/bin:/store/default/bin:$PATH\"\nexport XDG_DATA_DIRS=\"${XDG_DATA_DIRS:-/usr/local/share:/usr/share}:$HOME/.store/share\"\n",
            ),
            ("/etc/profile", ". /etc/profile.d/store.sh\n. /etc/profile.d/store.sh\n"),
            ("~/.bashrc", ". /etc/profile.d/store.sh\n"),
        ],
    ),
    (
        "parameter expansions",
        "bl zl",
        &[
            (
                "~/.bash_profile",
                "x=/opt/tern/4.2/bin\nPATH=${x%/*}:${x%%/4*}:${x#/opt}:${x##*/}:${x/4.2/5}:${none:-/opt/d}:${x:+/opt/set}:$PATH\nPATH=${PATH//tern/gull}\n",
            ),
            (
                "~/.zprofile",
                "x=/opt/tern/4.2/bin\nPATH=${x%/*}:${x%%/4*}:${x#/opt}:${x##*/}:${x/4.2/5}:${none:-/opt/d}:${x:+/opt/set}:$PATH\nPATH=${PATH//tern/gull}\n",
            ),
        ],
    ),
    (
        "removing one entry",
        "bl",
        &[("~/.bash_profile", "PATH=\":$PATH:\"\nPATH=${PATH//:\\/usr\\/bin:/:}\nPATH=${PATH#:}; PATH=${PATH%:}\n")],
    ),
    (
        "a loop over the entries",
        "bl dl",
        &[(
            "~/.profile",
            "new=\nIFS=:\nfor d in $PATH; do\n  case $d in /bin) continue;; esac\n  new=${new:+$new:}$d\ndone\nunset IFS\nPATH=$new:/opt/end\n",
        )],
    ),
    (
        "while and arithmetic",
        "bl dl",
        &[(
            "~/.profile",
            "i=0\nwhile [ $i -lt 3 ]; do\n  PATH=$PATH:/opt/$i\n  i=$((i + 1))\ndone\nuntil [ $((i * 2)) -ge 8 ]; do i=$((i+1)); done\nPATH=$PATH:/opt/n$i\n",
        )],
    ),
    (
        "break, continue, nested",
        "bl dl",
        &[(
            "~/.profile",
            "for a in 1 2 3; do for b in x y z; do [ $b = y ] && continue 2; [ $a = 3 ] && break 2; PATH=$PATH:/opt/$a$b; done; done\n",
        )],
    ),
    (
        "command substitution that is known",
        "bl dl",
        &[(
            "~/.profile",
            "here=$(dirname /opt/mole/bin)\nPATH=$PATH:$here:/opt/$(basename /x/quay .x):/opt/`id -un`:$(readlink -f /etc)\n",
        )],
    ),
    (
        "is there such a program",
        "bl dl zl",
        &[
            (
                "~/.profile",
                "if command -v tern >/dev/null 2>&1; then PATH=$PATH:/opt/yes; else PATH=$PATH:/opt/no; fi\nif type env >/dev/null 2>&1; then PATH=$PATH:/opt/env; fi\ncommand -v nothing >/dev/null || PATH=$PATH:/opt/nothing\n",
            ),
            (
                "~/.zprofile",
                "if (( $+commands[env] )); then PATH=$PATH:/opt/env; fi\n(( ${+commands[nothing]} )) || PATH=$PATH:/opt/no\n",
            ),
            ("~/.bash_profile", "PATH=~/own:$PATH\n. ~/.profile\n"),
            ("~/own/tern", "x!"),
        ],
    ),
    (
        "eval of a text",
        "bl dl",
        &[("~/.profile", "list='PATH=/opt/eval:$PATH'\neval \"$list\"\neval export XDG_DATA_DIRS=/opt/share\n")],
    ),
    (
        "here-documents",
        "bl dl",
        &[(
            "~/.profile",
            "cat >/dev/null <<'END'\nPATH=/wrong\nEND\ncat <<-END >/dev/null\n\t$PATH\n\tEND\nPATH=$PATH:/opt/after\n",
        )],
    ),
    (
        "lines joined and several on one",
        "bl dl",
        &[("~/.profile", "PATH=/opt/a:\\\n/opt/b:$PATH; export PATH; : ; A=1 B=2\n")],
    ),
    (
        "pipelines and subshells do not last",
        "bl dl",
        &[(
            "~/.profile",
            "( PATH=/wrong )\necho x | while read l; do PATH=/wrong2; done\n{ PATH=$PATH:/opt/group; }\nPATH=/wrong3 true\n",
        )],
    ),
    (
        "unset and export -n",
        "bl",
        &[(
            "~/.bash_profile",
            "export XDG_DATA_DIRS=/opt/x\nexport -n XDG_DATA_DIRS\nexport MANPATH=/opt/man\nunset MANPATH\n",
        )],
    ),
    ("allexport", "bl dl", &[("~/.profile", "set -a\nXDG_DATA_DIRS=/opt/shared\nset +a\nOTHER=1\n")]),
    ("not exported", "bl dl", &[("~/.profile", "XDG_DATA_DIRS=/opt/unseen\n")]),
    (
        "aliases",
        "bl dl zl",
        &[
            ("~/.bash_profile", "alias la='ls -A' l='ls -CF'\nalias g=grep\nunalias g\nalias \"q=echo it's\"\n"),
            ("~/.profile", "alias la='ls -A'\nalias l=ls g=grep\nunalias g\n"),
            ("~/.zshrc", "alias la='ls -A' l='ls -CF'\nalias g=grep\nunalias g\nalias -g G='| grep'\n"),
        ],
    ),
    (
        "functions",
        "bl zl dl",
        &[
            ("~/.bash_profile", "up() { cd ..; }\nfunction down { cd -; }\nfunction gone() { :; }\nunset -f gone\n"),
            ("~/.zshrc", "up() { cd ..; }\nfunction down { cd -; }\ngone() { :; }\nunfunction gone\n"),
            ("~/.profile", "up() { cd ..; }\n"),
        ],
    ),
    (
        "a function under a condition",
        "bl",
        &[(
            "~/.bash_profile",
            "if [ -x /usr/bin/env ]; then f() { :; }; else g() { :; }; fi\ncase $TERM in xterm*) t() { :; };; linux) c() { :; };; esac\n",
        )],
    ),
    (
        "arrays",
        "bl zl",
        &[
            (
                "~/.bash_profile",
                "dirs=(/opt/one /opt/two)\ndirs+=(/opt/three)\nfor d in \"${dirs[@]}\"; do PATH+=:$d; done\nPATH=$PATH:/opt/${#dirs[@]}:${dirs[1]}\n",
            ),
            (
                "~/.zprofile",
                "dirs=(/opt/one /opt/two)\ndirs+=(/opt/three)\nfor d in $dirs; do PATH+=:$d; done\nPATH=$PATH:/opt/${#dirs}:${dirs[1]}\n",
            ),
        ],
    ),
    (
        "read from a text",
        "bl",
        &[
            (
                "~/.bash_profile",
                "IFS=: read -ra parts <<< \"$PATH\"\nPATH=\nfor p in \"${parts[@]}\"; do PATH=$p${PATH:+:$PATH}; done\nwhile read -r line; do PATH=$PATH:$line; done < ~/list\n",
            ),
            ("~/list", "/opt/l1\n/opt/l2\n"),
        ],
    ),
    (
        "[[ with patterns",
        "bl",
        &[(
            "~/.bash_profile",
            "[[ $HOSTNAME == *x* || -d ~ ]] && PATH=$PATH:/opt/or\n[[ /opt/a == /opt/[a-c] && ! -e /none ]] && PATH=$PATH:/opt/and\n[[ abc =~ ^a.c$ ]] && PATH=$PATH:/opt/re\nif [[ -z $none && \"$PATH\" != *quay* ]]; then PATH=$PATH:/opt/z; fi\n",
        )],
    ),
    (
        "test with many words",
        "bl dl",
        &[
            (
                "~/.profile",
                "[ -d /etc -a ! -f /etc ] && PATH=$PATH:/opt/a\n[ -f /none -o \"x\" = \"x\" ] && PATH=$PATH:/opt/o\ntest 3 -gt 2 && PATH=$PATH:/opt/gt\n[ \"$USER\" != maren ] || PATH=$PATH:/opt/me\n[ -L ~/link ] && PATH=$PATH:/opt/link\n[ -s ~/empty ] || PATH=$PATH:/opt/empty\n",
            ),
            ("~/empty", ""),
        ],
    ),
    (
        "case with several patterns",
        "bl dl",
        &[(
            "~/.profile",
            "case \"$SHELL\" in */zsh|*/fish) PATH=/wrong;; */bash|*/sh|*/dash) PATH=$PATH:/opt/sh;; esac\ncase x in [a-w]) ;; [!a-w]) PATH=$PATH:/opt/not;; esac\n",
        )],
    ),
    (
        "tilde in all places",
        "bl dl",
        &[(
            "~/.profile",
            "PATH=~/a:~/b:$PATH\nexport XDG_DATA_DIRS=~/s:/x\nPATH=\"~/literal\":$PATH\nPATH=$PATH:~root/x\n",
        )],
    ),
    (
        "BASH_ENV in scripts",
        "bs",
        &[
            ("~/.bash_profile", "export BASH_ENV=\"$HOME/.env.sh\"\nexport PATH\n"),
            ("~/.env.sh", "PATH=/opt/env:$PATH\n"),
        ],
    ),
    (
        "ENV of the POSIX shell",
        "dl dt",
        &[("~/.profile", "ENV=$HOME/.shrc; export ENV\n"), ("~/.shrc", "PATH=$PATH:/opt/shrc\nalias l=ls\n")],
    ),
    (
        "the system's bashrc",
        "bt bl",
        &[
            ("/etc/bash.bashrc", "PATH=$PATH:/opt/system\n"),
            ("~/.bashrc", "PATH=$PATH:/opt/own\n"),
            (
                "/etc/profile",
                "if [ \"${PS1-}\" ]; then\n  if [ \"${BASH-}\" ] && [ \"$BASH\" != \"/bin/sh\" ]; then\n    if [ -f /etc/bash.bashrc ]; then . /etc/bash.bashrc; fi\n  fi\nfi\n",
            ),
        ],
    ),
    (
        "a file that reads itself",
        "bl dl zl",
        &[
            ("~/.profile", "PATH=$PATH:/opt/once\n[ -n \"$SEEN\" ] && return\nSEEN=1\n. ~/.profile\n"),
            ("~/.zprofile", "PATH=$PATH:/opt/once\n[ -n \"$SEEN\" ] && return\nSEEN=1\n. ~/.zprofile\n"),
        ],
    ),
    (
        "return from within",
        "bl dl",
        &[("~/.profile", "PATH=$PATH:/opt/a\nif true; then\n  for x in 1; do\n    return\n  done\nfi\nPATH=/wrong\n")],
    ),
    ("a mistake at the end", "bl", &[("~/.bash_profile", "PATH=$PATH:/opt/before\nif [ x ]; then\n")]),
    (
        "a mistake in a file that is read",
        "bl zl",
        &[
            ("~/.bash_profile", ". ~/broken\nPATH=$PATH:/opt/after\n"),
            ("~/.zprofile", ". ~/broken\nPATH=$PATH:/opt/after\n"),
            ("~/broken", "PATH=$PATH:/opt/first\nx=(\nPATH=/wrong\n"),
        ],
    ),
    ("a file that is missing", "bl dl", &[("~/.profile", ". ~/none.sh 2>/dev/null\nPATH=$PATH:/opt/after\n")]),
    ("CR at the ends of lines", "bl", &[("~/.bash_profile", "PATH=$PATH:/opt/cr\r\nexport PATH\r\n")]),
    ("bytes that are no text", "bl dl", &[("~/.profile", "PATH=$PATH:/opt/\u{e4}\u{f6}\n")]),
    ("an empty entry and a dot", "bl dl", &[("~/.profile", "PATH=:$PATH:.:\n")]),
    (
        "braces",
        "bl zl",
        &[
            (
                "~/.bash_profile",
                "for d in ~/{bin,sbin}; do PATH=$PATH:$d; done\nprintf -v X %s:%s a b\nPATH=$PATH:$X\n",
            ),
            ("~/.zprofile", "for d in ~/{bin,sbin}; do PATH=$PATH:$d; done\n"),
        ],
    ),
    (
        "zsh's path",
        "zl",
        &[
            ("~/.zprofile", "typeset -U path PATH\npath=(~/bin /usr/bin /opt/quay $path)\nexport PATH\n"),
            ("~/.zshrc", "path+=(/opt/last)\npath=(/opt/quay $path)\n"),
        ],
    ),
    (
        "zsh's globs with letters",
        "zl",
        &[
            (
                "~/.zshrc",
                "path=(~/bin(N-/) ~/none(N-/) /opt/x*(N) $path)\nfor d in ~/tools/*(/N); do path+=($d); done\n",
            ),
            ("~/bin/", ""),
            ("~/tools/b/", ""),
            ("~/tools/a/", ""),
            ("~/tools/f", ""),
        ],
    ),
    (
        "a glob that fits nothing ends the file in zsh",
        "zl",
        &[
            ("~/.zprofile", "PATH=$PATH:/opt/a\nfor f in ~/none/*; do :; done\nPATH=/wrong\n"),
            ("~/.zshrc", "PATH=$PATH:/opt/b\n"),
        ],
    ),
    (
        "ZDOTDIR moves the rest",
        "zl zs",
        &[
            ("~/.zshenv", "ZDOTDIR=~/.config/zsh\n"),
            ("~/.config/zsh/.zprofile", "PATH=/opt/moved:$PATH\n"),
            ("~/.config/zsh/.zshrc", "alias z='ls'\n"),
            ("~/.zprofile", "PATH=/wrong\n"),
        ],
    ),
    (
        "all files of zsh",
        "zl zs",
        &[
            (
                "/etc/zsh/zshenv",
                "if [[ -z \"$PATH\" || \"$PATH\" == \"/bin:/usr/bin\" ]]\nthen\n\texport PATH=\"/usr/local/bin:/usr/bin:/bin:/usr/games\"\nfi\n",
            ),
            ("/etc/zsh/zprofile", "PATH=$PATH:/opt/zp\n"),
            ("/etc/zsh/zshrc", "PATH=$PATH:/opt/zr\n"),
            ("/etc/zsh/zlogin", "PATH=$PATH:/opt/zl\n"),
            ("~/.zlogin", "PATH=$PATH:/opt/own\n"),
        ],
    ),
    (
        "zsh takes the profile of others",
        "zl",
        &[
            ("/etc/zsh/zprofile", "emulate sh -c 'source /etc/profile'\n"),
            ("/etc/profile", "list='/opt/a /opt/b'\nfor d in $list; do PATH=$PATH:$d; done\n"),
        ],
    ),
    (
        "zsh does not split",
        "zl",
        &[(
            "~/.zprofile",
            "list='/opt/a /opt/b'\nfor d in $list; do PATH=$PATH:$d; done\nfor d in ${=list}; do PATH=$PATH:$d; done\n",
        )],
    ),
    (
        "zsh's short forms",
        "zl",
        &[(
            "~/.zprofile",
            "for d (/opt/a /opt/b) { PATH=$PATH:$d }\nif [[ -d /etc ]] { PATH=$PATH:/opt/if } else { PATH=/wrong }\n[[ -n ${(M)path:#/usr/bin} ]] && PATH=$PATH:/opt/has\n",
        )],
    ),
    (
        "fish's own files",
        "fl fs",
        &[
            (
                "~/.config/fish/config.fish",
                "set -gx PATH ~/bin $PATH\nif status is-interactive\n  alias ll='ls -l'\n  set -p PATH /opt/typed\nend\nif status is-login; set -a PATH /opt/login; end\n",
            ),
            ("~/.config/fish/conf.d/10.fish", "set -gx PATH $PATH /opt/conf\n"),
            ("/etc/fish/conf.d/10.fish", "set -gx PATH /wrong $PATH\n"),
            ("/etc/fish/config.fish", "set -gx PATH $PATH /opt/etc\n"),
        ],
    ),
    (
        "fish_add_path",
        "fl",
        &[
            (
                "~/.config/fish/config.fish",
                "fish_add_path ~/a ~/none ~/b\nfish_add_path -a ~/c\nfish_add_path ~/a\nfish_add_path -P ~/d\nfish_add_path -m ~/b\n",
            ),
            ("~/a/", ""),
            ("~/b/", ""),
            ("~/c/", ""),
            ("~/d/", ""),
        ],
    ),
    (
        "fish's lists and loops",
        "fl",
        &[(
            "~/.config/fish/config.fish",
            "set list /opt/{x,y}\nfor d in $list[-1..1] /usr/bin\n  if not contains -- $d $PATH\n    set PATH $PATH $d\n  else\n    set -a PATH /opt/had\n  end\nend\nset -e PATH[1]\nswitch (id -un)\ncase root\n set PATH /wrong\ncase 'ma*'\n set -a PATH /opt/maren\nend\n",
        )],
    ),
    (
        "fish's functions",
        "fl",
        &[
            ("~/.config/fish/functions/tern.fish", "function tern\n set -gx PATH $PATH /opt/$argv[1]\nend\n"),
            (
                "~/.config/fish/config.fish",
                "tern gull\nfunction add --argument-names d\n  set -l PATHS x\n  test -d $d; and set -gx PATH $d $PATH\nend\nadd /etc\nadd /none\ntest -d /etc && set -a PATH /opt/and\ntest -f /etc || set -a PATH /opt/or\n",
            ),
        ],
    ),
    (
        "fish's universal variables",
        "fl",
        &[(
            "~/.config/fish/fish_variables",
            "# This file contains fish universal variable definitions.\n# VERSION: 3.0\nSETUVAR fish_user_paths:/home/maren/own\\x1e/opt/universal\n",
        )],
    ),
    (
        "fish asks for programs",
        "fl",
        &[(
            "~/.config/fish/config.fish",
            "if type -q env; set -a PATH /opt/env; end\nif command -v nothing >/dev/null; set PATH /wrong; else; set -a PATH /opt/no; end\ncommand -sq env; and set -a PATH /opt/sq\nset -q NONE; or set -a PATH /opt/unset\nstring match -q '*bin*' $PATH; and set -a PATH /opt/match\n",
        )],
    ),
    ("where the shell is", "bl dl zl", &[
        ("~/.profile", "PATH=$PATH:$PWD\ncd /etc\nPATH=$PATH:$PWD\ncd -\n"),
        ("~/.bash_profile", "PATH=$PATH:$PWD\ncd /etc\nPATH=$PATH:$PWD\n"),
        ("~/.zprofile", "PATH=$PATH:$PWD\ncd /etc\nPATH=$PATH:$PWD\n"),
    ]),
    ("shifting more than there is", "bl dl", &[("~/.profile", "PATH=$PATH:/opt/a\nset -- x\nshift 2 2>/dev/null\nPATH=$PATH:/opt/b\n")]),
    ("modifiers without braces in zsh", "zl", &[("~/.zprofile", "x=/opt/tern.d/bin.tar\nPATH=$PATH:/opt:$x:h:$x:t:${x:r}:${x:e}:$none:h\n")]),
    ("once each, by the list or by the text", "zl", &[("~/.zprofile", "typeset -U path\nPATH=/a:/b:/a:$PATH\npath=(/x /y /x $path)\ntypeset -U PATH\nPATH=/c:/c:$PATH\nf() { typeset -U path; path=(/wrong) }\nf\n")]),
    ("a list that is not set", "zl bl", &[
        ("~/.zprofile", "for x in \"${none[@]}\"; do PATH=$PATH:/opt/zsh$x; done\nempty=()\nfor x in \"${empty[@]}\"; do PATH=/wrong; done\n"),
        ("~/.bash_profile", "for x in \"${none[@]}\"; do PATH=/wrong; done\nset --\nfor x in \"$@\" \"\"; do PATH=$PATH:/opt/one; done\n"),
    ]),
    ("exported before it is set", "bl dl", &[("~/.profile", "export XDG_DATA_DIRS\nXDG_DATA_DIRS=/opt/share\nexport MANPATH\nunset MANPATH\nMANPATH=/wrong\n")]),
    ("a file's text by a redirection", "bl zl", &[("~/.bash_profile", "PATH=$PATH:$(<~/word)\n"), ("~/.zprofile", "PATH=$PATH:$(<~/word)\nlines=(${(f)\"$(<~/word)\"})\nPATH=$PATH:/n$#lines\n"), ("~/word", "/opt/word\n")]),
    // What nobody can know without running it must be said.
    (
        "a program's word decides",
        "bl dl",
        &[("~/.profile", "if ps >/dev/null 2>&1; then PATH=/opt/one:$PATH; else PATH=/opt/two:$PATH; fi\n")],
    ),
    (
        "a program writes the path",
        "bl dl",
        &[("~/.profile", "PATH=/opt/front:$(printf '%s' \"$PATH\" | sed 's/bin/x/'):/opt/back\n")],
    ),
    (
        "what a program writes is run",
        "bl zl fl",
        &[
            ("~/.bash_profile", "eval \"$(env printf 'PATH=/opt/surprise:%s' \"$PATH\")\"\n"),
            ("~/.zprofile", "eval \"$(env printf 'PATH=/opt/surprise:%s' \"$PATH\")\"\n"),
            ("~/.config/fish/config.fish", "env printf 'set PATH /opt/surprise $PATH' | source\n"),
        ],
    ),
];
