//! Rows of pages to chunks, a column at a time: what seals a head and what merges chunks.

use super::segment::seal_segment;
use super::{ChunkBloom, SEGMENT_BYTES, keys, ordinals, page_bloom};
use crate::chunk::journal::put_key;
use crate::columns::{
    Blobs, BuiltinColumn, Column, ColumnKey, Dictionary, Effort, Interner, Joined, Loaded, MAX_FIELD_COLUMNS,
    OrderKeys, PAGE_ROWS, PageRead, Presences, SourceRow, Spill, Texts, Values, encode_blobs, encode_block,
    encode_texts,
};
use calvex_language::error::{CoreError, Result};
use calvex_language::model::{put_varint, zigzag};
use calvex_language::query::Num;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

/// Most rows of a chunk.
pub const MAX_CHUNK_ROWS: usize = 1 << 20;
/// A page is closed when its events weigh this much in memory.
const MAX_PAGE_WEIGHT: usize = 8 << 20;
/// A chunk is closed when its events weigh this much in memory.
const MAX_CHUNK_WEIGHT: usize = 512 << 20;
/// Chunks are written once and read often; this level costs little and packs well.
const LEVEL: i32 = 3;

/// A chunk ready to be stored.
#[derive(Debug)]
pub struct BuiltChunk {
    /// Its id.
    pub id: u64,
    /// Segment 0 is the directory, then come those of columns, and last those of the blooms.
    pub segments: Vec<Vec<u8>>,
    /// Its bloom as a whole, for a bloom set.
    pub bloom: ChunkBloom,
    /// How many events.
    pub rows: usize,
    /// The earliest time, nanoseconds.
    pub time_min: i64,
    /// The latest time, nanoseconds.
    pub time_max: i64,
}

impl BuiltChunk {
    /// All segments together.
    pub fn bytes(&self) -> usize {
        self.segments.iter().map(Vec::len).sum()
    }

    /// A checksum of all segments; see [`checksum_of`].
    pub fn checksum(&self) -> u32 {
        checksum_of(&self.segments)
    }
}

/// A checksum (CRC-32) of all bytes of segments, by which those of one chunk are known from those of another with its id.
pub fn checksum_of(segments: &[Vec<u8>]) -> u32 {
    let mut hasher = crc32fast::Hasher::new();
    segments.iter().for_each(|segment| hasher.update(segment));
    hasher.finalize()
}

/// Builds chunks of all rows of `sources`, in (time, id) order; `next_id` gives each chunk its id. Usually one; more
/// where the events exceed what a chunk may hold.
///
/// # Errors
/// Where a source cannot be read; nothing of it is kept then.
pub fn build_chunks(sources: &[&dyn PageRead], next_id: impl FnMut() -> u64) -> Result<Vec<BuiltChunk>> {
    build_chunks_of(sources, PAGE_ROWS, next_id)
}

/// As [`build_chunks`], with pages of at most `page_rows`.
pub fn build_chunks_of(
    sources: &[&dyn PageRead],
    page_rows: usize,
    mut next_id: impl FnMut() -> u64,
) -> Result<Vec<BuiltChunk>> {
    let order = time_order(sources)?;
    let mut chunks = Vec::new();
    let mut rest = order.as_slice();
    while !rest.is_empty() {
        let pages = cut(rest, sources, page_rows);
        let rows: usize = pages.iter().map(|p| p.len()).sum();
        chunks.push(write(sources, &pages, next_id())?);
        rest = &rest[rows..];
    }
    Ok(chunks)
}

/// All rows of all sources by (time, id).
fn time_order(sources: &[&dyn PageRead]) -> Result<Vec<SourceRow>> {
    let mut keyed = Vec::with_capacity(sources.iter().map(|s| s.rows()).sum());
    for (source, page) in sources.iter().enumerate() {
        let keys = OrderKeys::of(*page)?;
        for row in 0..page.rows() {
            keyed.push((keys.get(row)?, SourceRow { source: source as u32, row: row as u32 }));
        }
    }
    // Stable, for that goes along the runs that pages in order are.
    keyed.sort_by_key(|(key, _)| *key);
    Ok(keyed.into_iter().map(|(_, placed)| placed).collect())
}

/// The pages of the next chunk, from the start of `order`.
fn cut<'a>(order: &'a [SourceRow], sources: &[&dyn PageRead], page_rows: usize) -> Vec<&'a [SourceRow]> {
    let each: Vec<usize> = sources.iter().map(|s| s.weight_bytes() / s.rows().max(1)).collect();
    let mut pages = Vec::new();
    let (mut rows, mut weight, mut from) = (0, 0, 0);
    while from < order.len() && rows < MAX_CHUNK_ROWS && weight < MAX_CHUNK_WEIGHT {
        let (mut to, mut page_weight) = (from, 0);
        while to < order.len() && to - from < page_rows && page_weight < MAX_PAGE_WEIGHT {
            page_weight += each[order[to].source as usize];
            to += 1;
        }
        pages.push(&order[from..to]);
        rows += to - from;
        weight += page_weight;
        from = to;
    }
    pages
}

/// The blocks of all columns, one behind another, to be cut into segments.
#[derive(Default)]
struct Segments {
    bytes: Vec<u8>,
}

impl Segments {
    /// Segments before the first of columns.
    const FIRST: usize = 1;

    /// Puts a block and its location in `directory`. A block goes on in the next segment where one ends.
    fn put(&mut self, block: &[u8], directory: &mut Vec<u8>) {
        put_varint(directory, (Self::FIRST + self.bytes.len() / SEGMENT_BYTES) as u64);
        put_varint(directory, (self.bytes.len() % SEGMENT_BYTES) as u64);
        put_varint(directory, block.len() as u64);
        self.bytes.extend_from_slice(block);
    }

    fn payloads(&self) -> std::slice::Chunks<'_, u8> {
        self.bytes.chunks(SEGMENT_BYTES)
    }
}

fn write(sources: &[&dyn PageRead], pages: &[&[SourceRow]], id: u64) -> Result<BuiltChunk> {
    let all = column_keys(sources, pages);
    let kept = kept_fields(&all);
    let mut segments = Segments::default();
    let mut columns = Vec::new();
    let mut count = 0u32;
    let mut spills: Vec<Spill> = pages.iter().map(|_| Spill::default()).collect();
    let mut presences: Vec<Presences> = pages.iter().map(|_| Presences::default()).collect();
    // About three keys an event; growing the sets costs more than the room.
    let room = |page: &&[SourceRow]| keys::KeySet::with_capacity_and_hasher(page.len() * 3, Default::default());
    let mut page_keys: Vec<keys::KeySet> = pages.iter().map(room).collect();
    // Numbers that only the bloom of the whole holds.
    let mut dense_keys = keys::KeySet::default();
    let mut spans = vec![(0i64, 0i64); pages.len()];
    let mut severities = 0u32;
    let overflow = ColumnKey::Builtin(BuiltinColumn::Overflow);
    let mut add = |key: &ColumnKey, made: Vec<Option<Column>>| -> Result<()> {
        let mut dense = vec![false; made.len()];
        for (n, column) in made.iter().enumerate() {
            let Some(column) = column else { continue };
            match keys::dense_numbers(key, column) {
                Some(numbers) => {
                    dense_keys.extend(numbers.into_iter().map(|n| keys::number(Num::int(i128::from(n)))));
                    dense[n] = true;
                }
                None => keys::collect(key, column, &mut page_keys[n])?,
            }
            match (key, &column.values) {
                (ColumnKey::Builtin(BuiltinColumn::Time), Values::Ints(v)) => {
                    spans[n] = (v.iter().min().copied().unwrap_or(0), v.iter().max().copied().unwrap_or(0));
                }
                (ColumnKey::Builtin(BuiltinColumn::Severity), Values::Ints(v)) => {
                    severities = v.iter().fold(severities, |m, s| m | 1 << (s & 31));
                }
                _ => {}
            }
        }
        put_column(key, count, made, &dense, pages, &mut presences, &mut segments, &mut columns);
        count += 1;
        Ok(())
    };
    let is_field = |key: &ColumnKey| matches!(key, ColumnKey::Field(..));
    let spills_over =
        |key: &ColumnKey| *key == overflow || is_field(key) && kept.as_ref().is_some_and(|kept| !kept.contains(key));
    let column = |key: &ColumnKey| -> Result<Vec<Option<Column>>> {
        let loaded = Loaded::of(sources, key)?;
        let mut made: Vec<Option<Column>> = pages.iter().map(|page| loaded.arranged(page)).collect::<Result<_>>()?;
        if *key == ColumnKey::Builtin(BuiltinColumn::IdOrdinal) {
            let seqs = Loaded::of(sources, &ColumnKey::Builtin(BuiltinColumn::IdSeq))?;
            for (column, page) in made.iter_mut().zip(pages) {
                by_distance(column.as_mut(), seqs.arranged(page)?.as_ref())?;
            }
        }
        Ok(made)
    };
    // Columns are written in the order of their keys: own ones before fields, and the overflow is one of them.
    for key in all.keys().filter(|k| ***k < overflow) {
        add(key, column(key)?)?;
    }
    for key in all.keys().filter(|k| spills_over(k)) {
        let loaded = Loaded::of(sources, key)?;
        for (spill, page) in spills.iter_mut().zip(pages) {
            spill.take(key, &loaded, page)?;
        }
    }
    let made: Vec<_> = spills.into_iter().zip(pages).map(|(spill, page)| spill.column(page.len())).collect();
    if made.iter().any(Option::is_some) {
        add(&overflow, made)?;
    }
    for key in all.keys().filter(|k| !is_field(k) && ***k > overflow) {
        add(key, column(key)?)?;
    }
    for key in all.keys().filter(|k| is_field(k) && !spills_over(k)) {
        add(key, column(key)?)?;
    }

    let whole = ChunkBloom::of(&page_keys, &dense_keys);
    let page_keys: Vec<Vec<u64>> = page_keys.into_iter().map(|keys| keys.into_iter().collect()).collect();
    let (blocks, blooms) = page_bloom::build(&page_keys);
    let each: Vec<usize> = sources.iter().map(|s| s.weight_bytes() / s.rows().max(1)).collect();
    let weight =
        |page: &[SourceRow]| page.iter().map(|p| each.get(p.source as usize).copied().unwrap_or(0)).sum::<usize>();
    let mut directory = Vec::new();
    let rows: usize = pages.iter().map(|p| p.len()).sum();
    put_varint(&mut directory, rows as u64);
    put_varint(&mut directory, u64::from(severities));
    put_varint(&mut directory, (Segments::FIRST + segments.payloads().len()) as u64);
    put_varint(&mut directory, blocks as u64);
    put_varint(&mut directory, pages.len() as u64);
    for (page, span) in pages.iter().zip(&spans) {
        put_varint(&mut directory, page.len() as u64);
        put_varint(&mut directory, zigzag(span.0));
        put_varint(&mut directory, zigzag(span.1));
        put_varint(&mut directory, weight(page) as u64);
    }
    put_varint(&mut directory, u64::from(count));
    directory.extend_from_slice(&columns);
    let compressed = crate::compress::compress(&directory, LEVEL).unwrap_or_default();
    let mut first = (directory.len() as u32).to_le_bytes().to_vec();
    first.extend_from_slice(&compressed);

    let payloads =
        std::iter::once(first.as_slice()).chain(segments.payloads()).chain(page_bloom::cut(&blooms, pages.len()));
    let sealed = payloads.enumerate().map(|(n, payload)| seal_segment(id, n as u16, payload)).collect();
    let time_min = spans.iter().map(|s| s.0).min().unwrap_or(0);
    let time_max = spans.iter().map(|s| s.1).max().unwrap_or(0);
    Ok(BuiltChunk { id, segments: sealed, bloom: whole, rows, time_min, time_max })
}

/// Turns the places of a page into distances.
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

/// Writes the blocks of one column, what its pages share first.
fn put_column(
    key: &ColumnKey,
    number: u32,
    mut made: Vec<Option<Column>>,
    dense: &[bool],
    pages: &[&[SourceRow]],
    presences: &mut [Presences],
    segments: &mut Segments,
    directory: &mut Vec<u8>,
) {
    put_key(directory, key);
    let shared = share(&mut made);
    let mut blocks: Vec<Vec<u8>> = Vec::with_capacity(made.len());
    for (n, column) in made.iter().enumerate() {
        let mut block = Vec::new();
        if let Some(column) = column {
            encode_block(column, number, pages[n].len(), &mut presences[n], Effort::Full, LEVEL, &mut block);
        }
        blocks.push(block);
    }
    match shared {
        None => directory.push(0),
        Some((count, block)) => {
            directory.push(1);
            put_varint(directory, count as u64);
            segments.put(&block, directory);
        }
    }
    for ((column, block), dense) in made.iter().zip(blocks).zip(dense) {
        let Some(column) = column else {
            directory.push(0);
            continue;
        };
        let zone = column.zone_of(key);
        directory.push(match (&zone, dense) {
            (None, _) => 1,
            (Some(_), false) => 2,
            (Some(_), true) => 3,
        });
        segments.put(&block, directory);
        if let Some((lo, hi)) = zone {
            directory.extend_from_slice(&lo.to_le_bytes());
            directory.extend_from_slice(&hi.to_le_bytes());
        }
    }
}

/// Moves values that stand in several pages into one dictionary for all; how many and their block.
fn share(made: &mut [Option<Column>]) -> Option<(usize, Vec<u8>)> {
    let first = made.iter().flatten().next()?;
    let mut block = Vec::new();
    let count = match &first.values {
        Values::Texts { .. } | Values::Messages(_) => {
            let mut coded: Vec<(&mut Texts, &mut Vec<u32>)> = made
                .iter_mut()
                .flatten()
                .filter_map(|c| match &mut c.values {
                    Values::Texts { dictionary, codes } => Some((dictionary, codes)),
                    Values::Messages(m) => Some((&mut m.templates, &mut m.codes)),
                    _ => None,
                })
                .collect();
            let shared = shared_of(&mut coded)?;
            encode_texts(&shared, LEVEL, &mut block);
            shared.len()
        }
        Values::Blobs { .. } => {
            let mut coded: Vec<(&mut Blobs, &mut Vec<u32>)> = made
                .iter_mut()
                .flatten()
                .filter_map(|c| match &mut c.values {
                    Values::Blobs { dictionary, codes } => Some((dictionary, codes)),
                    _ => None,
                })
                .collect();
            let shared = shared_of(&mut coded)?;
            encode_blobs(&shared, LEVEL, &mut block);
            shared.len()
        }
        _ => return None,
    };
    Some((count, block))
}

/// Finds what to share and recodes the pages by it; the most frequent values get the smallest codes.
fn shared_of<T: Joined>(coded: &mut [(&mut Dictionary<T>, &mut Vec<u32>)]) -> Option<Arc<Dictionary<T>>> {
    // In how many pages a value must stand to be worth reading for every page.
    let wanted = (coded.len() / 8).max(2);
    if coded.len() < 2 {
        return None;
    }
    let mut interner = Interner::<T>::default();
    let mut seen: Vec<(usize, usize)> = Vec::new();
    let mut global: Vec<Vec<u32>> = Vec::with_capacity(coded.len());
    for (dictionary, codes) in coded.iter() {
        let mut rows = vec![0usize; dictionary.len()];
        codes.iter().for_each(|c| rows[*c as usize] += 1);
        let mut ids = Vec::with_capacity(dictionary.len());
        for (value, rows) in dictionary.iter().zip(rows) {
            let code = interner.code(value);
            seen.resize(interner.len(), (0, 0));
            seen[code as usize].0 += 1;
            seen[code as usize].1 += rows;
            ids.push(code);
        }
        global.push(ids);
    }
    let mut common: Vec<u32> = (0..seen.len() as u32).filter(|c| seen[*c as usize].0 >= wanted).collect();
    if common.is_empty() {
        return None;
    }
    common.sort_by_key(|c| std::cmp::Reverse(seen[*c as usize].1));
    let mut shared = Dictionary::<T>::default();
    let mut shared_code: HashMap<u32, u32> = HashMap::with_capacity(common.len());
    for code in common {
        shared_code.insert(code, shared.push(interner.dictionary.get(code as usize)));
    }
    let shared = Arc::new(shared);
    for ((dictionary, codes), ids) in coded.iter_mut().zip(global) {
        let mut fresh = Dictionary { shared: Some(shared.clone()), ..Dictionary::default() };
        let recode: Vec<u32> = ids
            .iter()
            .enumerate()
            .map(|(old, id)| shared_code.get(id).copied().unwrap_or_else(|| fresh.push(dictionary.get(old))))
            .collect();
        codes.iter_mut().for_each(|c| *c = recode[*c as usize]);
        **dictionary = fresh;
    }
    Some(shared)
}
