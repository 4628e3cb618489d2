//! The letters that `set` takes for options.

use crate::syntax::Dialect;

/// What `set -o` of every shell but zsh calls the options that have letters.
const COMMON: [(u8, &str); 11] = [
    (b'a', "allexport"),
    (b'b', "notify"),
    (b'C', "noclobber"),
    (b'e', "errexit"),
    (b'f', "noglob"),
    (b'm', "monitor"),
    (b'n', "noexec"),
    (b'p', "privileged"),
    (b'u', "nounset"),
    (b'v', "verbose"),
    (b'x', "xtrace"),
];
const OF_BASH: [(u8, &str); 8] = [
    (b'B', "braceexpand"),
    (b'E', "errtrace"),
    (b'H', "histexpand"),
    (b'h', "hashall"),
    (b'k', "keyword"),
    (b'P', "physical"),
    (b'T', "functrace"),
    (b't', "onecmd"),
];
const OF_DASH: [(u8, &str); 3] = [(b'E', "emacs"), (b'I', "ignoreeof"), (b'V', "vi")];
const OF_ZSH: [(u8, &str); 55] = [
    (b'0', "correct"),
    (b'1', "printexitvalue"),
    (b'2', "nobadpattern"),
    (b'3', "nonomatch"),
    (b'4', "globdots"),
    (b'5', "notify"),
    (b'6', "bgnice"),
    (b'7', "ignoreeof"),
    (b'8', "markdirs"),
    (b'9', "autolist"),
    (b'B', "nobeep"),
    (b'C', "noclobber"),
    (b'D', "pushdtohome"),
    (b'E', "pushdsilent"),
    (b'F', "noglob"),
    (b'G', "nullglob"),
    (b'H', "rmstarsilent"),
    (b'I', "ignorebraces"),
    (b'J', "autocd"),
    (b'K', "nobanghist"),
    (b'L', "sunkeyboardhack"),
    (b'M', "singlelinezle"),
    (b'N', "autopushd"),
    (b'O', "correctall"),
    (b'P', "rcexpandparam"),
    (b'Q', "pathdirs"),
    (b'R', "longlistjobs"),
    (b'S', "recexact"),
    (b'T', "cdablevars"),
    (b'U', "mailwarning"),
    (b'V', "nopromptcr"),
    (b'W', "autoresume"),
    (b'X', "listtypes"),
    (b'Y', "menucomplete"),
    (b'Z', "zle"),
    (b'a', "allexport"),
    (b'd', "noglobalrcs"),
    (b'e', "errexit"),
    (b'f', "norcs"),
    (b'g', "histignorespace"),
    (b'h', "histignoredups"),
    (b'i', "interactive"),
    (b'k', "interactivecomments"),
    (b'l', "login"),
    (b'm', "monitor"),
    (b'n', "noexec"),
    (b'p', "privileged"),
    (b'r', "restricted"),
    (b's', "shinstdin"),
    (b't', "singlecommand"),
    (b'u', "nounset"),
    (b'v', "verbose"),
    (b'w', "chaselinks"),
    (b'x', "xtrace"),
    (b'y', "shwordsplit"),
];

/// The name of the option that a letter stands for; none where it stands for one that changes nothing here.
pub(super) fn of_letter(dialect: Dialect, letter: u8) -> Option<&'static str> {
    let find = |table: &[(u8, &'static str)]| table.iter().find(|(one, _)| *one == letter).map(|(_, name)| *name);
    match dialect {
        Dialect::Zsh => find(&OF_ZSH),
        Dialect::Bash => find(&COMMON).or_else(|| find(&OF_BASH)),
        Dialect::Posix => find(&COMMON).or_else(|| find(&OF_DASH)),
    }
}
