//! Every question, asked of a tree that may be damaged, and what must hold of the answers whatever the tree holds.

use std::path::Path;

use whodunit_core::backend::Detail;
use whodunit_core::bytes::ByteString;
use whodunit_core::checks::{CheckContext, FindingFilter, Settings, check, leftovers::leftovers};

use whodunit_core::fs::Root;
use whodunit_core::history::compare;
use whodunit_core::host::{Host, ProcessEnv, UserSelection};
use whodunit_core::model::{Depth, Evidence, Finding, NameFilter, OfferQuery, Position, Search, SearchScope};
use whodunit_core::plans::{self, Plan, RemovalOptions, TidyOptions};
use whodunit_core::queries::UserView;
use whodunit_core::queries::impact::impacts;
use whodunit_core::queries::owner::{Target, owners};
use whodunit_core::queries::timeline::{Span, timeline};
use whodunit_core::queries::verify::{Question, verify};
use whodunit_core::queries::{manifest, snapshot, sources, space, states, unowned, upkeep, why};
use whodunit_core::resolve::contexts::{Overrides, Shell, resolve_context};
use whodunit_core::resolve::{Context, SearchPath};
use whodunit_core::survey::Survey;

/// Asks every question of the tree: of these targets, as `owner` takes them, and of the packages of these names.
pub fn ask_everything(tree: &Path, targets: &[&str], names: &[&str]) {
    let host = Host::new(Root::offline(tree).unwrap(), &UserSelection::All, ProcessEnv::default()).unwrap();
    let survey = Survey::of(&host);
    let search = SearchPath::of(&host, Context::Login);
    let _ = survey.packages(Detail::FULL).len() + survey.index(&NameFilter::All).len();
    let targets: Vec<Target> = targets.iter().map(|name| Target::parse(name.as_bytes()).unwrap()).collect();
    let answers = owners(&survey, &search, &targets).answers;
    assert_eq!(answers.len(), targets.len(), "every target has one answer");
    for answer in &answers {
        let mut evidence = answer.evidence.iter().chain(&answer.because);
        let is_file = |one: &Evidence| *one.file != *b"environment" && one.at != Position::CompiledIn;
        let strange = evidence.find(|one| is_file(one) && !one.file.starts_with(b"/"));
        assert_eq!(strange, None, "evidence names a file by its whole path");
        assert!(answer.owner.is_none() || !answer.owners.is_empty(), "the owner is one of the owners: {answer:?}");
    }
    for asked in [
        OfferQuery::Installed,
        OfferQuery::Names(names.iter().map(|name| ByteString::from(*name)).collect()),
        OfferQuery::Search(Search::new(&["e".into()], &[], SearchScope::Everything)),
    ] {
        let _ = survey
            .installations()
            .iter()
            .filter_map(|held| held.catalogue())
            .map(|catalogue| catalogue.offers(&asked).len() + catalogue.source_notes().len())
            .sum::<usize>();
    }
    for user in &host.users {
        for context in Context::ALL {
            for shell in [Shell::Dash, Shell::Bash, Shell::Zsh, Shell::Fish] {
                let _ =
                    resolve_context(&host, context, user, &Overrides { shell: Some(shell), ..Overrides::default() });
            }
        }
    }
    let resolved: Vec<_> = host
        .users
        .first()
        .map(|user| Context::ALL.map(|context| resolve_context(&host, context, user, &Overrides::default())))
        .into_iter()
        .flatten()
        .collect();
    let views = [UserView { user: None, searches: vec![search], usual: Vec::new() }];
    let look = CheckContext::new(&survey, &views, &resolved);
    check(&look, &Settings::default(), &FindingFilter::default()).findings.iter().for_each(holds);
    leftovers(&look).findings.iter().for_each(|one| holds(&one.finding));
    let question = Question { packages: None, managers: &[], depth: Depth::Content };
    let _ = verify(&survey, question, &()).findings.len();
    let all: Vec<(u16, u32)> = names.iter().flat_map(|name| survey.numbered(name.as_bytes())).collect();
    let _ = impacts(&look, &[&all]).iter().map(|one| one.broken.len()).sum::<usize>();
    for chain in why::why(&look, &all).chains {
        assert!(!chain.chain.is_empty(), "a chain begins somewhere");
    }
    let space = space::space(&survey, None, &());
    assert!(space.titles.iter().all(|title| !title.installations.is_empty()), "a title is something installed");
    let searches: Vec<&SearchPath> = look.views.iter().flat_map(|view| &view.searches).collect();
    let _ = unowned::unowned(&survey, &searches, &[]).groups.len();
    let _ =
        sources::sources(&survey, &[]).sources.len() + upkeep::upkeep(&survey, &[], Some(1_790_000_000)).upkeep.len();
    let _ = timeline(&survey, &Span::default()).events.len() + states::states(&survey, &[]).states.len();
    let taken = snapshot::take(&look, Some(1_790_000_000));
    assert!(compare(&taken, &taken).changes.is_empty(), "nothing differs from itself");
    let written = manifest::manifest(&survey, &searches, true, Some(1_790_000_000));
    follows(&plans::install(&survey, &written, &written));
    follows(&plans::remove(&look, &all, &[], &RemovalOptions { with_data: true, ..RemovalOptions::default() }));
    follows(&plans::tidy(&look, &TidyOptions { with_data: true, with_caches: true, ..TidyOptions::default() }));
    follows(&plans::fix(&look, &Settings::default(), &FindingFilter::default()));
    for read in survey.coverage() {
        let lost = read.notes.iter().all(|loss| !loss.to_string().contains(char::is_control));
        assert!(lost && read.location.starts_with(b"/"), "{read:?}");
    }
}

/// What can be told of a finding can be printed, and its evidence opened.
fn holds(finding: &Finding) {
    let sentences = [&finding.summary, &finding.consequence];
    assert!(sentences.into_iter().all(|text| !text.contains(char::is_control)), "{finding:?}");
    // What has no file, such as that two packages are one software, has no line either.
    let can_be_opened = |one: &Evidence| one.file.starts_with(b"/") || !matches!(one.at, Position::Line(_));
    assert!(finding.evidence.iter().all(can_be_opened), "{finding:?}");
    assert!(finding.remedies.iter().all(|remedy| is_words(&remedy.command)), "{finding:?}");
}

/// A plan's steps are numbered, and each is one command.
fn follows(plan: &Plan) {
    for (step, number) in plan.steps.iter().zip(1..) {
        assert!(step.number == number && is_words(&step.command), "{step:?}");
    }
}

/// A command without control characters: what a stranger's name holds is quoted or left out.
fn is_words(command: &str) -> bool {
    !command.is_empty() && !command.contains(char::is_control)
}
