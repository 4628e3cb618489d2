//! `--columns` and `--sort`, which every list takes.

use super::support::{lantern, run};

/// Questions whose answers are lists.
const LISTS: [&[&str]; 16] = [
    &["inventory", "--totals"],
    &["shadows"],
    &["paths"],
    &["launchers"],
    &["search", "chart"],
    &["offers", "chartdesk"],
    &["sources"],
    &["states"],
    &["upkeep"],
    &["timeline"],
    &["unowned"],
    &["conflicts"],
    &["why", "python3-knots"],
    &["space"],
    &["leftovers"],
    &["check"],
];

fn asked(words: &[&str], format: &str, more: &[&str]) -> super::support::Ran {
    let demo = lantern().to_str().unwrap();
    run([&["--root", demo, "--quiet", "--format", format][..], words, more].concat())
}

fn rows(text: &str) -> Vec<csv::StringRecord> {
    csv::ReaderBuilder::new().has_headers(false).from_reader(text.as_bytes()).records().map(Result::unwrap).collect()
}

#[test]
fn every_list_shows_the_columns_that_are_asked_for_in_the_order_of_one() {
    for words in LISTS {
        let whole = rows(&asked(words, "csv", &[]).out);
        assert!(whole.len() > 1, "{words:?}: {whole:?}");
        let (first, last) = (&whole[0][0], &whole[0][whole[0].len() - 1]);
        let chosen = asked(words, "csv", &["--columns", &format!("{last},{first}"), "--sort", first]);
        let chosen = rows(&chosen.out);
        assert_eq!(chosen[0].iter().collect::<Vec<_>>(), [last, first], "{words:?}");
        let mut expected: Vec<String> = whole[1..].iter().map(|row| row[0].to_lowercase()).collect();
        expected.sort();
        if words == ["timeline"] {
            // Dates begin with the latest.
            expected.reverse();
        }
        expected.sort_by_key(String::is_empty);
        assert_eq!(chosen[1..].iter().map(|row| row[1].to_lowercase()).collect::<Vec<_>>(), expected, "{words:?}");
        // At a terminal the verdict stays, and the same rows follow.
        let page = asked(words, "table", &["--columns", first]);
        let usual = asked(words, "table", &[]);
        assert_eq!(page.out.lines().next(), usual.out.lines().next(), "{words:?}");
        assert_eq!(page.out.lines().count(), whole.len() + 2, "{words:?}: {}", page.out);
    }
}

#[test]
fn several_answers_have_no_verdict_above_their_rows() {
    let ran = asked(&["owner", "tidegauge", "barolog", "shoal"], "table", &["--columns", "target,manager"]);
    assert_eq!(
        ran.out,
        "TARGET     MANAGER\ntidegauge  uv\ntidegauge  dpkg\nbarolog\nbarolog\nshoal      cargo\nshoal\n"
    );
}

#[test]
fn what_cannot_be_arranged_is_refused() {
    for (words, format, says) in [
        (&["unowned", "--sort", "colour"][..], "table", "no column is called colour (there are group,"),
        (&["unowned", "--sort", "name"], "json", "arrange rows: --format table, csv or markdown"),
        (&["inventory", "--sort", "colour"], "table", "--sort takes no colour (it takes name, size, date, manager)"),
        (&["inventory", "--columns", "name,colour"], "csv", "--columns takes no colour (it takes name, version,"),
        (&["plan", "tidy", "--sort", "name"], "table", "this command shows none"),
        (&["completions", "bash", "--columns", "name"], "table", "this command shows none"),
    ] {
        let ran = asked(words, format, &[]);
        assert_eq!((ran.status, ran.err.contains(says)), (2, true), "{words:?}: {ran:?}");
    }
}
