//! Lists of directories as their variables hold them at the end, with who put each part there.

use super::ResolvedContext;
use crate::bytes::ByteString;
use crate::host::ENVIRONMENT;
use crate::model::Evidence;
use whodunit_shell::UnknownId;
use whodunit_shell::eval::{Piece, Place, is_known, parts, pieces, unknowns_in};

/// One directory of a list, as its variable has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    /// As it is spelled.
    pub dir: ByteString,
    /// Who put it there.
    pub because: Evidence,
}

/// Directories of which nobody knows, without running something, whether they are in the search path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Possible {
    /// How many known directories come before.
    pub before: usize,
    /// What stands there in the one case and in the other.
    pub ways: [Vec<ByteString>; 2],
    /// What decides.
    pub because: Evidence,
}

/// The most that one variable of a program's environment can have, in bytes (`execve(2)`, `MAX_ARG_STRLEN` of Linux):
/// with a longer one no program starts.
const LONGEST: usize = 128 << 10;

impl ResolvedContext {
    /// What is unknown under this id, as evidence.
    #[must_use]
    pub fn unknown(&self, id: UnknownId) -> Option<Evidence> {
        self.unknowns.get(id.0).cloned().map(Evidence::from)
    }

    /// The directories of a variable, with who put each there. Unknown parts come second, as unknowns.
    #[must_use]
    pub fn list(&self, variable: &str) -> (Vec<Listed>, Vec<Evidence>) {
        let (mut listed, mut unknown) = (Vec::new(), Vec::new());
        // What is not given to programs counts for the shell's own lookup alone.
        let variable_name = variable;
        let variable =
            self.state.variables.get(variable_name.as_bytes()).filter(|set| set.exported || variable_name == "PATH");
        let Some(variable) = variable else {
            unknown.extend(self.state.unset_taints.iter().filter_map(|unknown| self.unknown(*unknown)));
            return (listed, unknown);
        };
        let list = parts(variable.as_text());
        // With its name before it, and a zero byte behind.
        let mut length = variable_name.len() + 1;
        for (number, part) in list.iter().enumerate() {
            let place = variable.places.get(number);
            length += part.len() + 1;
            if length > LONGEST {
                let file = place.map_or_else(|| "environment".into(), |place| place.file.clone());
                let says = format!(
                    "{variable_name} is longer than the {} KiB that a program can be given: {} directories at its end \
                     are left out",
                    LONGEST >> 10,
                    list.len() - number
                );
                unknown.push(Evidence::whole(file, says));
                break;
            }
            if !is_known(part) {
                unknown.extend(match self.possible(part, listed.len()) {
                    Some(possible) => vec![possible.because],
                    None => unknowns_in(part).into_iter().filter_map(|unknown| self.unknown(unknown)).collect(),
                });
                continue;
            }
            let dir = ByteString::from(*part);
            let says = if number == 0 { format!("adds {dir} at the front") } else { format!("adds {dir}") };
            let because = because(place, variable_name, number, &dir, says);
            listed.push(Listed { dir, because });
        }
        unknown.extend(variable.taints.iter().filter_map(|unknown| self.unknown(*unknown)));
        unknown.dedup();
        (listed, unknown)
    }

    /// What may stand in the search path for commands, where that is one of two.
    #[must_use]
    pub fn possibles(&self) -> Vec<Possible> {
        let Some(path) = self.state.variables.get(&b"PATH"[..]) else { return Vec::new() };
        let mut known = 0;
        let mut found = Vec::new();
        for part in parts(path.as_text()) {
            match is_known(part) {
                true => known += 1,
                false => found.extend(self.possible(part, known)),
            }
        }
        found
    }

    fn possible(&self, part: &[u8], known: usize) -> Option<Possible> {
        let [Piece::Unknown(id)] = pieces(part).collect::<Vec<_>>()[..] else { return None };
        let choice = self.state.choices.get(&id)?.as_ref()?;
        let ways = choice.each_ref().map(|way| way.iter().map(|dir| ByteString::from(&dir[..])).collect::<Vec<_>>());
        let mut because = self.unknown(id)?;
        let shown = |way: &[ByteString]| match way {
            [] => "nothing".to_owned(),
            dirs => dirs.iter().map(ToString::to_string).collect::<Vec<_>>().join(":"),
        };
        because.says = format!("{}: {} or {}", because.says, shown(&ways[0]), shown(&ways[1]));
        Some(Possible { before: known, ways, because })
    }
}

/// Who put a directory into a list, at this place of it.
fn because(place: Option<&Place>, variable: &str, number: usize, dir: &ByteString, says: String) -> Evidence {
    match place {
        Some(place) if place.line > 0 => Evidence::line(place.file.clone(), place.line, says),
        Some(place) if place.file.starts_with(b"/") => Evidence::whole(place.file.clone(), says),
        Some(place) if *place.file == *ENVIRONMENT.as_bytes() => {
            let position = format!("{variable}, entry {}", number + 1);
            Evidence::at(ENVIRONMENT, position, format!("has {dir}"))
        }
        Some(place) => Evidence::compiled_in(place.file.clone(), format!("starts with {dir}")),
        None => Evidence::at("environment", variable, format!("has {dir}")),
    }
}
