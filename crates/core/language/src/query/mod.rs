//! The query language: filter, `measure` and `over`. Text to a checked tree ([`parse`]), the tree to one stable text
//! ([`Query::canonical`]), and the tree against one event ([`matches`]).
//!
//! The grammar with examples is `docs/query-language.md`; its examples run as tests.

mod ast;
mod canonical;
mod complete;
mod hidden;
mod literal;
pub mod matching;
mod measure;
mod parser;
mod pattern;
mod range;
mod scan;
mod slips;
mod spoken;
mod syntax;
mod tie;
mod words;

pub use ast::{Builtin, Field, Filter, Op, SentName, Test, TextOp, WordsTest};
pub use canonical::{written_path, written_value};
pub use complete::{CursorPoint, Wanted, cursor_point};
pub use hidden::HiddenFields;
pub use literal::{FieldUnit, Literal, Num, parse_duration_ns, unit_of_field, written_duration_s};
pub use matching::matches;
pub use measure::{Aggregate, Every, Function, Having, Measure, Top};
pub use parser::{Context, Mistake, Parsed, Query, parse, parse_filter};
pub use pattern::{Progress, RegexTest};
pub use range::{Over, TimeRange};
pub use spoken::{Spoken, read_moment, read_range};
pub use syntax::{Kind as SyntaxKind, Syntax};
pub use tie::{Tie, Ties};
pub use words::{contains_words, fold, is_word_char, words_of};

#[cfg(test)]
mod fuzz;
#[cfg(test)]
mod tests;
