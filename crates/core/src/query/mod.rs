//! The query language: the filter part and `over`. Text to a checked tree ([`parse`]), the tree to one stable text
//! ([`Query::canonical`]), and the tree against one event ([`matches`]).
//!
//! The grammar with examples is `docs/query-language.md`; its examples run as tests.

mod ast;
mod canonical;
mod literal;
pub(crate) mod matching;
mod parser;
mod range;
mod scan;
mod words;

pub use ast::{Field, Filter, Op, OwnPart, RegexTest, Test, TextOp, WordsTest};
pub use literal::{Literal, Num};
pub use matching::matches;
pub use parser::{Context, Mistake, Parsed, Query, parse, parse_filter};
pub use range::{Over, TimeRange};
pub use words::{contains_words, fold, words_of};

#[cfg(test)]
mod tests;
