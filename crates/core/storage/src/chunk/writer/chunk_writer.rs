//! One chunk, written a column at a time: each column is permuted into the chunk's pages, gives its keys to the blooms
//! and its blocks to the directory, and is let go before the next is read.
#![cfg_attr(
    not(test),
    expect(clippy::indexing_slicing, reason = "writes what this process built: numbers that it gave out itself")
)]

use super::directory::{BlockEntry, DirectoryWriter, PageEntry};
use super::share::share;
use super::{BuiltChunk, LEVEL};
use crate::chunk::segment::seal_segment;
use crate::chunk::{ChunkBloom, keys, ordinals, page_bloom};
use crate::columns::{
    BuiltinColumn, Column, ColumnKey, Effort, Loaded, MAX_FIELD_COLUMNS, PageRead, Presences, SourceRow, Spill, Values,
    encode_block,
};
use calvex_language::error::{CoreError, Result};
use calvex_language::query::Num;
use std::collections::{BTreeMap, HashSet};

const OVERFLOW: ColumnKey = ColumnKey::Builtin(BuiltinColumn::Overflow);

/// A chunk that is being written.
pub struct ChunkWriter<'a> {
    sources: &'a [&'a dyn PageRead],
    /// The rows of each page, by where they stand in the sources.
    pages: &'a [&'a [SourceRow]],
    directory: DirectoryWriter,
    /// Which rows have a value, of each page: columns of one page often agree.
    presences: Vec<Presences>,
    /// What each page's bloom holds.
    page_keys: Vec<keys::KeySet>,
    /// Numbers that only the bloom of the whole chunk holds.
    dense_keys: keys::KeySet,
    /// The earliest and the latest time of each page.
    spans: Vec<(i64, i64)>,
    /// A bit for each severity number.
    severities: u32,
}

impl<'a> ChunkWriter<'a> {
    /// A chunk of `pages`, whose rows stand in `sources`.
    pub fn new(sources: &'a [&'a dyn PageRead], pages: &'a [&'a [SourceRow]]) -> Self {
        // About three keys an event; growing the sets costs more than the room.
        let room = |page: &&[SourceRow]| keys::KeySet::with_capacity_and_hasher(page.len() * 3, Default::default());
        ChunkWriter {
            sources,
            pages,
            directory: DirectoryWriter::default(),
            presences: pages.iter().map(|_| Presences::default()).collect(),
            page_keys: pages.iter().map(room).collect(),
            dense_keys: keys::KeySet::default(),
            spans: vec![(0, 0); pages.len()],
            severities: 0,
        }
    }

    /// Writes all of it, under this id.
    ///
    /// # Errors
    /// Where a source cannot be read.
    pub fn write(mut self, id: u64) -> Result<BuiltChunk> {
        let all = column_keys(self.sources, self.pages);
        let kept = kept_fields(&all);
        let is_field = |key: &ColumnKey| matches!(key, ColumnKey::Field(..));
        let spills_over = |key: &ColumnKey| {
            *key == OVERFLOW || is_field(key) && kept.as_ref().is_some_and(|kept| !kept.contains(key))
        };
        // Columns are written in the order of their keys: builtins before fields, and the overflow is one of them.
        for key in all.keys().filter(|k| ***k < OVERFLOW) {
            self.add(key, self.column(key)?)?;
        }
        let overflow = self.overflow(all.keys().filter(|k| spills_over(k)).copied())?;
        if overflow.iter().any(Option::is_some) {
            self.add(&OVERFLOW, overflow)?;
        }
        for key in all.keys().filter(|k| !is_field(k) && ***k > OVERFLOW) {
            self.add(key, self.column(key)?)?;
        }
        for key in all.keys().filter(|k| is_field(k) && !spills_over(k)) {
            self.add(key, self.column(key)?)?;
        }
        Ok(self.finish(id))
    }

    /// A column of the sources in the order of the chunk's pages; nothing where a page has none of it.
    fn column(&self, key: &ColumnKey) -> Result<Vec<Option<Column>>> {
        let loaded = Loaded::of(self.sources, key)?;
        let mut made: Vec<Option<Column>> = self.pages.iter().map(|p| loaded.arranged(p)).collect::<Result<_>>()?;
        if *key == ColumnKey::Builtin(BuiltinColumn::IdOrdinal) {
            let seqs = Loaded::of(self.sources, &ColumnKey::Builtin(BuiltinColumn::IdSeq))?;
            for (column, page) in made.iter_mut().zip(self.pages) {
                by_distance(column.as_mut(), seqs.arranged(page)?.as_ref())?;
            }
        }
        Ok(made)
    }

    /// The fields that get no column of their own, as one.
    fn overflow<'k>(&self, spilt: impl Iterator<Item = &'k ColumnKey>) -> Result<Vec<Option<Column>>> {
        let mut spills: Vec<Spill> = self.pages.iter().map(|_| Spill::default()).collect();
        for key in spilt {
            let loaded = Loaded::of(self.sources, key)?;
            for (spill, page) in spills.iter_mut().zip(self.pages) {
                spill.take(key, &loaded, page)?;
            }
        }
        Ok(spills.into_iter().zip(self.pages).map(|(spill, page)| spill.column(page.len())).collect())
    }

    /// Adds a column: its keys to the blooms, its blocks to the directory.
    fn add(&mut self, key: &ColumnKey, mut made: Vec<Option<Column>>) -> Result<()> {
        let mut dense = vec![false; made.len()];
        for ((column, dense), (page_keys, span)) in
            made.iter().zip(&mut dense).zip(self.page_keys.iter_mut().zip(&mut self.spans))
        {
            let Some(column) = column else { continue };
            match keys::dense_numbers(key, column) {
                Some(numbers) => {
                    self.dense_keys.extend(numbers.into_iter().map(|n| keys::number(Num::int(i128::from(n)))));
                    *dense = true;
                }
                None => keys::collect(key, column, page_keys)?,
            }
            match (key, &column.values) {
                (ColumnKey::Builtin(BuiltinColumn::Time), Values::Ints(times)) => {
                    *span = (times.iter().min().copied().unwrap_or(0), times.iter().max().copied().unwrap_or(0));
                }
                (ColumnKey::Builtin(BuiltinColumn::Severity), Values::Ints(v)) => {
                    self.severities = v.iter().fold(self.severities, |m, s| m | 1 << (s & 31));
                }
                _ => {}
            }
        }
        let shared = share(&mut made);
        let number = self.directory.next_column();
        let mut blocks: Vec<Vec<u8>> = Vec::with_capacity(made.len());
        for ((column, page), presences) in made.iter().zip(self.pages).zip(&mut self.presences) {
            let mut block = Vec::new();
            if let Some(column) = column {
                encode_block(column, number, page.len(), presences, Effort::Full, LEVEL, &mut block);
            }
            blocks.push(block);
        }
        let entries = made.iter().zip(&blocks).zip(&dense).map(|((column, block), dense)| {
            let column = column.as_ref()?;
            Some(BlockEntry { block, zone: column.zone_of(key), dense: *dense })
        });
        self.directory.add(key, shared, &entries.collect::<Vec<_>>());
        Ok(())
    }

    /// Seals directory, columns and blooms into segments.
    fn finish(self, id: u64) -> BuiltChunk {
        let bloom = ChunkBloom::of(&self.page_keys, &self.dense_keys);
        let page_keys: Vec<Vec<u64>> =
            self.page_keys.into_iter().map(|keys: keys::KeySet| keys.into_iter().collect()).collect();
        let (bloom_blocks, blooms) = page_bloom::build(&page_keys);
        let each: Vec<usize> = self.sources.iter().map(|s| s.weight_bytes() / s.rows().max(1)).collect();
        let weight = |page: &[SourceRow]| page.iter().filter_map(|p| each.get(p.source as usize)).sum();
        let entries: Vec<PageEntry> = self
            .pages
            .iter()
            .zip(&self.spans)
            .map(|(page, span)| PageEntry { rows: page.len(), span: *span, weight_bytes: weight(page) })
            .collect();
        let first = self.directory.payload(self.severities, bloom_blocks, &entries);
        let payloads = std::iter::once(first.as_slice())
            .chain(self.directory.payloads())
            .chain(page_bloom::cut(&blooms, self.pages.len()));
        let segments = payloads.enumerate().map(|(n, payload)| seal_segment(id, n as u16, payload)).collect();
        BuiltChunk {
            id,
            segments,
            bloom,
            rows: entries.iter().map(|page| page.rows).sum(),
            time_min: self.spans.iter().map(|span| span.0).min().unwrap_or(0),
            time_max: self.spans.iter().map(|span| span.1).max().unwrap_or(0),
        }
    }
}

/// Turns the ordinals of a page into distances.
fn by_distance(column: Option<&mut Column>, seqs: Option<&Column>) -> Result<()> {
    let turned = match (&column, seqs) {
        (Some(Column { values: Values::Ints(numbers), .. }), Some(Column { values: Values::Ints(seqs), .. })) => {
            ordinals::distances(numbers, seqs)
        }
        _ => None,
    };
    match column.zip(turned) {
        Some((column, turned)) => column.values = Values::Ints(turned),
        None => return Err(CoreError::damaged("a page", "it lacks ids")),
    }
    Ok(())
}

/// Every column of the sources that the pages draw from, and in how many of them it stands.
fn column_keys<'a>(sources: &[&'a dyn PageRead], pages: &[&[SourceRow]]) -> BTreeMap<&'a ColumnKey, usize> {
    let mut used = vec![false; sources.len()];
    pages.iter().flat_map(|p| p.iter()).for_each(|p| used[p.source as usize] = true);
    let mut all: BTreeMap<&ColumnKey, usize> = BTreeMap::new();
    for page in sources.iter().zip(used).filter_map(|(page, used)| used.then_some(*page)) {
        page.keys().iter().for_each(|key| *all.entry(key).or_default() += 1);
    }
    all
}

/// The fields that stay columns where there are too many: those of most sources.
fn kept_fields<'a>(all: &BTreeMap<&'a ColumnKey, usize>) -> Option<HashSet<&'a ColumnKey>> {
    let mut fields: Vec<(&ColumnKey, usize)> =
        all.iter().filter(|(key, _)| matches!(key, ColumnKey::Field(..))).map(|(key, n)| (*key, *n)).collect();
    if fields.len() <= MAX_FIELD_COLUMNS {
        return None;
    }
    fields.sort_by_key(|(_, n)| std::cmp::Reverse(*n));
    Some(fields.into_iter().take(MAX_FIELD_COLUMNS).map(|(key, _)| key).collect())
}
