//! Start-up files that are put together from what users write.

/// A generator of scripts: the same seed gives the same scripts.
#[derive(Debug)]
pub struct Grammar {
    seed: u64,
    shell: &'static str,
    depth: u32,
    functions: u32,
    /// Whether every second statement stands within an `eval`, quoted without regard to its own quotes; and whether
    /// every third script begins with one that leaves nothing certain.
    nests: bool,
}

/// Templates: `%D` a directory, `%V` a variable's name, `%C` a condition, `%S` a statement, `%W` a word, `%P` a pattern,
/// `%N` a number, `%F` a new function's name.
type Templates = &'static [&'static str];

const DIRS: Templates = &[
    "/a",
    "/b",
    "/opt/c",
    "$HOME/bin",
    "~/tools",
    "$HOME/none",
    "/usr/bin",
    "/bin",
    "${HOME}/.local/bin",
    "$X/bin",
    "\"$HOME/tools/a\"",
    "'/q r'",
    "$HOME/linked",
    "/a//b/",
    "${Y:-/y}",
    "/opt/$USER",
];

const FISH_DIRS: Templates = &[
    "/a",
    "/b",
    "/opt/c",
    "$HOME/bin",
    "~/tools",
    "$HOME/none",
    "/usr/bin",
    "/bin",
    "\"$HOME/tools/a\"",
    "'/q r'",
    "$X/bin",
    "/opt/$USER",
    "/p/{m,n}",
];

const POSIX: Templates = &[
    "PATH=%D:$PATH",
    "PATH=\"$PATH\":%D",
    "export PATH=%D:$PATH",
    "PATH=\"${PATH:+$PATH:}/t\"; export PATH",
    "PATH=%D${PATH+:$PATH}",
    "case \":$PATH:\" in *:%P:*) ;; *) %S;; esac",
    "case $X in %P|%P) %S;; *) %S;; esac",
    "if %C; then %S; fi",
    "if %C; then %S; else %S; fi",
    "if %C; then %S; elif %C; then %S; fi",
    "%C && { %S; }",
    "%C || { %S; }",
    "%C && %C || { %S; }",
    "! %C && { %S; }",
    "for d in %D %D; do PATH=$d:$PATH; done",
    "for d in %D %D %D; do if [ -d $d ]; then PATH=$PATH:$d; fi; done",
    "for d in $HOME/tools/*; do PATH=$PATH:$d; done",
    "for d in $HOME/none*; do [ -e \"$d\" ] && PATH=$d; done",
    "%F() { PATH=$1:$PATH; }; %f %D",
    "%F() { %S; }; %f %W",
    "%F() { case \":$PATH:\" in *\":$1:\"*) ;; *) PATH=\"$PATH:$1\";; esac; }; %f %D; %f /bin",
    "%F() { [ -d \"$1\" ] || return 1; PATH=\"$1:$PATH\"; }; %f %D || %S",
    "%F() { local d=$1; PATH=$d:$PATH; }; %f %D",
    "X=%D",
    "X=%W",
    "Y=%W",
    "X=$(echo %D)",
    "X=`echo %W`",
    "X=${PATH%%:*}",
    "X=${PATH#*:}",
    "X=${PATH##*/}",
    "X=${X%/*}",
    "PATH=${PATH%:*}",
    "PATH=${PATH#/usr}",
    "X=${Y:-%D}",
    "X=${Y:=%D}",
    "X=${Y+set}",
    "PATH=${X:-/x}:$PATH",
    ". $HOME/tools/a/env",
    ". $HOME/tools/b/exits",
    "[ -f $HOME/none ] && . $HOME/none",
    "eval \"PATH=%D:\\$PATH\"",
    "eval '%S'",
    "X=PATH; eval \"$X=%D:\\$$X\"",
    "O=$IFS; IFS=:; for p in $PATH; do %S; done; IFS=$O",
    "set -- %W %W; PATH=/$1:$PATH; shift; PATH=/$#:$PATH",
    "set -- %W; while [ $# -gt 0 ]; do PATH=/$1:$PATH; shift; done",
    "i=0; while [ $i -lt %N ]; do i=$((i + 1)); PATH=/$i:$PATH; done",
    "j=%N; until [ $j -le 0 ]; do j=$((j - 1)); [ $j -eq 1 ] && continue; %S; done",
    "X=$((%N * 2 - 1)); PATH=/$X:$PATH",
    "while read -r l; do PATH=$PATH:$l; done < $HOME/tools/list",
    "while read a b; do X=$b; done <<E\n%W %W\nE\nPATH=/$X:$PATH",
    "echo x | while read l; do PATH=/$l; done",
    "PATH=$(printf '%s:' %W)$PATH",
    "(%S; PATH=/sub)",
    "{ %S; } >/dev/null 2>&1",
    "export XDG_DATA_DIRS=\"%D:${XDG_DATA_DIRS:-/usr/share}\"",
    "XDG_DATA_DIRS=%D${XDG_DATA_DIRS:+:$XDG_DATA_DIRS}",
    "export MANPATH=\"$MANPATH:%D\"",
    "MANPATH=%D; export MANPATH",
    "unset X",
    "unset MANPATH",
    "unset Y X",
    "PATH=%D:$PATH true",
    "X=%W command true",
    "command -v env >/dev/null && { %S; }",
    "command -v nowhere >/dev/null || { %S; }",
    "PATH=$(dirname %D):$PATH",
    "X=$(cd $HOME/tools && pwd); PATH=$X:$PATH",
    "cd $HOME/tools; %S",
    "set -a; %S; set +a",
    "X=\"%W %W\"; for w in $X; do PATH=/$w:$PATH; done",
    "X='%W  %W'; set -- $X; PATH=/$#:$PATH",
    "PATH=\"$PATH:\"",
    "true; PATH=/st$?:$PATH",
    "false; PATH=/st$?:$PATH",
    "X=$(false); PATH=/st$?:$PATH",
    "for d do PATH=/$d:$PATH; done",
    "PATH=$(echo $PATH | tr : '\\n' | paste -sd:)",
    "PATH=$(echo \"$PATH\" | sed 's/:$//')",
    "readonly R%N=%W",
    "readonly R1=1; R1=2",
    "set -u; X=${Q-%W}",
    "set -e; %S",
    "return 0",
    "umask 022",
    "alias ll='ls -l'",
    "test -d %D -a -n \"$X\" && { %S; }",
    "[ \"$X\" = %W -o -d %D ] && { %S; }",
    "[ -z \"$MANPATH\" ] || { %S; }",
    "PATH=$X$PATH",
    "PATH=\"$X:$Y:$PATH\"",
    "X=$X:%W",
    "X=$($HOME/bin/gauge)",
    "PATH=$($HOME/bin/gauge):$PATH",
    "$HOME/bin/gauge >/dev/null && { %S; }",
    "if $HOME/bin/gauge >/dev/null; then %S; else %S; fi",
    "while $HOME/bin/gauge >/dev/null; do %S; break; done",
    "case $($HOME/bin/gauge) in %P) %S;; *) %S;; esac",
    "getopts ab: o -a; PATH=/$o:$PATH",
    "trap 'true' EXIT INT",
    "PATH=$PATH:$HOME/bin:~/x",
    "X=~/y; PATH=$X:$PATH",
    "PATH=$PATH:/st${#X}",
];

const BASH: Templates = &[
    "a=(%D %D); for d in \"${a[@]}\"; do PATH=$d:$PATH; done",
    "a+=(%W); PATH=/${#a[@]}:$PATH",
    "a[%N]=%D; PATH=${a[@]:0:1}:$PATH",
    "a=(%W %W %W); unset 'a[1]'; PATH=/${a[*]}:$PATH",
    "a=(%D %D); IFS=:; PATH=\"${a[*]}:$PATH\"; unset IFS",
    "PATH=${a[0]}:${a[-1]}:$PATH",
    "declare -A m=([k]=%D [l]=%D); PATH=${m[k]}:$PATH",
    "declare -A m; m[%W]=%D; PATH=${m[%W]}:${#m[@]}:$PATH",
    "PATH=${PATH//bin/lib}",
    "PATH=${PATH/:\\/bin/}",
    "PATH=${PATH/#\\/usr/\\/opt}",
    "X=${PATH//:/ }; for d in $X; do PATH=$d/x:$PATH; done",
    "X=%W; PATH=/${X^^}:/${X:1}:$PATH",
    "[[ %C2 ]] && { %S; }",
    "[[ :$PATH: == *:%P:* ]] || PATH=%D:$PATH",
    "if [[ $X =~ ^/([a-z]+) ]]; then PATH=/${BASH_REMATCH[1]}:$PATH; fi",
    "[[ $X == /a* || -d %D ]] && { %S; }",
    "PATH+=:%D",
    "X+=%W",
    "(( %N > 1 )) && { %S; }",
    "for ((i = 0; i < %N; i++)); do PATH=/$i:$PATH; done",
    "function %F { %S; }; %f %W",
    "%F() { local -a l=(%W %W); PATH=/${l[1]}:$PATH; }; %f",
    "printf -v X '%s/%s' %W %W; PATH=/$X:$PATH",
    "read -r X Y <<< \"%W %W %W\"; PATH=/$Y:$PATH",
    "declare -x MANPATH=%D",
    "declare -n r=PATH; r=%D:$r; unset -n r",
    "X=PATH; PATH=/q:${!X}",
    "mapfile -t a < $HOME/tools/list; PATH=${a[1]}:$PATH",
    "while read -r l; do PATH=$PATH:$l; done < <(printf '%s\\n' %W %W)",
    "for i in {1..%N}; do PATH=/$i:$PATH; done",
    "for d in $HOME/{bin,none,tools}; do [[ -d $d ]] && PATH=$d:$PATH; done",
    "shopt -s nullglob; for d in $HOME/none*; do PATH=$d; done; shopt -u nullglob",
    "case $X in %P) %S;& *) PATH=/ft:$PATH;; esac",
    "declare -i n=%N+1; n+=1; PATH=/$n:$PATH",
    "PATH=$PATH:%D export PATH",
    "local X=1",
    "PATH=/$(( %N << 1 | 1 )):$PATH",
    "IFS=: read -ra a <<< \"$PATH\"; PATH=${a[0]}:/n${#a[@]}",
    "%F() { PATH=/$#:/${*}:$PATH; }; %f %W %W",
    "PATH=\"${PATH[@]}\":/s",
    "export -n MANPATH",
    "PATH=/${a[%N]-none}:$PATH",
];

const ZSH: Templates = &[
    "path=(%D $path)",
    "path+=(%D)",
    "path=($path %D %D)",
    "typeset -U path",
    "typeset -gU PATH path",
    "path=($HOME/*(N/) $path)",
    "path=($HOME/none*(N) $path)",
    "path[1]=%D",
    "path=(${path:#/bin})",
    "path=(${(M)path:#/usr*} %D)",
    "path=(\"${(@)path:#%P}\")",
    "(( $path[(Ie)/bin] )) && { %S }",
    "[[ -z ${path[(r)/opt/c]} ]] && path=(/opt/c $path)",
    "path=($^path/x)",
    "a=(%D %D); path=($a $path)",
    "a=(%W %W); PATH=/${(j:-:)a}:$PATH",
    "a=(%W %W %W); PATH=/$a[2]:/$#a:/${a[-1]}:$PATH",
    "for d (%D %D) path=($d $path)",
    "for d in %D %D; { path+=$d }",
    "() { %S } %W",
    "%F() { path=($1 $path) }; %f %D",
    "[[ -d %D ]] && path=(%D $path)",
    "[[ $X == (a|b|/a)* ]] && { %S }",
    "if [[ -n $X ]]; then %S; fi",
    "PATH=${PATH:h}:/h",
    "X=%D; PATH=${X:t}:$PATH",
    "path=(${(s.:.)PATH} /s)",
    "X='%W %W'; path=($=X $path)",
    "X='%W %W'; path=($X $path)",
    "typeset -A m; m=(k %D); PATH=$m[k]:$PATH",
    "export MANPATH=%D:$MANPATH",
    "manpath=(%D $manpath); export MANPATH",
    "(( $+commands[env] )) && { %S }",
    "(( $+X )) || { %S }",
    "case $X in (%P) %S;; (*) PATH=/z:$PATH;; esac",
    "for ((i = 0; i < %N; i++)) { PATH=/$i:$PATH }",
    "repeat %N { PATH=/r:$PATH }",
    "setopt extendedglob nullglob; unsetopt nullglob",
    "local X=%W",
    "path=(${path/bin/lib})",
    "path=($path[2,-1] $path[1])",
    "PATH=/${${X:-%W}%%/*}:$PATH",
    "unset path; PATH=/un",
    "path=(${(u)path})",
    "if [[ :$PATH: != *:%P:* ]] { %S }\n",
    "X=${(U)X}",
    "emulate -L zsh",
    "PATH=$PATH:%D export PATH",
    "fpath=(~/tools $fpath)",
    "PATH=${0:A:h}:$PATH",
    "typeset -x XDG_DATA_DIRS=%D",
];

const FISH: Templates = &[
    "set PATH %D $PATH",
    "set -gx PATH $PATH %D",
    "set -p PATH %D",
    "set -a PATH %D",
    "set -x MANPATH %D $MANPATH",
    "set -gx XDG_DATA_DIRS %D",
    "if %C; %S; end",
    "if %C; %S; else; %S; end",
    "if %C; %S; else if %C; %S; end",
    "%C; and %S",
    "%C; or %S",
    "%C && %S",
    "not %C; and %S",
    "for d in %D %D; set PATH $d $PATH; end",
    "for d in $HOME/tools/*; set PATH $PATH $d; end",
    "for d in %D %D; contains -- $d $PATH; or set -a PATH $d; end",
    "function %F; set -gx PATH $argv[1] $PATH; end; %f %D",
    "function %F --argument-names one two; set -gx PATH $two $PATH; end; %f %W %D",
    "function %F; %S; end; %f %W",
    "set X %D",
    "set X %W %W",
    "set -l X %W",
    "set -g Y %W",
    "set -e X",
    "set -e PATH[1]",
    "set -e PATH[-1]",
    "switch $X; case %P; %S; case '*'; %S; end",
    "switch %W; case a b; %S; case '/*'; %S; end",
    "set X (echo %W)",
    "set X (string split : a:b:c); set PATH /$X[2] $PATH",
    "set PATH (string replace bin lib $PATH)",
    "set PATH (string match -v /bin $PATH)",
    "set PATH $PATH[2..-1]",
    "test (count $PATH) -gt %N; and %S",
    "contains /bin $PATH; and %S",
    "set -q X; or set X %D",
    "set -q X[1]; and set PATH /$X[1] $PATH",
    "set -l i (contains -i /bin $PATH); and set -e PATH[$i]",
    "begin; %S; set -l PATH /l; end",
    "begin; set -lx X %W; %S; end",
    "source $HOME/tools/a/env.fish",
    "eval 'set PATH %D $PATH'",
    "set n (math %N + 1); set PATH /$n $PATH",
    "for i in (seq %N); set PATH /$i $PATH; end",
    "while test (count $X) -lt %N; set -a X y; end",
    "set PATH {/a,/b}/bin $PATH",
    "set PATH \"$HOME/bin\" $PATH",
    "set PATH /x$X $PATH",
    "set PATH \"$X\"/q $PATH",
    "string match -q '*/bin' -- $PATH; and %S",
    "test -d %D; and %S",
    "test -n \"$X\" -a -d %D; and %S",
    "set X ($HOME/bin/gauge)",
    "set PATH ($HOME/bin/gauge) $PATH",
    "$HOME/bin/gauge >/dev/null; and %S",
    "if $HOME/bin/gauge >/dev/null; %S; else; %S; end",
    "type -q nowhere; or %S",
    "command -q env; and %S",
    "set v PATH; set $v %D $$v",
    "true; set PATH /st$status $PATH",
    "false; set PATH /st$status $PATH",
    "set PATH (printf '%s\\n' %W %W) $PATH",
    "return",
    "set -l PATH /lp $PATH",
    "set -U Z %W; set PATH /$Z $PATH",
    "set PATH (dirname %D) $PATH",
];

const CONDITIONS: Templates = &[
    "[ -d %D ]",
    "[ -f $HOME/tools/list ]",
    "[ -n \"$X\" ]",
    "[ -z \"$Y\" ]",
    "[ \"$X\" = %W ]",
    "[ \"$X\" != %W ]",
    "true",
    "false",
    "[ %N -gt 1 ]",
    "test -x $HOME/bin/gauge",
    "[ -e $HOME/gone ]",
    "[ -L $HOME/gone ]",
    "[ -r %D ]",
    "[ ! -d %D ]",
    "[ -z \"${X+x}\" ]",
    "command -v env >/dev/null 2>&1",
    "[ -n \"$BASH_VERSION\" ]",
    "[ -n \"${ZSH_VERSION-}\" ]",
    "[ $# -eq 0 ]",
    "[ -d $HOME/bin -a %N -lt 2 ]",
    "grep -q x $HOME/none 2>/dev/null",
    "[ \"$(echo %W)\" = a ]",
    "[ -s $HOME/tools/list ]",
];

const TESTS: Templates = &[
    "-d %D",
    "-n $X",
    "$X == %P",
    "$X != %W",
    "! -e %D",
    "-z $Y && -d %D",
    "%N -gt 1",
    "$X < %W",
    "( -n $X || -d /usr )",
];

const FISH_CONDITIONS: Templates = &[
    "test -d %D",
    "test -n \"$X\"",
    "test -z \"$Y\"",
    "test \"$X\" = %W",
    "set -q X",
    "not set -q Y",
    "true",
    "false",
    "test %N -gt 1",
    "contains /a $PATH",
    "status is-interactive",
    "string match -q 'a*' -- $X",
    "test -f $HOME/tools/list",
    "type -q env",
];

const WORDS: Templates = &["a", "b", "one", "/w", "x1", "\"q w\"", "'s'", "A_b"];

const PATTERNS: Templates = &["/a", "*bin*", "/usr/bin", "a*", "[ab]", "?", "$X", "\"$X\"", "/opt/*", "one"];

impl Grammar {
    pub fn new(shell: &'static str, seed: u64, nests: bool) -> Self {
        // Neighbouring seeds give unlike scripts.
        let seed = (seed + 1).wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ (seed << 7) | 1;
        Grammar { seed, shell, depth: 0, functions: 0, nests }
    }

    fn next(&mut self, below: usize) -> usize {
        self.seed ^= self.seed << 13;
        self.seed ^= self.seed >> 7;
        self.seed ^= self.seed << 17;
        usize::try_from(self.seed % below as u64).unwrap()
    }

    fn pick(&mut self, templates: Templates) -> String {
        let template = templates[self.next(templates.len())];
        self.filled(template)
    }

    /// The lines of a script.
    pub fn script(&mut self) -> Vec<String> {
        let begins = self.nests && self.next(3) == 0;
        let opening = match self.shell {
            _ if !begins => None,
            "fish" => Some("eval 'set -gx PATH /a $PATH; set -g X $PATH; '($HOME/bin/gauge)"),
            _ => Some("eval 'PATH=/a:$PATH; X=$PATH; '$($HOME/bin/gauge)"),
        };
        opening.map(str::to_owned).into_iter().chain((0..2 + self.next(5)).map(|_| self.statement())).collect()
    }

    fn statement(&mut self) -> String {
        if self.depth > 2 {
            let flat = if self.shell == "fish" { "set PATH /deep $PATH" } else { "PATH=/deep:$PATH" };
            return flat.to_owned();
        }
        self.depth += 1;
        let own = self.next(3) > 0;
        let text = match self.shell {
            "fish" => self.pick(FISH),
            "bash" if own => self.pick(BASH),
            "zsh" if own => self.pick(ZSH),
            _ => self.pick(POSIX),
        };
        self.depth -= 1;
        if self.nests && self.shell != "fish" && self.next(2) == 0 { format!("eval '{text}'") } else { text }
    }

    fn filled(&mut self, template: &str) -> String {
        let mut text = String::new();
        let mut name = String::new();
        let is_fish = self.shell == "fish";
        let mut rest = template;
        while let Some(at) = rest.find('%') {
            text.push_str(&rest[..at]);
            let letter = rest[at + 1..].chars().next().unwrap_or_default();
            rest = &rest[at + 1..];
            let (taken, filling) = match letter {
                'D' => (1, self.pick(if is_fish { FISH_DIRS } else { DIRS })),
                'C' if rest.starts_with("C2") => (2, self.pick(TESTS)),
                'C' => (1, self.pick(if is_fish { FISH_CONDITIONS } else { CONDITIONS })),
                'S' => (1, self.statement()),
                'W' => (1, self.pick(WORDS)),
                'P' => (1, self.pick(PATTERNS)),
                'N' => (1, (1 + self.next(3)).to_string()),
                'F' => {
                    self.functions += 1;
                    name = format!("f{}", self.functions);
                    (1, name.clone())
                }
                'f' => (1, name.clone()),
                _ => (0, "%".to_owned()),
            };
            text.push_str(&filling);
            rest = &rest[taken..];
        }
        text.push_str(rest);
        text
    }
}
