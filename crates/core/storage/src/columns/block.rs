//! A column of one page as bytes, version 2.
//!
//! ```text
//! block   := packing:u8  raw_len:varint  body          packing 0: body is raw; 1: body is one zstd frame of it
//! raw     := kind:u8  presence  values
//! presence:= 0                                          every row has a value
//!          | 1  count:varint  gaps:ints                 the rows, ascending; a gap is the distance less one
//!          | 2  bits                                    a bit a row, least significant first, whole bytes
//!          | 3  column:varint                           that of an earlier column of the page
//! values  := kind 0 nulls     nothing
//!            kind 1 bools     a bit each, least significant first, whole bytes
//!            kind 2 ints      ints
//!            kind 3 floats    floats
//!            kind 4 texts     shared:varint  texts   codes:ints
//!            kind 5 blobs     shared:varint  blobs   codes:ints
//!            kind 6 messages  shared:varint  texts (templates)  codes:ints  length:varint  variables
//! blobs   := count:varint  lengths:ints  bytes
//! ```
//!
//! `ints`, `floats`, `texts` and `variables` are described in their modules. Codes below `shared` name values of the
//! dictionary that the pages of a chunk share; the others those of the block's own list. Every count is checked against the rows of the page before anything is allocated for it.

use super::column::{Column, Values};
use super::dictionary::{Blobs, Texts};
use super::messages::Messages;
use super::rows::Rows;
use super::texts::{self, Effort, Letters};
use super::{floats, ints, streams};
use crate::compress::{compress, decompress};
use calvex_language::error::{CoreError, Result};
use calvex_language::model::{put_varint, take_varint};
use std::sync::Arc;

/// Largest block once unpacked.
const MAX_RAW_BYTES: usize = 64 << 20;
/// Below this, compression does not pay for its header.
const MIN_PACK_BYTES: usize = 64;

/// The presence lists of a page's columns, so that equal ones are written once.
#[derive(Default)]
pub struct Presences {
    seen: Vec<(u32, Arc<[u32]>)>,
}

impl Presences {
    /// The earlier column with just this list; remembers it for `column` where there is none.
    fn earlier(&mut self, column: u32, present: &Arc<[u32]>) -> Option<u32> {
        let found = self.seen.iter().find(|(_, p)| Arc::ptr_eq(p, present) || p[..] == present[..]).map(|(c, _)| *c);
        if found.is_none() {
            self.seen.push((column, present.clone()));
        }
        found
    }
}

/// What gives the presence list of an earlier column of the page, by its number.
pub type Earlier<'a> = &'a dyn Fn(u32) -> Option<Arc<[u32]>>;

/// Appends the block of the column numbered `number` of a page of `rows`, packed at a zstd `level` if that pays.
pub fn encode_block(
    column: &Column,
    number: u32,
    rows: usize,
    presences: &mut Presences,
    effort: Effort,
    level: i32,
    out: &mut Vec<u8>,
) {
    let mut raw = Vec::new();
    encode_raw(column, number, rows, presences, effort, &mut raw);
    // Light blocks are compressed together by whoever keeps them.
    let packs = effort == Effort::Full && raw.len() >= MIN_PACK_BYTES;
    seal(&raw, packs.then_some(level), out);
}

/// Appends `raw` with its packing and length; with a level, packed where that saves an eighth at least.
fn seal(raw: &[u8], level: Option<i32>, out: &mut Vec<u8>) {
    let packed = level.and_then(|level| compress(raw, level));
    let packed = packed.filter(|p| p.len() < raw.len() - raw.len() / 8);
    out.push(u8::from(packed.is_some()));
    put_varint(out, raw.len() as u64);
    out.extend_from_slice(packed.as_deref().unwrap_or(raw));
}

fn unseal(bytes: &[u8]) -> Option<std::borrow::Cow<'_, [u8]>> {
    let packing = *bytes.first()?;
    let mut at = 1;
    let raw_len = usize::try_from(take_varint(bytes, &mut at)?).ok().filter(|n| *n <= MAX_RAW_BYTES)?;
    let body = bytes.get(at..)?;
    let raw: std::borrow::Cow<[u8]> = match packing {
        0 => body.into(),
        1 => decompress(body, raw_len)?.into(),
        _ => return None,
    };
    (raw.len() == raw_len).then_some(raw)
}

fn encode_raw(column: &Column, number: u32, rows: usize, presences: &mut Presences, effort: Effort, out: &mut Vec<u8>) {
    out.push(match &column.values {
        Values::Nulls => 0,
        Values::Bools(_) => 1,
        Values::Ints(_) => 2,
        Values::Floats(_) => 3,
        Values::Texts { .. } => 4,
        Values::Blobs { .. } => 5,
        Values::Messages(_) => 6,
    });
    encode_presence(column.present.as_ref(), number, rows, presences, out);
    let codes = |codes: &[u32], out: &mut Vec<u8>| match effort {
        Effort::Full => ints::encode_codes(codes, out),
        _ => ints::encode(&codes.iter().map(|c| i64::from(*c)).collect::<Vec<_>>(), out),
    };
    match &column.values {
        Values::Nulls => {}
        Values::Bools(v) => put_bits(v.iter().copied(), v.len(), out),
        Values::Ints(v) => ints::encode(v, out),
        Values::Floats(v) => floats::encode(v, out),
        Values::Texts { dictionary, codes: c } => {
            put_texts(dictionary, effort, out);
            codes(c, out);
        }
        Values::Blobs { dictionary, codes: c } => {
            put_varint(out, dictionary.shared_len() as u64);
            put_blobs(dictionary, out);
            codes(c, out);
        }
        Values::Messages(m) => {
            put_texts(&m.templates, effort, out);
            codes(&m.codes, out);
            let mut packed = Vec::new();
            // Only a damaged chunk has no variables, and nothing is written from one.
            if let Ok(variables) = m.variables() {
                let all = (0..m.codes.len()).flat_map(|value_index| variables.of(value_index));
                streams::pack(&m.templates, &m.codes, all, effort, &mut packed);
            }
            put_varint(out, packed.len() as u64);
            out.extend_from_slice(&packed);
        }
    }
}

fn put_texts(dictionary: &Texts, effort: Effort, out: &mut Vec<u8>) {
    put_varint(out, dictionary.shared_len() as u64);
    let local: Vec<&str> = (dictionary.shared_len()..dictionary.len()).map(|c| dictionary.get(c)).collect();
    texts::encode(&local, effort, out);
}

fn put_blobs(dictionary: &Blobs, out: &mut Vec<u8>) {
    let mut before = 0;
    let lengths: Vec<i64> = dictionary
        .ends
        .iter()
        .map(|end| {
            let length = i64::from(end - before);
            before = *end;
            length
        })
        .collect();
    put_varint(out, lengths.len() as u64);
    ints::encode(&lengths, out);
    out.extend_from_slice(&dictionary.joined);
}

fn put_bits(bits: impl Iterator<Item = bool>, count: usize, out: &mut Vec<u8>) {
    let from = out.len();
    out.resize(from + count.div_ceil(8), 0);
    for (n, bit) in bits.enumerate() {
        if let Some(byte) = out.get_mut(from + n / 8) {
            *byte |= u8::from(bit) << (n % 8);
        }
    }
}

fn encode_presence(
    present: Option<&Arc<[u32]>>,
    number: u32,
    rows: usize,
    presences: &mut Presences,
    out: &mut Vec<u8>,
) {
    let Some(present) = present else { return out.push(0) };
    if let Some(earlier) = presences.earlier(number, present) {
        out.push(3);
        return put_varint(out, u64::from(earlier));
    }
    let mut next = 0;
    let gaps: Vec<i64> = present
        .iter()
        .map(|row| {
            let gap = i64::from(row - next);
            next = row + 1;
            gap
        })
        .collect();
    let mut listed = Vec::new();
    ints::encode(&gaps, &mut listed);
    if listed.len() <= rows / 8 {
        out.push(1);
        put_varint(out, present.len() as u64);
        out.extend_from_slice(&listed);
    } else {
        out.push(2);
        let from = out.len();
        out.resize(from + rows.div_ceil(8), 0);
        for row in present.iter() {
            if let Some(byte) = out.get_mut(from + *row as usize / 8) {
                *byte |= 1 << (row % 8);
            }
        }
    }
}

/// Appends a dictionary of texts that pages share, packed at `level`.
pub fn encode_texts(dictionary: &Texts, level: i32, out: &mut Vec<u8>) {
    let mut raw = Vec::new();
    texts::encode(&dictionary.iter().collect::<Vec<_>>(), Effort::Full, &mut raw);
    seal(&raw, Some(level), out);
}

/// Appends a dictionary of bytes that pages share, packed at `level`.
pub fn encode_blobs(dictionary: &Blobs, level: i32, out: &mut Vec<u8>) {
    let mut raw = Vec::new();
    put_blobs(dictionary, &mut raw);
    seal(&raw, Some(level), out);
}

/// Reads what [`encode_texts`] wrote, at most `max` texts.
pub fn decode_texts(bytes: &[u8], max: usize) -> Option<Texts> {
    let raw = unseal(bytes)?;
    let mut at = 0;
    let list = texts::decode(&raw, &mut at, max)?;
    (at == raw.len()).then_some(Texts { joined: list.joined, ends: list.ends, ..Texts::default() })
}

/// Reads what [`encode_blobs`] wrote, at most `max` values.
pub fn decode_blobs(bytes: &[u8], max: usize) -> Option<Blobs> {
    let raw = unseal(bytes)?;
    let mut reader = Reader { bytes: &raw, at: 0, rows: max };
    let blobs = reader.blobs()?;
    (reader.at == raw.len()).then_some(blobs)
}

/// The dictionary a block's codes may refer to.
#[derive(Clone, Default)]
pub enum Shared {
    /// None.
    #[default]
    None,
    /// Of texts or templates.
    Texts(Arc<Texts>),
    /// Of bytes.
    Blobs(Arc<Blobs>),
}

/// Reads a block of a page of `rows`.
///
/// # Errors
/// [`CoreError::Damaged`] for anything that [`encode_block`] would not have written for such a page.
pub fn decode_block(bytes: &[u8], rows: usize, shared: &Shared, earlier: Earlier) -> Result<Column> {
    decode_block_of(bytes, rows, shared, earlier, Wanted::All)
}

/// What is asked for of a block.
#[derive(Debug, Clone, Copy)]
pub enum Wanted<'a> {
    /// All of it.
    All,
    /// The texts of some rows: one that stands in none of them may be empty in the dictionary.
    Texts(&'a Rows),
    /// The values of some rows, which are few: a number or code of another row may be 0 too.
    Few(&'a Rows),
}

/// As [`decode_block`], of which only the `wanted` values are asked for.
///
/// # Errors
/// As [`decode_block`].
pub fn decode_block_of(bytes: &[u8], rows: usize, shared: &Shared, earlier: Earlier, wanted: Wanted) -> Result<Column> {
    let decode = || {
        let raw = unseal(bytes)?;
        let mut reader = Reader { bytes: &raw, at: 0, rows };
        let column = reader.column(shared, earlier, wanted)?;
        (reader.at == raw.len()).then_some(column)
    };
    decode().ok_or_else(|| CoreError::damaged("a column block", "its bytes do not decode"))
}

/// The letters of the texts that a block of a page of `rows` keeps itself, which those that pages share are not among;
/// none where it keeps no texts or does not decode.
pub fn letters_of_block(bytes: &[u8], rows: usize) -> Option<Letters> {
    let raw = unseal(bytes)?;
    let mut reader = Reader { bytes: &raw, at: 0, rows };
    if reader.byte()? != 4 {
        return None;
    }
    reader.skip_presence()?;
    reader.number()?;
    texts::letters(&raw, &mut reader.at, rows)
}

struct Reader<'a> {
    bytes: &'a [u8],
    at: usize,
    rows: usize,
}

impl<'a> Reader<'a> {
    fn byte(&mut self) -> Option<u8> {
        let byte = *self.bytes.get(self.at)?;
        self.at += 1;
        Some(byte)
    }

    fn number(&mut self) -> Option<usize> {
        usize::try_from(take_varint(self.bytes, &mut self.at)?).ok()
    }

    fn take(&mut self, n: usize) -> Option<&'a [u8]> {
        let taken = self.bytes.get(self.at..self.at.checked_add(n)?)?;
        self.at += n;
        Some(taken)
    }

    fn bits(&mut self, count: usize) -> Option<Vec<bool>> {
        let bits = self.take(count.div_ceil(8))?;
        Some((0..count).map(|n| bits.get(n / 8).is_some_and(|bits| bits >> (n % 8) & 1 == 1)).collect())
    }

    fn skip_presence(&mut self) -> Option<()> {
        match self.byte()? {
            0 => {}
            1 => {
                let count = self.number().filter(|n| *n <= self.rows)?;
                ints::skip(self.bytes, &mut self.at, count)?;
            }
            2 => drop(self.take(self.rows.div_ceil(8))?),
            3 => drop(self.number()?),
            _ => return None,
        }
        Some(())
    }

    fn presence(&mut self, earlier: Earlier) -> Option<Option<Arc<[u32]>>> {
        let rows = self.rows;
        let list: Vec<u32> = match self.byte()? {
            0 => return Some(None),
            1 => {
                let count = self.number().filter(|n| *n <= rows)?;
                let mut next = 0i64;
                let value_index = |gap: i64| {
                    let row = next.checked_add(gap).filter(|row| gap >= 0 && *row < rows as i64)?;
                    next = row + 1;
                    Some(row as u32)
                };
                ints::decode(self.bytes, &mut self.at, count)?.into_iter().map(value_index).collect::<Option<_>>()?
            }
            2 => {
                let bits = self.bits(rows)?;
                bits.iter().enumerate().filter(|(_, bit)| **bit).map(|(row, _)| row as u32).collect()
            }
            3 => {
                let column = u32::try_from(self.number()?).ok()?;
                return earlier(column).filter(|p| p.last().is_none_or(|r| (*r as usize) < rows)).map(Some);
            }
            _ => return None,
        };
        Some(Some(list.into()))
    }

    fn column(&mut self, shared: &Shared, earlier: Earlier, wanted: Wanted) -> Option<Column> {
        let kind = self.byte()?;
        let present = self.presence(earlier)?;
        let count = present.as_ref().map_or(self.rows, |p| p.len());
        // The value indexes that are asked for, and whether numbers and codes of others are left out.
        let (asked, few): (Option<Vec<usize>>, bool) = match (wanted, &present) {
            (Wanted::All, _) => (None, false),
            (Wanted::Texts(rows), None) => (Some(rows.iter().collect()), false),
            (Wanted::Texts(rows), Some(present)) => {
                let stands = present.iter().enumerate().filter(|(_, row)| rows.has(**row as usize));
                (Some(stands.map(|(value_index, _)| value_index).collect()), false)
            }
            (Wanted::Few(rows), None) => (Some(rows.iter().collect()), true),
            (Wanted::Few(rows), Some(present)) => {
                let value_index = |row: usize| present.binary_search(&(row as u32)).ok();
                (Some(rows.iter().filter_map(value_index).collect()), true)
            }
        };
        let few = asked.as_deref().filter(|_| few);
        let values = match kind {
            0 => Values::Nulls,
            1 => Values::Bools(self.bits(count)?),
            2 => Values::Ints(match few {
                Some(few) => ints::decode_few(self.bytes, &mut self.at, count, few)?,
                None => ints::decode(self.bytes, &mut self.at, count)?,
            }),
            3 => Values::Floats(floats::decode(self.bytes, &mut self.at, count)?),
            4 => {
                let (dictionary, codes) = self.texts(shared, count, asked.as_deref(), few)?;
                Values::Texts { dictionary, codes }
            }
            5 => {
                let shared_len = self.number()?;
                let mut dictionary = self.blobs()?;
                dictionary.shared = match shared {
                    Shared::Blobs(blobs) if blobs.len() == shared_len => Some(blobs.clone()),
                    _ if shared_len == 0 => None,
                    _ => return None,
                };
                let codes = self.codes(count, dictionary.len(), few)?;
                Values::Blobs { dictionary, codes }
            }
            6 => {
                let (templates, codes) = self.texts(shared, count, None, None)?;
                let length = self.number()?;
                Values::Messages(Messages::packed(templates, codes, self.take(length)?.to_vec()))
            }
            _ => return None,
        };
        Some(Column { present, values })
    }

    /// A dictionary and the codes of `count` values: with `asked` value indexes the texts of these alone, and with `few` of
    /// them these codes alone.
    fn texts(
        &mut self,
        shared: &Shared,
        count: usize,
        asked: Option<&[usize]>,
        few: Option<&[usize]>,
    ) -> Option<(Texts, Vec<u32>)> {
        let shared_len = self.number()?;
        let list = texts::open(self.bytes, &mut self.at, self.rows)?;
        let shared = match shared {
            Shared::Texts(texts) if texts.len() == shared_len => Some(texts.clone()),
            _ if shared_len == 0 => None,
            _ => return None,
        };
        let codes = self.codes(count, shared_len + list.len(), few)?;
        let list = match asked {
            None => list.write(|_| true)?,
            Some(asked) => {
                let mut stands = vec![false; list.len()];
                for code in asked.iter().filter_map(|value_index| codes.get(*value_index)) {
                    let local = (*code as usize).checked_sub(shared_len);
                    if let Some(slot) = local.and_then(|local| stands.get_mut(local)) {
                        *slot = true;
                    }
                }
                list.write(|n| stands.get(n).copied().unwrap_or_default())?
            }
        };
        Some((Texts { shared, joined: list.joined, ends: list.ends, ..Texts::default() }, codes))
    }

    fn blobs(&mut self) -> Option<Blobs> {
        let count = self.number().filter(|n| *n <= self.rows)?;
        let mut end = 0u64;
        let mut ends = Vec::with_capacity(count);
        for length in ints::decode(self.bytes, &mut self.at, count)? {
            end = end.checked_add(u64::try_from(length).ok()?)?;
            ends.push(u32::try_from(end).ok()?);
        }
        let joined = self.take(usize::try_from(end).ok()?)?.to_vec();
        Some(Blobs { joined, ends, ..Blobs::default() })
    }

    fn codes(&mut self, count: usize, distinct: usize, few: Option<&[usize]>) -> Option<Vec<u32>> {
        match few {
            Some(few) => ints::decode_few_codes(self.bytes, &mut self.at, count, distinct, few),
            None => ints::decode_codes(self.bytes, &mut self.at, count, distinct),
        }
    }
}

#[cfg(test)]
mod tests;
