//! How well packages are clustered into titles: on a set of packages with a label each, named as the registries name
//! theirs. The software is made up. Packages with one label are one piece of software; a label of its own is none
//! other's.

use whodunit_core::bytes::ByteString;
use whodunit_core::identity::{Known, Language, Rules, cluster};
use whodunit_core::managers;
use whodunit_core::model::Scope;

fn labelled() -> Vec<(String, Known)> {
    let texts =
        |field: &str| field.split(',').filter(|text| !text.is_empty()).map(ByteString::from).collect::<Vec<_>>();
    let of_line = |line: &str| {
        let fields: Vec<&str> = line.split('\t').collect();
        let [label, manager, scope, name, source, commands, launchers, upstream, ref more @ ..] = fields[..] else {
            panic!("eight fields or nine: {line}");
        };
        let language = |word: &str| {
            let all = [Language::Python, Language::JavaScript, Language::Ruby];
            all.into_iter().find(|language| language.word() == word)
        };
        // What is not known has no ninth field.
        let runtimes = more.first().map(|words| words.split(',').filter_map(language).collect());
        let manager = managers::ALL.iter().map(|manager| manager.id()).find(|id| id.0 == manager).unwrap();
        let scope = scope.strip_prefix("user:").map_or(Scope::System, |name| Scope::User(name.into()));
        let one = |field: &str| texts(field).into_iter().next();
        let known = Known {
            manager,
            scope,
            name: name.into(),
            source: one(source),
            commands: texts(commands),
            launchers: texts(launchers),
            upstream: one(upstream),
            runtimes,
        };
        (label.to_owned(), known)
    };
    include_str!("titles.tsv").lines().filter(|line| !line.starts_with('#')).map(of_line).collect()
}

#[test]
fn no_union_is_wrong_and_few_are_missed() {
    let labelled = labelled();
    assert!(labelled.len() >= 300, "{}", labelled.len());
    let known: Vec<Known> = labelled.iter().map(|(_, known)| known.clone()).collect();
    let titles = cluster(&known, &Rules::default());
    let (mut wrong, mut missed, mut right) = (Vec::new(), Vec::new(), 0);
    for a in 0..known.len() {
        for b in a + 1..known.len() {
            let is_same = labelled[a].0 == labelled[b].0;
            let is_clustered = titles.of[a].is_some() && titles.of[a] == titles.of[b];
            let pair = || format!("{} {} / {} {}", known[a].manager, known[a].name, known[b].manager, known[b].name);
            match (is_same, is_clustered) {
                (true, true) => right += 1,
                (true, false) => missed.push(pair()),
                (false, true) => wrong.push(pair()),
                (false, false) => {}
            }
        }
    }
    let recall = f64::from(right) / f64::from(right + i32::try_from(missed.len()).unwrap());
    println!("{right} pairs clustered, {} missed: recall {recall:.3}; {} wrong", missed.len(), wrong.len());
    assert_eq!(wrong, Vec::<String>::new(), "wrong unions");
    assert!(recall >= 0.95, "missed: {missed:#?}");
}

#[test]
fn a_user_has_the_last_word() {
    let known = |manager: &str, name: &str| {
        let mut found = labelled().into_iter().map(|(_, known)| known);
        found.find(|known| known.manager.0 == manager && *known.name == *name.as_bytes()).unwrap()
    };
    let (own, other) = (known("dpkg", "moor"), known("npm", "moor"));
    let pair = [own, other];
    let of = |rules: Rules| cluster(&pair, &rules).of.iter().flatten().count();
    let list = |words: [&str; 2]| vec![words.map(ByteString::from).to_vec()];
    assert_eq!(of(Rules::default()), 0);
    assert_eq!(of(Rules { same: list(["dpkg:moor", "npm:moor"]), ..Rules::default() }), 2);
    let both = [known("dpkg", "tidegauge"), known("pipx", "tidegauge")];
    let apart = Rules { different: list(["dpkg:tidegauge", "pipx:tidegauge"]), ..Rules::default() };
    assert_eq!(cluster(&both, &Rules::default()).of.iter().flatten().count(), 2);
    assert_eq!(cluster(&both, &apart).of.iter().flatten().count(), 0);
}

#[test]
fn two_packages_of_one_installation_are_never_one_title() {
    let all: Vec<Known> = labelled().into_iter().map(|(_, known)| known).collect();
    let titles = cluster(&all, &Rules::default());
    for title in 0..u32::try_from(titles.names.len()).unwrap() {
        let members = titles.members(title);
        for (at, one) in members.iter().enumerate() {
            for other in &members[at + 1..] {
                let (a, b) = (&all[*one], &all[*other]);
                assert!((a.manager, &a.scope) != (b.manager, &b.scope) || a.name == b.name, "{a:?} {b:?}");
            }
        }
    }
}
