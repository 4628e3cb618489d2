//! What start-up files of shells do to search paths, aliases and functions, found by following them: a bounded
//! evaluator that starts nothing. What it cannot know it says, and it carries what is known past that.

mod aliases;
mod arithmetic;
mod arrays;
mod braces;
mod builtin_names;
mod builtins;
mod conditions;
mod declaration;
mod declare;
mod directories;
mod edits;
mod expand;
mod fields;
mod files;
mod filters;
pub mod fish;
mod flags;
mod input;
mod lists;
mod moments;
mod natural;
mod options;
mod output;
mod own;
mod path_helper;
pub mod piece;
mod printf;
mod programs;
mod regular;
mod rules;
mod run;
mod source;
mod state;
mod stream;
mod subscript;
mod substitute;
mod tilde;
mod zsh_options;

pub use builtin_names::{is_builtin, is_reserved};
pub use lists::{LISTS, Place, parts, places_after};
pub use piece::{Piece, is_known, pieces, unknowns_in};
pub use run::{Account, Invocation, Run};
pub use state::{Alias, AliasKind, Attributes, Function, Replacement, State, Value, Variable};
