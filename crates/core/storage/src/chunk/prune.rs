//! Which pages of a chunk, or which chunks of a bloom set, can hold an event that a filter asks for, known from directories
//! and blooms alone. "No" is certain.

use super::bloom_set::BloomSet;
use super::reader::{Directory, PageBlooms};
use super::source::ChunkSource;
use super::{ChunkBloom, keys, page_bloom};
use crate::columns::{BuiltinColumn, ColumnKey, FieldType, Rows, columns_at_or_below, columns_of, zone_excludes};
use calvex_language::error::{CoreError, Result};
use calvex_language::model::{parse_span, parse_trace};
use calvex_language::query::{
    Builtin, Field, Filter, Literal, Num, Op, RegexTest, SentName, Test, WordsTest, fold, words_of,
};
use std::cell::RefCell;

/// The pages that may hold a match; reads the chunk's filters only where the question can be answered by them.
///
/// # Errors
/// Where the filters cannot be read.
pub fn pages_that_may_match(filter: &Filter, directory: &Directory, source: &dyn ChunkSource) -> Result<Rows> {
    units_that_may_match(filter, &Pages { directory, source })
}

/// The places of the chunks of bloom set `id` that may hold a match.
///
/// # Errors
/// Where the bloom set cannot be read.
pub fn chunks_that_may_match(filter: &Filter, id: u64, source: &dyn ChunkSource) -> Result<Rows> {
    let bloom_set = BloomSet::read(id, &source.segment(id, 0)?)?;
    units_that_may_match(filter, &Chunks { bloom_set: &bloom_set, source })
}

/// Whether a chunk may hold a match, by its filter as a whole.
pub fn chunk_may_match(filter: &Filter, whole: &ChunkBloom) -> bool {
    units_that_may_match(filter, &Whole(whole)).is_ok_and(|rows| !rows.is_empty())
}

/// Whether a bloom can rule anything out: whether the question asks for a key.
pub fn asks_for_keys(filter: &Filter) -> bool {
    units_that_may_match(filter, &NoKeys).is_ok_and(|rows| rows.is_empty())
}

/// What is asked whether it may hold a match: pages, or chunks.
trait PruneUnits {
    /// How many units.
    fn units(&self) -> usize;
    /// Those that may hold a key.
    fn probe(&self, key: u64) -> Result<Rows>;
    /// Those with a column of this name, or below it, or a list or overflow that could hold it; with a test, those of
    /// them whose numbers it does not exclude.
    fn having(&self, _: &SentName, _: Option<&Test>) -> Rows {
        Rows::all(self.units())
    }
    /// Those whose filter does not hold the numbers of some column, of this name if one is given, that could hold `n`.
    fn dense(&self, _: Num, _: Option<&SentName>) -> Rows {
        Rows::none(self.units())
    }
    /// The severities that occur, a bit each.
    fn severities(&self) -> u32 {
        u32::MAX
    }
    /// Whether texts of short words and starts of words have keys of their own.
    fn has_keys_of_format_4(&self) -> bool {
        true
    }
}

/// The pages of a chunk.
struct Pages<'a> {
    directory: &'a Directory,
    source: &'a dyn ChunkSource,
}

impl PruneUnits for Pages<'_> {
    fn units(&self) -> usize {
        self.directory.pages.len()
    }

    fn probe(&self, key: u64) -> Result<Rows> {
        let pages = self.units();
        let (segment, location) = match self.directory.blooms {
            PageBlooms::None => return Ok(Rows::all(pages)),
            PageBlooms::Whole(segment) => (segment, None),
            PageBlooms::Cut { first, blocks } => {
                let (segment, at) = page_bloom::location(key, blocks, pages);
                (first.saturating_add(u16::try_from(segment).unwrap_or(u16::MAX)), Some(at))
            }
        };
        let read = self.source.segment(self.directory.chunk, segment)?;
        let bytes = read.payload();
        let in_whole = || Some(page_bloom::location_in_whole(key, page_bloom::blocks_of_whole(bytes, pages)?, pages));
        Ok(location.or_else(in_whole).map_or_else(|| Rows::all(pages), |at| page_bloom::probe(bytes, at, pages, key)))
    }

    fn having(&self, name: &SentName, test: Option<&Test>) -> Rows {
        let directory = self.directory;
        let mut pages = Rows::none(self.units());
        let mut with_column = |index, zoned: Option<&Test>| {
            for page in 0..directory.pages.len() {
                if let Some(block) = directory.block(index, page)
                    && !zoned.is_some_and(|test| zone_excludes(test, block.zone))
                {
                    pages.set(page);
                }
            }
        };
        match test {
            Some(test) => {
                columns_of(&directory.keys, name).for_each(|c| with_column(c.index, Some(test).filter(|_| c.own)));
            }
            None => columns_at_or_below(&directory.keys, name).for_each(|c| with_column(c.index, None)),
        }
        if let Some(overflow) =
            directory.keys.iter().position(|key| *key == ColumnKey::Builtin(BuiltinColumn::Overflow))
        {
            with_column(overflow, None);
        }
        pages
    }

    fn dense(&self, n: Num, name: Option<&SentName>) -> Rows {
        let n = n.rounded();
        let mut pages = Rows::none(self.units());
        for (index, key) in self.directory.keys.iter().enumerate() {
            let ColumnKey::Field(path, FieldType::Int) = key else { continue };
            if name.is_some_and(|name| !name.is(path)) {
                continue;
            }
            for page in 0..self.units() {
                let holds = |(least, largest): (f64, f64)| (least..=largest).contains(&n);
                if self.directory.block(index, page).is_some_and(|b| b.dense && b.zone.is_some_and(holds)) {
                    pages.set(page);
                }
            }
        }
        pages
    }

    fn severities(&self) -> u32 {
        self.directory.severities
    }

    fn has_keys_of_format_4(&self) -> bool {
        self.directory.version >= 4
    }
}

/// The chunks of a bloom set.
struct Chunks<'a> {
    bloom_set: &'a BloomSet,
    source: &'a dyn ChunkSource,
}

impl PruneUnits for Chunks<'_> {
    fn units(&self) -> usize {
        self.bloom_set.chunks().len()
    }

    fn probe(&self, key: u64) -> Result<Rows> {
        self.bloom_set.probe(key, self.source)
    }
}

/// One chunk as a whole.
struct Whole<'a>(&'a ChunkBloom);

impl PruneUnits for Whole<'_> {
    fn units(&self) -> usize {
        1
    }

    fn probe(&self, key: u64) -> Result<Rows> {
        Ok(if self.0.lets_through(key) { Rows::all(1) } else { Rows::none(1) })
    }
}

/// One unit that holds no key.
struct NoKeys;

impl PruneUnits for NoKeys {
    fn units(&self) -> usize {
        1
    }

    fn probe(&self, _: u64) -> Result<Rows> {
        Ok(Rows::none(1))
    }
}

fn units_that_may_match(filter: &Filter, ground: &dyn PruneUnits) -> Result<Rows> {
    let pruner = Pruner { ground, failed: RefCell::new(None) };
    let units = pruner.units(filter);
    match pruner.failed.into_inner() {
        Some(error) => Err(error),
        None => Ok(units),
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
    ground: &'a dyn PruneUnits,
    /// The first filter that could not be read.
    failed: RefCell<Option<CoreError>>,
}

impl Pruner<'_> {
    fn all(&self) -> Rows {
        Rows::all(self.ground.units())
    }

    fn none(&self) -> Rows {
        Rows::none(self.ground.units())
    }

    fn any(&self, units: impl Iterator<Item = Rows>) -> Rows {
        units.fold(self.none(), |mut all, units| {
            all.or(&units);
            all
        })
    }

    fn probe(&self, key: u64) -> Rows {
        self.ground.probe(key).unwrap_or_else(|error| {
            self.failed.borrow_mut().get_or_insert(error);
            self.all()
        })
    }

    /// The units that may hold a number, in a field of this name if one is given.
    fn number(&self, n: Num, name: Option<&SentName>) -> Rows {
        let mut units = self.probe(keys::number(n));
        units.or(&self.ground.dense(n, name));
        units
    }

    fn units(&self, filter: &Filter) -> Rows {
        match filter {
            Filter::All | Filter::Not(_) | Filter::Has(Field::Builtin(_)) => self.all(),
            Filter::And(list) => list.iter().fold(self.all(), |mut all, f| {
                if !all.is_empty() {
                    all.and(&self.units(f));
                }
                all
            }),
            Filter::Or(list) => self.any(list.iter().map(|f| self.units(f))),
            Filter::Words(test) => self.words(test),
            Filter::Has(Field::Sent(name)) => self.ground.having(name, None),
            Filter::Compare(Field::Builtin(builtin), test) => self.builtin(*builtin, test),
            Filter::Compare(Field::Sent(name), test) => {
                let mut units = self.ground.having(name, Some(test));
                if units.is_empty() {
                    return units;
                }
                if let Some(literals) = wanted(test) {
                    units.and(&self.any(literals.iter().map(|l| self.value(l, name))));
                }
                if let Test::Regex(regex) = test {
                    units.and(&self.regex(regex));
                }
                units
            }
        }
    }

    /// The units that hold all of `words`.
    fn all_words<'w>(&self, words: impl Iterator<Item = std::borrow::Cow<'w, str>>) -> Rows {
        words.fold(self.all(), |mut all, w| {
            all.and(&self.probe(keys::word(&w)));
            all
        })
    }

    fn words(&self, test: &WordsTest) -> Rows {
        let whole = test.words.len() - usize::from(test.prefix);
        let mut units = self.all_words(test.words.iter().take(whole).map(|w| w.as_str().into()));
        if test.prefix
            && self.ground.has_keys_of_format_4()
            && !test.may_be_id()
            && let Some(start) = test.words.last().and_then(|word| keys::start_of(word))
        {
            units.and(&self.probe(keys::start(start)));
        }
        if let Some(n) = test.number {
            units.or(&self.number(n, None));
        }
        if let [word] = test.words.as_slice()
            && let Some(id) = hex_id(word)
        {
            units.or(&self.probe(keys::id(&id)));
        }
        units
    }

    /// The units with a value that equals `literal` in the field `name`.
    fn value(&self, literal: &Literal, name: &SentName) -> Rows {
        if !literal.quoted && (literal.text == "true" || literal.text == "false") {
            return self.all();
        }
        let mut units = if self.ground.has_keys_of_format_4() && keys::short_worded(&literal.text) {
            self.probe(keys::short_text(&literal.text))
        } else {
            self.all_words(words_of(&literal.text).map(fold))
        };
        if let Some(n) = literal.number {
            units.or(&self.number(n, Some(name)));
        }
        units
    }

    /// The units with a text that the expression could match.
    fn regex(&self, regex: &RegexTest) -> Rows {
        let Some(lists) = &regex.words else { return self.all() };
        self.any(lists.iter().map(|words| self.all_words(words.iter().map(|w| w.as_str().into()))))
    }

    fn builtin(&self, builtin: Builtin, test: &Test) -> Rows {
        if let (Builtin::Message | Builtin::Service | Builtin::Host, Test::Regex(regex)) = (builtin, test) {
            return self.regex(regex);
        }
        if builtin == Builtin::Severity && !test.is_ne() {
            return if self.ground.severities() & test.severities() != 0 { self.all() } else { self.none() };
        }
        let Some(literals) = wanted(test) else { return self.all() };
        let text = |own| self.any(literals.iter().map(|l| self.probe(keys::own_text(own, &l.text))));
        match builtin {
            Builtin::Service => text(BuiltinColumn::Service),
            Builtin::Host => text(BuiltinColumn::Host),
            Builtin::Sender => text(BuiltinColumn::Sender),
            Builtin::Message => self.any(literals.iter().map(|l| self.all_words(words_of(&l.text).map(fold)))),
            Builtin::Trace | Builtin::Span | Builtin::Parent => {
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
