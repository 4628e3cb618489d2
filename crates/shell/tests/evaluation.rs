//! The evaluator on its own, over files in memory: what each idiom does to a search path, in each shell.
//!
//! What is expected here was compared with the real shells in the tests of the command line.

use whodunit_formats::bytes::ByteString;
use whodunit_shell::Unknown;
use whodunit_shell::eval::State;
use whodunit_shell::eval::fish::Directories;
use whodunit_shell::syntax::{Dialect, Parser};

#[path = "support/memory.rs"]
mod memory;

use memory::{Memory, START, followed};

/// What a start-up file leaves behind, in a shell that a user types into after a login.
fn evaluated(shell: &str, script: &str, more: &[(&str, &str)]) -> (State, Vec<Unknown>) {
    let start = std::str::from_utf8(START).unwrap();
    let files = [&[(start, script), ("/usr/bin/pegel", "x")], more].concat();
    let own = |(path, content): (&str, &str)| (path.as_bytes().to_vec(), content.as_bytes().to_vec());
    followed(shell, &Memory(files.into_iter().map(own).collect()), true, true)
}

fn path_of(state: &State) -> String {
    String::from_utf8_lossy(state.get(b"PATH").unwrap_or_default()).into_owned()
}

/// Scripts whose effect is known for certain, by shell.
#[test]
fn known_scripts_give_the_path_of_the_real_shell() {
    let posix = ["sh", "bash", "zsh"];
    let cases: &[(&[&str], &str, &str)] = &[
        (&posix, "PATH=$HOME/bin:$PATH", "/home/maren/bin:/usr/bin:/bin"),
        (&posix, "PATH=\"${PATH:+$PATH:}/opt/tide/bin\"; export PATH", "/usr/bin:/bin:/opt/tide/bin"),
        (&posix, "if [ -d /opt/tide ]; then PATH=/opt/tide:$PATH; fi", "/usr/bin:/bin"),
        (&posix, "[ -x /usr/bin/pegel ] && PATH=/opt/a:$PATH || PATH=/opt/b:$PATH", "/opt/a:/usr/bin:/bin"),
        (&posix, "case \":$PATH:\" in *:/bin:*) ;; *) PATH=/bin:$PATH;; esac", "/usr/bin:/bin"),
        (&posix, "add() { PATH=\"$1:$PATH\"; }; add /a; add /b", "/b:/a:/usr/bin:/bin"),
        (&posix, "for d in one two; do PATH=$PATH:/opt/$d; done", "/usr/bin:/bin:/opt/one:/opt/two"),
        (&posix, "while [ \"$n\" != xxx ]; do n=x$n; PATH=/$n:$PATH; done", "/xxx:/xx:/x:/usr/bin:/bin"),
        (&posix, ". /home/maren/more", "/more:/usr/bin:/bin"),
        (&posix, "(PATH=/inside); PATH=$(echo /out):$PATH", "/out:/usr/bin:/bin"),
        (&posix, "eval 'PATH=/e:$PATH'; return; PATH=/never", "/e:/usr/bin:/bin"),
        (&posix, "PATH=${PATH%:*}", "/usr/bin"),
        (&posix, "set -- a b; shift; PATH=/$1:$PATH", "/b:/usr/bin:/bin"),
        (&["bash", "zsh"], "PATH=${PATH//usr/opt}", "/opt/bin:/bin"),
        (&["bash", "zsh"], "[[ $PATH == *usr* ]] && PATH=/yes:$PATH", "/yes:/usr/bin:/bin"),
        (&["bash", "zsh"], "for d in {a,b}; do PATH+=:/$d; done", "/usr/bin:/bin:/a:/b"),
        (&["bash"], "dirs=(/a /b); for d in \"${dirs[@]}\"; do PATH=$d:$PATH; done", "/b:/a:/usr/bin:/bin"),
        (&["zsh"], "path=(/z $path); typeset -U path; path+=(/bin)", "/z:/usr/bin:/bin"),
        (&["fish"], "set -gx PATH /f $PATH", "/f:/usr/bin:/bin"),
        (&["fish"], "if test -x /usr/bin/pegel\n set PATH /t $PATH\nelse\n set PATH /e $PATH\nend", "/t:/usr/bin:/bin"),
        (&["fish"], "function add\n set -gx PATH $argv[1] $PATH\nend\nadd /g", "/g:/usr/bin:/bin"),
        (&["fish"], "for d in one two\n set PATH $PATH /opt/$d\nend", "/usr/bin:/bin:/opt/one:/opt/two"),
    ];
    assert_known(cases);
}

/// Expansions, loops and builtins; what is expected here is what dash, bash, zsh and fish printed.
#[test]
fn expansions_and_builtins_give_what_the_real_shells_printed() {
    let (posix, both) = (["sh", "bash", "zsh"], ["bash", "zsh"]);
    assert_known(&[
        (&posix, "PATH=${PATH#*:}", "/bin"),
        (&posix, "PATH=${PATH##*/}", "bin"),
        (&posix, "PATH=/x${unset-:/default}:$PATH", "/x:/default:/usr/bin:/bin"),
        (&posix, "x=; PATH=${x:-/empty}:$PATH", "/empty:/usr/bin:/bin"),
        (&posix, "PATH=/n$((2 * 3 + ${#HOME} - 11)):$PATH", "/n6:/usr/bin:/bin"),
        (&posix, "x=a; case $x in a|b) PATH=/ab:$PATH ;; *) PATH=/no ;; esac", "/ab:/usr/bin:/bin"),
        (
            &posix,
            "f() { local p=$1; PATH=$p:$PATH; }; p=/outer; f /inner; PATH=$p:$PATH",
            "/outer:/inner:/usr/bin:/bin",
        ),
        (&posix, "f() { return 1; }; f || PATH=/or:$PATH", "/or:/usr/bin:/bin"),
        (&posix, "! false && PATH=/not:$PATH", "/not:/usr/bin:/bin"),
        (
            &posix,
            "i=0; until [ $i -ge 3 ]; do i=$((i + 1)); [ $i -eq 2 ] && continue; PATH=$PATH:/$i; done",
            "/usr/bin:/bin:/1:/3",
        ),
        (&posix, "for d in a b c; do [ $d = c ] && break; PATH=/$d:$PATH; done", "/b:/a:/usr/bin:/bin"),
        (&posix, "PATH=/one:$PATH command true; PATH=/two:$PATH", "/two:/usr/bin:/bin"),
        (&posix, "unset X; PATH=${X+/set}$PATH", "/usr/bin:/bin"),
        (&posix, "IFS=:; set -- $(echo /p:/q); PATH=$2:$1:$PATH", "/q:/p:/usr/bin:/bin"),
        (&posix, "PATH=\"/with space:$PATH\"", "/with space:/usr/bin:/bin"),
        (&posix, "x='$HOME'; eval \"PATH=$x/e:\\$PATH\"", "/home/maren/e:/usr/bin:/bin"),
        (&posix, "{ PATH=/g:$PATH; } >/dev/null 2>&1", "/g:/usr/bin:/bin"),
        (&posix, "readonly R=/r; PATH=$R:$PATH", "/r:/usr/bin:/bin"),
        (&posix, "PATH=`printf '%s' /printed`:$PATH", "/printed:/usr/bin:/bin"),
        (&posix, "if false; then PATH=/1; elif true; then PATH=/2:$PATH; else PATH=/3; fi", "/2:/usr/bin:/bin"),
        (&posix, "PATH=$PATH:~/tilde", "/usr/bin:/bin:/home/maren/tilde"),
        (&posix, "test -z \"$NOTHING\" -a -n \"$HOME\" && PATH=/t:$PATH", "/t:/usr/bin:/bin"),
        (&posix, "while read -r d; do PATH=$PATH:$d; done <<EOF\n/h1\n/h2\nEOF", "/usr/bin:/bin:/h1:/h2"),
        (&both, "PATH=${PATH/bin/lib}", "/usr/lib:/bin"),
        (&both, "[[ $HOME =~ ^/home ]] && PATH=/re:$PATH", "/re:/usr/bin:/bin"),
        (&both, "(( 3 > 2 )) && PATH=/ar:$PATH", "/ar:/usr/bin:/bin"),
        (&both, "function g { PATH=/fn:$PATH; }; g", "/fn:/usr/bin:/bin"),
        (&both, "x=ab; PATH=/${x:1}:$PATH", "/b:/usr/bin:/bin"),
        (&both, "case x in x) PATH=/a:$PATH ;& y) PATH=/b:$PATH ;; esac", "/b:/a:/usr/bin:/bin"),
        (&["bash"], "x=abc; PATH=/${x^^}:$PATH", "/ABC:/usr/bin:/bin"),
        (&["bash"], "v=PATH; printf -v \"$v\" '%s' \"/pv:$PATH\"", "/pv:/usr/bin:/bin"),
        (&["bash"], "x=(/a /b /c); PATH=$PATH:${x[1]}:${#x[@]}", "/usr/bin:/bin:/b:3"),
        (&["zsh"], "path[1,0]=(/first); path[-1]=()", "/first:/usr/bin"),
        (&["zsh"], "path[1]=/opt", "/opt:/bin"),
        (&["zsh"], "path[1,2]=(/a /b /c)", "/a:/b:/c"),
        (&["bash"], "x=(/a /b); x[1]=/c; x[2]=/d; PATH=${x[0]}:${x[1]}:${x[2]}", "/a:/c:/d"),
        (&["bash"], "x[0]=/n; i=1; x[$i]=/o; PATH=${x[0]}:${x[1]}", "/n:/o"),
        (&["bash"], "x=(/a /b); i=0; x[$((i = i + 1))]=/c; PATH=${x[1]}:/$i", "/c:/1"),
        (&["zsh"], "x=abc; PATH=/${(U)x}:$PATH", "/ABC:/usr/bin:/bin"),
        (&["zsh"], "typeset -U path PATH; PATH=/bin:$PATH:/bin", "/bin:/usr/bin"),
        (&["zsh"], "path=(${path:#/bin})", "/usr/bin"),
        (&["fish"], "set -l d /l; set PATH $d $PATH", "/l:/usr/bin:/bin"),
        (&["fish"], "contains /bin $PATH; and set PATH /has $PATH", "/has:/usr/bin:/bin"),
        (&["fish"], "not contains /none $PATH; and set -a PATH /none", "/usr/bin:/bin:/none"),
        (
            &["fish"],
            "switch $HOME\n case '/home/*'\n  set -p PATH /home\n case '*'\n  set -p PATH /other\nend",
            "/home:/usr/bin:/bin",
        ),
        (&["fish"], "set -e PATH[1]", "/bin"),
        (&["fish"], "begin; set -lx PATH /only; end; set PATH $PATH /after", "/usr/bin:/bin:/after"),
        (&["fish"], "fish_add_path --path --append /usr", "/usr/bin:/bin:/usr"),
    ]);
}

fn assert_known(cases: &[(&[&str], &str, &str)]) {
    for (shells, script, expected) in cases {
        for shell in *shells {
            let (state, unknowns) = evaluated(shell, script, &[("/home/maren/more", "PATH=/more:$PATH")]);
            assert_eq!(path_of(&state), *expected, "{shell}: {script}");
            assert!(unknowns.is_empty(), "{shell}: {script}: {unknowns:?}");
        }
    }
}

/// What cannot be known is told with its line, and what is known around it stays.
#[test]
fn unknown_values_are_carried_with_their_place() {
    let cases = [
        ("bash", ":\nPATH=$(pegel --dir):$PATH", 2, "the output of `pegel --dir`", ":/usr/bin:/bin"),
        ("sh", "PATH=/a:$PATH\neval \"$(pegel env)\"", 2, "evaluates unknown commands", "/a:/usr/bin:/bin"),
        ("zsh", "pegel && PATH=/b:$PATH", 1, "exit status of `pegel`", "/usr/bin:/bin"),
        ("bash", ". /home/maren/closed\nPATH=/c:$PATH", 1, "reads /home/maren/closed", "/c:/usr/bin:/bin"),
        ("fish", "pegel env | source", 1, "", "/usr/bin:/bin"),
        // What is not followed is unknown, and never taken for something else.
        ("bash", "declare -A m=([k]=/m [l]=/n)\nPATH=${m[*]}:$PATH", 2, "order of an associative", ":/usr/bin:/bin"),
        ("bash", "x[$(pegel)]=/sparse\nPATH=$x:$PATH", 1, "which element of an array", ":/usr/bin:/bin"),
        ("bash", "for (( i = 0; i < $(pegel); i++ )); do PATH=$PATH:/$i; done", 1, "number of iterations", "\0"),
        ("fish", "set PATH (string replace -r usr opt $PATH)", 1, "output of `string`", "\0"),
    ];
    for (shell, script, line, says, end) in cases {
        let (state, unknowns) = evaluated(shell, script, &[("/home/maren/closed", "closed")]);
        assert!(path_of(&state).ends_with(end), "{shell}: {script}: {}", path_of(&state));
        let found = unknowns.iter().find(|unknown| unknown.says.contains(says));
        let found = found.unwrap_or_else(|| panic!("{shell}: {script}: {unknowns:?}"));
        assert_eq!((&found.file, found.line), (&ByteString::from("/home/maren/start"), Some(line)), "{script}");
    }
}

#[test]
fn aliases_and_functions_remember_where_they_were_made() {
    for shell in ["sh", "bash", "zsh"] {
        let (state, _) = evaluated(shell, "alias ll='ls -l'\nf() { :; }\nunalias ll\nalias la='ls -a'\n", &[]);
        assert_eq!(state.aliases.keys().collect::<Vec<_>>(), [b"la"], "{shell}");
        let alias = &state.aliases[&b"la"[..]];
        assert_eq!((alias.value.as_slice(), alias.place.line, alias.certain), (&b"ls -a"[..], 4, true), "{shell}");
        assert_eq!(state.functions[&b"f"[..]].place.line, 2, "{shell}");
    }
}

/// Each directory remembers the line that added it, also through later lines that keep it.
#[test]
fn directories_remember_the_line_that_added_them() {
    let (state, _) = evaluated("bash", "PATH=/a:$PATH\n\nPATH=$PATH:/b\nexport PATH\n", &[]);
    let lines: Vec<u32> = state.variables[&b"PATH"[..]].places.iter().map(|place| place.line).collect();
    assert_eq!((path_of(&state).as_str(), lines.first(), lines.last()), ("/a:/usr/bin:/bin:/b", Some(&1), Some(&3)));
}

/// Work without an end is cut off, and says so.
#[test]
fn endless_scripts_end_and_taint_the_path() {
    for (shell, script) in [
        ("sh", "while :; do PATH=$PATH:/x; done"),
        ("bash", "f() { f; }; f"),
        ("zsh", ". /home/maren/start"),
        ("fish", "while true; set -a PATH /x; end"),
    ] {
        let (state, unknowns) = evaluated(shell, script, &[]);
        assert!(!unknowns.is_empty(), "{shell}: {script}");
        let path = &state.variables[&b"PATH"[..]];
        assert!(!path.taints.is_empty() || shell == "bash", "{shell}: {script}: {unknowns:?}");
    }
}

/// Files cut off in the middle, of which a fuzzer found that the error was put behind their last line.
#[test]
fn errors_stand_within_the_file() {
    for script in [" <<E\n$(", "x <<E\n\n\"${"] {
        for dialect in [Dialect::Posix, Dialect::Bash, Dialect::Zsh] {
            let lines = 1 + u32::try_from(script.matches('\n').count()).unwrap();
            let error = Parser::new(script.as_bytes(), dialect).find_map(Result::err).unwrap();
            assert!(error.line <= lines, "{script:?}: {error} of {lines} lines");
        }
    }
}

/// What a fuzzer found to end the evaluation in the middle: it goes on, and the path is unknown or as it was.
#[test]
fn what_a_shell_rejects_is_no_end_of_the_evaluation() {
    for (shell, script) in [("zsh", "${(s)}"), ("zsh", "PATH=${(j<)PATH}"), ("zsh", "PATH=${(s:)PATH}")] {
        let (state, unknowns) = evaluated(shell, script, &[]);
        assert!(path_of(&state) == "/usr/bin:/bin" || !unknowns.is_empty(), "{script}: {}", path_of(&state));
    }
}

/// What a fish takes for its own directories, by where it is and what is beside it.
#[test]
fn a_fish_knows_its_directories_by_where_it_is() {
    let keg = "/opt/homebrew/Cellar/fish/3.7.1";
    let built = "# Written by the build.\nset __extra_confdir /srv/conf\nset __extra_functionsdir none\n";
    for (program, beside, expected) in [
        (
            "/usr/bin/fish",
            &[("/usr/share/fish/x", "")][..],
            ["/usr/share/fish", "/etc/fish", "/usr/share/fish/vendor_conf.d"],
        ),
        (
            "/usr/local/bin/fish",
            &[("/usr/local/share/fish/x", ""), ("/usr/local/etc/fish/x", "")],
            ["/usr/local/share/fish", "/usr/local/etc/fish", "/usr/local/share/fish/vendor_conf.d"],
        ),
        (
            "/opt/homebrew/Cellar/fish/3.7.1/bin/fish",
            &[("/opt/homebrew/Cellar/fish/3.7.1/share/fish/x", "")],
            [&*format!("{keg}/share/fish"), "/opt/homebrew/etc/fish", "/opt/homebrew/share/fish/vendor_conf.d"],
        ),
        (
            "/srv/fish",
            &[("/usr/share/fish/__fish_build_paths.fish", built)],
            ["/usr/share/fish", "/etc/fish", "/srv/conf"],
        ),
    ] {
        let files = beside.iter().map(|(file, content)| (file.as_bytes().to_vec(), content.as_bytes().to_vec()));
        let found = Directories::of(program.as_bytes(), &Memory(files.collect()));
        let told = [&found.data, &found.settings, &found.vendor_conf].map(ToString::to_string);
        assert_eq!(told, expected, "{program}");
        assert!(found.vendor_functions.ends_with(b"/vendor_functions.d"), "{program}: {found:?}");
    }
}
