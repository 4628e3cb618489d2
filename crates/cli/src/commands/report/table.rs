//! Tables of the report.

use crate::output;

/// One cell.
#[derive(Debug, Clone, Default)]
pub struct Field {
    /// What is shown.
    pub text: String,
    /// What it is sorted by, where that is something else.
    pub sort: String,
    /// Whether it is a number.
    pub is_number: bool,
    /// The part of the page that it leads to; empty for none.
    pub link: String,
    /// What that part is filtered by.
    pub filter: String,
}

impl Field {
    /// A text, which may be a stranger's.
    pub fn text(text: impl Into<String>) -> Self {
        Field { text: output::safe(&text.into()), ..Field::default() }
    }

    /// A number.
    pub fn number(number: u64) -> Self {
        Field { text: number.to_string(), is_number: true, ..Field::default() }
    }

    /// How many there are.
    pub fn count(count: usize) -> Self {
        Field::number(u64::try_from(count).unwrap_or(u64::MAX))
    }

    /// Whether something is so.
    pub fn yes(is_so: bool) -> Self {
        Field::text(if is_so { "yes" } else { "no" })
    }

    /// A size; blank where it is not known.
    pub fn bytes(bytes: Option<u64>) -> Self {
        let sort = bytes.map(|bytes| bytes.to_string()).unwrap_or_default();
        Field { text: bytes.map(output::size).unwrap_or_default(), sort, is_number: true, ..Field::default() }
    }

    /// The cell as a link to a part of the page, filtered.
    #[must_use]
    pub fn to(self, part: &str, filter: &str) -> Self {
        Field { link: format!("#{part}"), filter: output::safe(filter), ..self }
    }
}

/// A table.
#[derive(Debug, Clone)]
pub struct Table {
    /// Its anchor.
    pub id: String,
    /// Its heading.
    pub title: String,
    /// Its columns, each with whether it has numbers.
    pub columns: Vec<(String, bool)>,
    /// Its rows.
    pub rows: Vec<Vec<Field>>,
}

impl Table {
    /// A table; the name of a column of numbers begins with `#`.
    pub fn new(id: &str, title: &str, columns: &[&str], rows: Vec<Vec<Field>>) -> Self {
        let column = |name: &&str| match name.strip_prefix('#') {
            Some(name) => (name.to_owned(), true),
            None => ((*name).to_owned(), false),
        };
        Table { id: id.to_owned(), title: title.to_owned(), columns: columns.iter().map(column).collect(), rows }
    }
}
