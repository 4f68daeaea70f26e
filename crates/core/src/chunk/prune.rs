//! Which pages of a chunk can hold an event that a filter asks for, told from directory and membership filters alone.
//! "No" is certain.

use super::reader::{ChunkSource, Directory, Filters};
use super::{filter, keys};
use crate::columns::{ColumnKey, FieldType, Own, Rows, zone_excludes};
use crate::error::{CoreError, Result};
use crate::event::{parse_span, parse_trace};
use crate::query::{
    Field, Filter, Literal, Op, OwnPart, RegexTest, SentName, Test, WordsTest, fold, matching, words_of,
};
use std::cell::RefCell;

/// The pages that may hold a match; reads the chunk's filters only where the question can be answered by them.
///
/// # Errors
/// Where the filters cannot be read.
pub fn pages_that_may_match(filter: &Filter, directory: &Directory, source: &dyn ChunkSource) -> Result<Rows> {
    let pruner = Pruner { directory, source, failed: RefCell::new(None) };
    let pages = pruner.pages(filter);
    match pruner.failed.into_inner() {
        Some(error) => Err(error),
        None => Ok(pages),
    }
}

/// The values one of which must be there, if the test is of that sort.
fn wanted(test: &Test) -> Option<&[Literal]> {
    match test {
        Test::Compare(Op::Eq, literal) => Some(std::slice::from_ref(literal)),
        Test::In(list) => Some(list),
        _ => None,
    }
}

struct Pruner<'a> {
    directory: &'a Directory,
    source: &'a dyn ChunkSource,
    /// The first part of the filters that could not be read.
    failed: RefCell<Option<CoreError>>,
}

impl Pruner<'_> {
    fn all(&self) -> Rows {
        Rows::all(self.directory.pages.len())
    }

    fn none(&self) -> Rows {
        Rows::none(self.directory.pages.len())
    }

    fn any(&self, pages: impl Iterator<Item = Rows>) -> Rows {
        pages.fold(self.none(), |mut all, pages| {
            all.or(&pages);
            all
        })
    }

    fn probe(&self, key: u64) -> Rows {
        let pages = self.directory.pages.len();
        let (part, place) = match self.directory.filters {
            Filters::None => return self.all(),
            Filters::Whole(part) => (part, None),
            Filters::Cut { first, blocks } => {
                let (part, at) = filter::place(key, blocks, pages);
                (first.saturating_add(u16::try_from(part).unwrap_or(u16::MAX)), Some(at))
            }
        };
        match self.source.part(self.directory.chunk, part) {
            Ok(read) => {
                let bytes = read.payload();
                let in_whole = || Some(filter::place_in_whole(key, filter::blocks_of_whole(bytes, pages)?, pages));
                place.or_else(in_whole).map_or_else(|| self.all(), |at| filter::probe(bytes, at, pages, key))
            }
            Err(error) => {
                self.failed.borrow_mut().get_or_insert(error);
                self.all()
            }
        }
    }

    fn pages(&self, filter: &Filter) -> Rows {
        match filter {
            Filter::All | Filter::Not(_) | Filter::Has(Field::Own(_)) => self.all(),
            Filter::And(list) => list.iter().fold(self.all(), |mut all, f| {
                if !all.is_empty() {
                    all.and(&self.pages(f));
                }
                all
            }),
            Filter::Or(list) => self.any(list.iter().map(|f| self.pages(f))),
            Filter::Words(test) => self.words(test),
            Filter::Has(Field::Sent(name)) => self.having(name, None),
            Filter::Compare(Field::Own(part), test) => self.own(*part, test),
            Filter::Compare(Field::Sent(name), test) => {
                let mut pages = self.having(name, Some(test));
                if pages.is_empty() {
                    return pages;
                }
                if let Some(literals) = wanted(test) {
                    pages.and(&self.any(literals.iter().map(|l| self.value(l))));
                }
                if let Test::Regex(regex) = test {
                    pages.and(&self.regex(regex));
                }
                pages
            }
        }
    }

    /// The pages that hold all of `words`.
    fn all_words<'w>(&self, words: impl Iterator<Item = std::borrow::Cow<'w, str>>) -> Rows {
        words.fold(self.all(), |mut all, w| {
            all.and(&self.probe(keys::word(&w)));
            all
        })
    }

    fn words(&self, test: &WordsTest) -> Rows {
        let whole = test.words.len() - usize::from(test.prefix);
        let mut pages = self.all_words(test.words.iter().take(whole).map(|w| w.as_str().into()));
        if let Some(n) = test.number {
            pages.or(&self.probe(keys::number(n)));
        }
        if let [word] = test.words.as_slice()
            && let Some(id) = hex_id(word)
        {
            pages.or(&self.probe(keys::id(&id)));
        }
        pages
    }

    /// The pages with a value that equals `literal`.
    fn value(&self, literal: &Literal) -> Rows {
        if !literal.quoted && (literal.text == "true" || literal.text == "false") {
            return self.all();
        }
        let mut pages = self.all_words(words_of(&literal.text).map(fold));
        if let Some(n) = literal.number {
            pages.or(&self.probe(keys::number(n)));
        }
        pages
    }

    /// The pages with a column of this name, or below it, or a list or overflow that could hold it; with a test, those
    /// of them whose numbers it does not exclude.
    fn having(&self, name: &SentName, test: Option<&Test>) -> Rows {
        let directory = self.directory;
        let mut pages = self.none();
        for (index, key) in directory.keys.iter().enumerate() {
            let zoned = match key {
                ColumnKey::Own(Own::Overflow) => None,
                ColumnKey::Own(_) => continue,
                ColumnKey::Field(path, kind) => {
                    let dotted = path.dotted();
                    let below = if test.is_some() { name.is(path) } else { name.covers(&dotted) };
                    let through_list = *kind == FieldType::Nested && matching::at_or_below(name.as_str(), &dotted);
                    if !below && !through_list {
                        continue;
                    }
                    test.filter(|_| below)
                }
            };
            for page in 0..directory.pages.len() {
                if let Some(block) = directory.block(index, page)
                    && !zoned.is_some_and(|test| zone_excludes(test, block.zone))
                {
                    pages.set(page);
                }
            }
        }
        pages
    }

    /// The pages with a text that the expression could match.
    fn regex(&self, regex: &RegexTest) -> Rows {
        let Some(lists) = &regex.words else { return self.all() };
        self.any(lists.iter().map(|words| self.all_words(words.iter().map(|w| w.as_str().into()))))
    }

    fn own(&self, part: OwnPart, test: &Test) -> Rows {
        if let (OwnPart::Message | OwnPart::Service | OwnPart::Host, Test::Regex(regex)) = (part, test) {
            return self.regex(regex);
        }
        if part == OwnPart::Severity && !test.is_ne() {
            return if self.directory.severities & test.severities() != 0 { self.all() } else { self.none() };
        }
        let Some(literals) = wanted(test) else { return self.all() };
        let text = |own| self.any(literals.iter().map(|l| self.probe(keys::own_text(own, &l.text))));
        match part {
            OwnPart::Service => text(Own::Service),
            OwnPart::Host => text(Own::Host),
            OwnPart::Sender => text(Own::Sender),
            OwnPart::Message => self.any(literals.iter().map(|l| self.all_words(words_of(&l.text).map(fold)))),
            OwnPart::Trace | OwnPart::Span | OwnPart::Parent => {
                let id = |l: &Literal| hex_id(&l.text).map_or_else(|| self.none(), |id| self.probe(keys::id(&id)));
                self.any(literals.iter().map(id))
            }
            _ => self.all(),
        }
    }
}

fn hex_id(text: &str) -> Option<Vec<u8>> {
    parse_trace(text).map(|id| id.to_vec()).or_else(|| parse_span(text).map(|id| id.to_vec()))
}
