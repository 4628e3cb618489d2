//! The options of zsh.

use super::builtin_names::among;
use super::piece::is_known;
use super::run::Run;
use crate::syntax::Dialect;

/// Options that are on when zsh starts. They are kept by `no` and their names once they are off.
const ON: &str = "\
    aliases alwayslastprompt appendhistory autolist automenu autoparamkeys autoparamslash \
    autoremoveslash badpattern banghist bareglobqual beep bgnice caseglob casematch checkjobs \
    checkrunningjobs clobber debugbeforecmd equals evallineno exec flowcontrol functionargzero \
    glob globalexport globalrcs hashcmds hashdirs hashlistall histbeep histsavebycopy hup \
    listambiguous listbeep listtypes multibyte multifuncdef multios nomatch notify promptcr \
    promptpercent promptsp rcs shortloops unset";
/// Options that are off.
const OFF: &str = "\
    aliasfuncdef allexport alwaystoend appendcreate autocd autocontinue autonamedirs autopushd \
    autoresume bashautolist bashrematch braceccl bsdecho casepaths cbases cdablevars cdsilent \
    chasedots chaselinks clobberempty combiningchars completealiases completeinword \
    continueonerror correct correctall cprecedences cshjunkiehistory cshjunkieloops \
    cshjunkiequotes cshnullcmd cshnullglob dvorak emacs errexit errreturn extendedglob \
    extendedhistory forcefloat globassign globcomplete globdots globstarshort globsubst \
    hashexecutablesonly histallowclobber histexpiredupsfirst histfcntllock histfindnodups \
    histignorealldups histignoredups histignorespace histlexwords histnofunctions histnostore \
    histreduceblanks histsavenodups histsubstpattern histverify ignorebraces ignoreclosebraces \
    ignoreeof incappendhistory incappendhistorytime interactive interactivecomments ksharrays \
    kshautoload kshglob kshoptionprint kshtypeset kshzerosubscript listpacked listrowsfirst \
    localloops localoptions localpatterns localtraps login longlistjobs magicequalsubst \
    mailwarning markdirs menucomplete monitor nullglob numericglobsort octalzeroes overstrike \
    pathdirs pathscript pipefail posixaliases posixargzero posixbuiltins posixcd \
    posixidentifiers posixjobs posixstrings posixtraps printeightbit printexitvalue privileged \
    promptbang promptsubst pushdignoredups pushdminus pushdsilent pushdtohome rcexpandparam \
    rcquotes recexact rematchpcre restricted rmstarsilent rmstarwait sharehistory \
    shfileexpansion shglob shinstdin shnullcmd shoptionletters shortrepeat shwordsplit \
    singlecommand singlelinezle sourcetrace sunkeyboardhack transientrprompt trapsasync \
    typesetsilent typesettounset verbose vi warncreateglobal warnnestedvar xtrace zle";
/// Other names of options, with what they are.
const OTHER_NAMES: [(&str, &str); 12] = [
    ("braceexpand", "noignorebraces"),
    ("dotglob", "globdots"),
    ("hashall", "hashcmds"),
    ("histappend", "appendhistory"),
    ("histexpand", "banghist"),
    ("log", "nohistnofunctions"),
    ("mailwarn", "mailwarning"),
    ("onecmd", "singlecommand"),
    ("physical", "chaselinks"),
    ("promptvars", "promptsubst"),
    ("stdin", "shinstdin"),
    ("trackall", "hashcmds"),
];
/// Options after whose change zsh takes nearly anything in another way.
const FAR_REACHING: &str = "\
    continueonerror cprecedences cshjunkieloops cshjunkiequotes cshnullglob errreturn forcefloat \
    globassign globsubst ignoreclosebraces ksharrays kshautoload kshtypeset kshzerosubscript \
    localloops nobareglobqual noequals noexec nofunctionargzero noglobalexport nomultifuncdef \
    noshortloops octalzeroes posixargzero posixbuiltins posixcd posixidentifiers posixstrings \
    privileged restricted shfileexpansion singlecommand typesettounset";

/// The name under which zsh keeps an option, and whether the name given is its opposite. zsh takes no notice of case and
/// underscores, and of `no` in front.
pub(super) fn zsh_option(name: &[u8]) -> Option<(Vec<u8>, bool)> {
    let name: Vec<u8> = name.iter().filter(|b| **b != b'_').map(u8::to_ascii_lowercase).collect();
    if let Some((_, meant)) = OTHER_NAMES.iter().find(|(other, _)| other.as_bytes() == name) {
        return zsh_option(meant.as_bytes());
    }
    if among(ON, &name) || among(OFF, &name) {
        return Some((name, false));
    }
    // Once: `nonoglob` is no option.
    let bare = name.strip_prefix(b"no").filter(|bare| among(ON, bare) || among(OFF, bare))?;
    Some((bare.to_vec(), true))
}

impl Run<'_> {
    /// Switches an option of zsh; `false` where there is none of this name.
    pub(super) fn zsh_switch(&mut self, name: &[u8], on: bool) -> bool {
        let Some((name, is_opposite)) = zsh_option(name) else { return false };
        let on = on != is_opposite;
        if on && !self.at.is_interactive && among("interactive monitor shinstdin zle", &name) {
            return false;
        }
        let is_default = among(ON, &name);
        let kept = if is_default { [b"no", &*name].concat() } else { name };
        if on == is_default {
            self.state.options.remove(&kept);
        } else {
            if among(FAR_REACHING, &kept) {
                self.taint_for_good("an option by which zsh takes what follows in another way");
            }
            self.state.options.insert(kept);
        }
        true
    }

    /// Whether an option of zsh is on; none where there is no such option.
    pub(super) fn has_in_zsh(&self, name: &[u8]) -> Option<bool> {
        let (name, is_opposite) = zsh_option(name)?;
        let is_on = match among(ON, &name) {
            true => !self.state.has(&[b"no", &*name].concat()),
            false => self.state.has(&name),
        };
        Some(is_on != is_opposite)
    }

    /// `${options[name]}`, or what the table of the options has as a whole.
    pub(super) fn option_value(&mut self, index: Option<&[u8]>, keys: bool, values: bool) -> Option<Vec<Vec<u8>>> {
        match index {
            None | Some(b"@" | b"*") => Some(self.option_table(keys, values)),
            Some(name) if name.iter().all(|b| b.is_ascii_alphanumeric() || *b == b'_') => {
                let is_on = self.has_in_zsh(name)?;
                Some(vec![if is_on { b"on".to_vec() } else { b"off".to_vec() }])
            }
            Some(_) => Some(vec![self.unknown_value("an option of a name that is not plain")]),
        }
    }

    /// Each option's name, and whether it is on; or the one of both.
    fn option_table(&self, keys: bool, values: bool) -> Vec<Vec<u8>> {
        let said = |is_on: bool| if is_on { b"on".to_vec() } else { b"off".to_vec() };
        let names = ON.split(' ').chain(OFF.split(' '));
        let one = |name: &str| {
            let value = said(self.has_in_zsh(name.as_bytes()).unwrap_or_default());
            let key = keys.then(|| name.as_bytes().to_vec());
            key.into_iter().chain((values || !keys).then_some(value)).collect::<Vec<_>>()
        };
        names.flat_map(one).collect()
    }

    /// `options=(NAME on NAME off …)`: switches each of them.
    pub(super) fn assign_options(&mut self, pairs: &[Vec<u8>]) {
        for pair in pairs.chunks(2) {
            match pair {
                [name, value] if is_known(name) && matches!(&value[..], b"on" | b"off") => {
                    let is_on = value == b"on";
                    if self.has_in_zsh(name) != Some(is_on) {
                        self.zsh_switch(name, is_on);
                    }
                }
                _ => self.taint_for_good("an assignment to the options of the shell"),
            }
        }
    }

    /// `setopt` and `unsetopt`.
    pub(super) fn setopt(&mut self, arguments: &[Vec<u8>], on: bool) {
        for word in arguments {
            if !is_known(word) || word.starts_with(b"-") || word.starts_with(b"+") {
                self.taint_for_good("changes options in a way that is not followed");
            } else if !self.zsh_switch(word, on) {
                self.status = Some(1);
            }
        }
    }

    /// Whether an option of zsh makes other words of this text than the plain ones.
    pub(super) fn is_taken_otherwise(&self, text: &[u8]) -> bool {
        self.dialect() == Dialect::Zsh
            && (self.state.has(b"braceccl") && text.contains(&b'{')
                || self.state.has(b"magicequalsubst") && memchr::memmem::find(text, b"=~").is_some())
    }
}
