//! Which languages' interpreters a package needs, by the names of what it depends on.

use crate::model::Language;

/// The languages in whose registries commands are scripts, and what a package that brings such a script depends on: the
/// interpreter, or a library for it. Perl is not among them: distributions take it for granted.
const RUNTIMES: [(Language, &[&str], &[&str]); 3] = [
    (
        Language::Python,
        &["python", "python2", "python3", "python(abi)", "pypy3"],
        &["python3", "python-", "py3-", "pypy3-", "/usr/bin/python"],
    ),
    (Language::JavaScript, &["nodejs", "node", "npm"], &["node-", "nodejs-", "npm(", "/usr/bin/node"]),
    (Language::Ruby, &["ruby", "ruby(rubygems)"], &["ruby-", "ruby2", "ruby3", "rubygem", "/usr/bin/ruby"]),
];

/// Whether a language is one of those that [`of_needs`] tells.
#[must_use]
pub(crate) fn is_told(language: Language) -> bool {
    RUNTIMES.iter().any(|(known, ..)| *known == language)
}

/// The languages whose interpreters these needs name; `None` where there are none, as of packages whose makers did not
/// say what they need.
pub(crate) fn of_needs<'n>(needs: impl Iterator<Item = &'n [u8]>) -> Option<Vec<Language>> {
    let (mut found, mut is_any) = (Vec::new(), false);
    for need in needs.filter(|need| !need.is_empty()) {
        is_any = true;
        let has = |(_, names, starts): &&(Language, &[&str], &[&str])| {
            names.iter().any(|name| name.as_bytes() == need)
                || starts.iter().any(|start| need.starts_with(start.as_bytes()))
        };
        if let Some((language, ..)) = RUNTIMES.iter().find(has)
            && !found.contains(language)
        {
            found.push(*language);
        }
    }
    is_any.then_some(found)
}
