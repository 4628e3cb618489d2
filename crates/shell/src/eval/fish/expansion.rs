//! What a word becomes: outputs of commands first, then variables, then braces, each for all of the word.

use super::Fish;
use crate::syntax::fish::{Part, Word};
use crate::syntax::pattern;

/// A text, and the pattern that it is where files are looked for.
type Text = (Vec<u8>, Vec<u8>);

/// More texts than these are not made of one word.
const MOST: usize = 20_000;

/// What outputs and variables of a word stand for, in their order.
#[derive(Default)]
struct Values {
    outputs: Vec<Vec<Text>>,
    variables: Vec<Vec<Text>>,
}

impl Fish<'_> {
    /// The expansion of a word: each text with its pattern.
    pub(super) fn expand(&mut self, word: &Word) -> Vec<Text> {
        let mut values = Values::default();
        self.take_values(word, &mut values);
        let count =
            |lists: &[Vec<Text>]| lists.iter().fold(1_usize, |product, list| product.saturating_mul(list.len()));
        let most = count(&values.outputs).saturating_mul(count(&values.variables));
        if most > MOST {
            self.stop("too many words");
            return Vec::new();
        }
        let mut all = Vec::new();
        for outputs in choices(&values.outputs) {
            for variables in choices(&values.variables) {
                let (mut outputs, mut variables) = (outputs.iter(), variables.iter());
                all.extend(self.braced(word, false, &mut outputs, &mut variables));
                if all.len() > MOST {
                    self.stop("too many words");
                    return Vec::new();
                }
            }
        }
        all
    }

    /// Takes in what the outputs and variables of a word stand for, also those in its braces.
    fn take_values(&mut self, word: &Word, values: &mut Values) {
        let texts = |list: Vec<Vec<u8>>| list.into_iter().map(|text| (text.clone(), pattern::escaped(&text))).collect();
        for part in &word.0 {
            match part {
                Part::Plain(_) | Part::Quoted(_) => {}
                Part::Variable(name, quoted, index, more) => {
                    let mut list = self.variable(name, index.as_deref());
                    for _ in 0..*more {
                        list = list.iter().flat_map(|name| self.list_of(name).unwrap_or_default()).collect();
                    }
                    let separator: &[u8] = if self.has_colons(name) { b":" } else { b" " };
                    values.variables.push(texts(if *quoted { vec![list.join(separator)] } else { list }));
                }
                Part::Output(block, quoted, index) => {
                    let lines = self.output_of(block);
                    self.is_misworded |= std::mem::take(&mut self.is_missing) && self.run.status == Some(127);
                    let lines = self.picked(lines, index.as_deref());
                    values.outputs.push(texts(if *quoted { vec![lines.join(&b'\n')] } else { lines }));
                }
                Part::Braces(words) => words.iter().for_each(|word| self.take_values(word, values)),
            }
        }
    }

    /// The texts of a word in which the outputs and variables are these; in braces `~` means itself.
    fn braced<'v>(
        &mut self,
        word: &Word,
        is_inner: bool,
        outputs: &mut dyn Iterator<Item = &'v &'v Text>,
        variables: &mut dyn Iterator<Item = &'v &'v Text>,
    ) -> Vec<Text> {
        let mut all: Vec<Text> = vec![(Vec::new(), Vec::new())];
        for (number, part) in word.0.iter().enumerate() {
            let more: Vec<Text> = match part {
                Part::Plain(text) => vec![self.home(text, number == 0 && !is_inner)],
                Part::Quoted(text) => vec![(text.clone(), pattern::escaped(text))],
                Part::Variable(..) => variables.next().map(|text| (*text).clone()).into_iter().collect(),
                Part::Output(..) => outputs.next().map(|text| (*text).clone()).into_iter().collect(),
                Part::Braces(words) => {
                    words.iter().flat_map(|word| self.braced(word, true, outputs, variables)).collect()
                }
            };
            if all.len().saturating_mul(more.len()) > MOST {
                self.stop("too many words");
                return Vec::new();
            }
            let join = |one: &Text, two: &Text| ([&one.0[..], &two.0].concat(), [&one.1[..], &two.1].concat());
            // What stands first changes fastest.
            all = more.iter().flat_map(|two| all.iter().map(move |one| join(one, two))).collect();
        }
        all
    }
}

/// Each choice of one text out of each list; what stands first changes fastest.
fn choices(lists: &[Vec<Text>]) -> Vec<Vec<&Text>> {
    let mut all = vec![Vec::new()];
    for list in lists {
        all = list.iter().flat_map(|text| all.iter().map(move |one: &Vec<_>| [&one[..], &[text]].concat())).collect();
    }
    all
}
