//! Here-documents: where the text goes that stands below the line of its redirection.

use std::sync::Arc;

use super::{Command, Dialect, Kind, List, Parsed, Parser, Part, Redirect, SyntaxError, Word};

/// Puts a document into the redirection that waits for it, in this command or inside it; `false` where none does.
pub(super) fn put_document(command: &mut Command, number: usize, document: &Word) -> bool {
    let is_it = |redirect: &&mut Redirect| {
        redirect.operator.starts_with("<<")
            && redirect.operator != "<<<"
            && redirect.target.0 == [Part::Plain(number.to_string().into_bytes())]
    };
    if let Some(redirect) = command.redirects.iter_mut().find(is_it) {
        redirect.target = document.clone();
        return true;
    }
    let mut in_list = |list: &mut List| list.iter_mut().any(|one| put_document(one, number, document));
    match &mut command.kind {
        Kind::AndOr(first, more) => {
            put_document(first, number, document) || more.iter_mut().any(|(_, one)| put_document(one, number, document))
        }
        Kind::Always(list, last) => list.iter_mut().chain(last).any(|command| put_document(command, number, document)),
        Kind::Not(inner) | Kind::Background(inner) | Kind::Coprocess(_, inner) => put_document(inner, number, document),
        Kind::Pipeline(list) | Kind::Group(list) | Kind::Subshell(list) | Kind::OtherLoop(list) => in_list(list),
        Kind::If(branches, otherwise) => {
            branches.iter_mut().any(|(condition, body)| in_list(condition) || in_list(body))
                || otherwise.as_mut().is_some_and(&mut in_list)
        }
        Kind::While(condition, body, _) => in_list(condition) || in_list(body),
        Kind::For(_, _, body) | Kind::Count(_, _, _, body) | Kind::Repeat(_, body) => in_list(body),
        Kind::Case(_, arms) => arms.iter_mut().any(|arm| in_list(&mut arm.body)),
        Kind::Function(_, body) | Kind::Anonymous(body, _) => {
            Arc::get_mut(body).is_some_and(|body| put_document(body, number, document))
        }
        Kind::Simple(..) | Kind::Test(_) | Kind::Arithmetic(_) => false,
    }
}

impl Parser<'_> {
    /// The end of a line, and the documents below it that redirections in it announced.
    pub(super) fn line_end(&mut self) -> Parsed<()> {
        self.skip(1);
        for awaited in std::mem::take(&mut self.awaited) {
            let start = self.line;
            let mut body = Vec::new();
            loop {
                if self.rest().is_empty() {
                    break; // Ends at the file's end, with a warning in shells.
                }
                let length = memchr::memchr(b'\n', self.rest()).unwrap_or(self.rest().len());
                let line = &self.rest()[..length];
                self.skip(length + 1);
                let tabs = if awaited.strips_tabs { line.iter().take_while(|&&b| b == b'\t').count() } else { 0 };
                if line[tabs..] == awaited.end[..] {
                    break;
                }
                body.extend_from_slice(&line[tabs..]);
                // Where the file ends within a document, bash alone ends its last line.
                if self.text[self.at - 1] == b'\n' || self.dialect == Dialect::Bash {
                    body.push(b'\n');
                }
            }
            let word = match awaited.is_quoted {
                true => Word(vec![Part::Quoted(body)]),
                false => {
                    let parsed = Parser::at_line(&body, self.dialect, start).document();
                    // No error is behind the last line of the file.
                    parsed.map_err(|error| SyntaxError { line: error.line.min(self.line), ..error })?
                }
            };
            self.documents.push((awaited.number, word));
        }
        Ok(())
    }
}
