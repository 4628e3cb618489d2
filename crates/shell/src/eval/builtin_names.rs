//! The names that each shell takes for builtins and reserved words.

use crate::syntax::Dialect;

const COMMON: &str = ". : [ alias bg break cd command continue echo eval exec exit export false fg getopts hash jobs kill \
                      local printf pwd read readonly return set shift test times trap true type ulimit umask unalias \
                      unset wait";
const OF_POSIX: &str = "chdir";
const OF_BASH: &str = "bind builtin caller compgen complete compopt declare dirs disown enable fc help history let logout \
                       mapfile popd pushd readarray shopt source suspend typeset";
const OF_ZSH: &str = "autoload bindkey builtin bye chdir compadd comparguments compcall compctl compdescribe compfiles \
                      compgroups compquote compset comptags comptry compvalues declare dirs disable disown echotc echoti \
                      emulate enable fc float functions getln history integer let limit log logout noglob popd print \
                      private pushd pushln r rehash sched setopt source stat suspend ttyctl typeset unfunction unhash \
                      unlimit unsetopt vared whence where which zcompile zformat zle zmodload zparseopts zregexparse \
                      zstyle";
const RESERVED: &str = "! case do done elif else esac fi for if in then until while { }";
const OF_BASH_RESERVED: &str = "[[ ]] coproc function select time";
const OF_ZSH_RESERVED: &str =
    "[[ coproc function select time declare end export float foreach integer local nocorrect readonly repeat typeset";

/// Whether a name is one of these words, which single blanks part.
pub(super) fn among(words: &str, name: &[u8]) -> bool {
    words.split(' ').any(|word| word.as_bytes() == name)
}

/// Whether a shell has a builtin of this name.
#[must_use]
pub fn is_builtin(dialect: Dialect, name: &[u8]) -> bool {
    let more = match dialect {
        Dialect::Posix => OF_POSIX,
        Dialect::Bash => OF_BASH,
        Dialect::Zsh => OF_ZSH,
    };
    among(COMMON, name) || among(more, name)
}

/// Whether a name is a word of the shell's own language.
#[must_use]
pub fn is_reserved(dialect: Dialect, name: &[u8]) -> bool {
    let more = match dialect {
        Dialect::Posix => "",
        Dialect::Bash => OF_BASH_RESERVED,
        Dialect::Zsh => OF_ZSH_RESERVED,
    };
    among(RESERVED, name) || among(more, name)
}

/// Whether a builtin prints something of its own with these words.
#[must_use]
pub(super) fn prints(name: &[u8], words: &[Vec<u8>]) -> bool {
    let asks = |options: &[&[u8]]| words.is_empty() || options.contains(&&*words[0]);
    match name {
        b"set" | b"setopt" | b"unsetopt" => words.is_empty() || (words.len() == 1 && asks(&[b"-o", b"+o"])),
        b"trap" => asks(&[b"-p", b"-l"]),
        b"alias" | b"hash" | b"enable" | b"disable" | b"command" => asks(&[b"-p", b"-L", b"-l", b"-m"]),
        b"umask" => asks(&[b"-S", b"-p"]),
        b"shopt" => !words.iter().any(|word| matches!(&word[..], b"-s" | b"-u" | b"-q")),
        _ => {
            let silent = ": true false [ test unset unfunction unalias cd chdir pwd print echo printf type whence which \
                          where read let getopts mapfile readarray autoload wait disown";
            !among(silent, name)
        }
    }
}
