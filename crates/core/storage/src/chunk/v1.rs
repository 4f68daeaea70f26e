//! Format version 1, read only: what early chunks are still kept in until they are merged or expire.
//!
//! ```text
//! segment 0    := packed_len:u32 LE  raw_len:u32 LE  directory (one zstd frame of raw_len)  bloom
//! directory := rows:varint  severities:varint  pages:varint  page*  columns:varint  column*
//! page      := rows:varint  earliest:zigzag varint  latest:zigzag varint
//! column    := key  block for each page (0 | 1 location | 2 location least:f64 largest:f64), as in version 2
//! block     := packing:u8  raw_len:varint  body          packing 0: body is raw; 1: body is one zstd frame of it
//! raw       := kind:u8  count:varint  presence  values
//! presence  := 0 | 1  gap:varint*
//! values    := kind 0 nulls, 1 bools (a byte each), 2 ints (0 zigzag steps | 1 least:zigzag, distances), 3 floats,
//!              4 texts, 5 blobs: distinct:varint  length:varint*  bytes  codes (0 | 1 varint*)
//! ```
//!
//! Its bloom is one for the whole chunk under other keys; it is not used. Messages are whole texts, cut when read.

use super::reader::{BlockRef, Directory, PageBlooms, PageSpan};
use crate::chunk::journal::take_key;
use crate::columns::{Blobs, BuiltinColumn, Column, ColumnKey, Messages, PAGE_ROWS, Shared, Texts, Values, Variables};
use crate::compress::decompress;
use calvex_language::model::{take_varint, template, unzigzag};
use std::sync::OnceLock;

const MAX_DIRECTORY_BYTES: usize = 32 << 20;
const MAX_RAW_BYTES: usize = 64 << 20;

/// Reads a directory.
pub(super) fn parse(chunk: u64, payload: &[u8]) -> Option<Directory> {
    let length = |at: usize| Some(u32::from_le_bytes(payload.get(at..at + 4)?.try_into().ok()?) as usize);
    let (packed_len, raw_len) = (length(0)?, length(4).filter(|n| *n <= MAX_DIRECTORY_BYTES)?);
    let packed = payload.get(8..8usize.checked_add(packed_len)?)?;
    let raw = decompress(packed, raw_len)?;
    let mut r = Reader { bytes: &raw, at: 0 };
    let rows = r.number()?;
    let severities = u32::try_from(r.varint()?).ok()?;
    let page_count = r.count()?;
    let mut pages = Vec::with_capacity(page_count);
    for _ in 0..page_count {
        let rows = r.number().filter(|n| (1..=PAGE_ROWS).contains(n))?;
        let (time_min, time_max) = (unzigzag(r.varint()?), unzigzag(r.varint()?));
        pages.push(PageSpan { rows, time_min, time_max, weight_bytes: rows * 400 });
    }
    let key_count = r.count()?;
    let mut keys = Vec::with_capacity(key_count);
    let mut blocks = Vec::with_capacity(key_count.checked_mul(page_count).filter(|n| *n <= raw.len())?);
    for _ in 0..key_count {
        keys.push(take_key(&raw, &mut r.at)?);
        for _ in 0..page_count {
            blocks.push(match r.byte()? {
                0 => None,
                form @ (1 | 2) => {
                    let segment = u16::try_from(r.varint()?).ok()?;
                    let (offset, length) = (r.number()?, r.number()?);
                    let mut float = || Some(f64::from_le_bytes(r.take(8)?.try_into().ok()?));
                    let zone = if form == 2 { Some((float()?, float()?)) } else { None };
                    Some(BlockRef { segment, offset, length, zone, dense: false })
                }
                _ => return None,
            });
        }
    }
    let whole = r.at == raw.len() && pages.iter().map(|p| p.rows).sum::<usize>() == rows;
    let shared_read = keys.iter().map(|_| OnceLock::<Shared>::new()).collect();
    let shared = vec![None; keys.len()];
    let ordered = keys.is_sorted_by(|a: &ColumnKey, b| a < b);
    (whole && ordered).then_some(Directory {
        chunk,
        version: 1,
        rows,
        severities,
        blooms: PageBlooms::None,
        pages,
        keys,
        blocks,
        shared,
        shared_read,
        letters: Vec::new(),
    })
}

/// Reads the block of the column `key` of a page of `rows`.
pub(crate) fn column(key: &ColumnKey, bytes: &[u8], rows: usize) -> Option<Column> {
    let mut outer = Reader { bytes, at: 0 };
    let packing = outer.byte()?;
    let raw_len = outer.number().filter(|n| *n <= MAX_RAW_BYTES)?;
    let body = bytes.get(outer.at..)?;
    let raw: std::borrow::Cow<[u8]> = match packing {
        0 => body.into(),
        1 => decompress(body, raw_len)?.into(),
        _ => return None,
    };
    let mut reader = Reader { bytes: &raw, at: 0 };
    let column = reader.column(rows).filter(|_| raw.len() == raw_len && reader.at == raw.len())?;
    match (key, column) {
        (
            ColumnKey::Builtin(BuiltinColumn::Message),
            Column { present, values: Values::Texts { dictionary, codes } },
        ) => Some(Column { present, values: Values::Messages(cut(&dictionary, &codes)) }),
        (_, column) => Some(column),
    }
}

/// Whole messages as templates and variables.
fn cut(messages: &Texts, codes: &[u32]) -> Messages {
    let mut templates = crate::columns::Interner::<String>::default();
    let mut variables = Variables::default();
    let mut template = String::new();
    let mut out = Vec::with_capacity(codes.len());
    for code in codes {
        template.clear();
        variables.first.push(variables.ends.len() as u32);
        template::split(messages.get(*code as usize), &mut template, |v| {
            variables.joined.push_str(v);
            variables.ends.push(variables.joined.len() as u32);
        });
        out.push(templates.code(&template));
    }
    variables.first.push(variables.ends.len() as u32);
    Messages::new(templates.dictionary, out, variables)
}

struct Reader<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl<'a> Reader<'a> {
    fn byte(&mut self) -> Option<u8> {
        let b = *self.bytes.get(self.at)?;
        self.at += 1;
        Some(b)
    }

    fn varint(&mut self) -> Option<u64> {
        take_varint(self.bytes, &mut self.at)
    }

    fn number(&mut self) -> Option<usize> {
        usize::try_from(self.varint()?).ok()
    }

    fn take(&mut self, n: usize) -> Option<&'a [u8]> {
        let taken = self.bytes.get(self.at..self.at.checked_add(n)?)?;
        self.at += n;
        Some(taken)
    }

    /// A count of things that take a byte each at least.
    fn count(&mut self) -> Option<usize> {
        self.number().filter(|n| *n <= self.bytes.len() - self.at)
    }

    fn column(&mut self, rows: usize) -> Option<Column> {
        let kind = self.byte()?;
        let count = self.number().filter(|n| *n <= rows)?;
        let present = match self.byte()? {
            0 if count == rows || kind == 0 && count == 0 => None,
            1 => {
                let mut list = Vec::with_capacity(count);
                let mut next = 0u64;
                for _ in 0..count {
                    let row = next.checked_add(self.varint()?).filter(|row| *row < rows as u64)?;
                    list.push(row as u32);
                    next = row + 1;
                }
                Some(list.into())
            }
            _ => return None,
        };
        let values = match kind {
            0 => Values::Nulls,
            1 => Values::Bools(self.take(count)?.iter().map(|b| *b == 1).collect()),
            2 => Values::Ints(self.ints(count)?),
            3 => {
                let raw = self.take(count.checked_mul(8)?)?;
                Values::Floats(
                    raw.chunks_exact(8).map(|c| f64::from_le_bytes(c.try_into().unwrap_or_default())).collect(),
                )
            }
            4 => {
                let (ends, joined, codes) = self.codes(count)?;
                let joined = String::from_utf8(joined.to_vec()).ok()?;
                if ends.iter().any(|e| !joined.is_char_boundary(*e as usize)) {
                    return None;
                }
                Values::Texts { dictionary: Texts { joined, ends, ..Texts::default() }, codes }
            }
            5 => {
                let (ends, joined, codes) = self.codes(count)?;
                Values::Blobs { dictionary: Blobs { joined: joined.to_vec(), ends, ..Blobs::default() }, codes }
            }
            _ => return None,
        };
        Some(Column { present, values })
    }

    fn ints(&mut self, count: usize) -> Option<Vec<i64>> {
        match self.byte()? {
            0 => {
                let mut before = 0i64;
                (0..count)
                    .map(|_| {
                        before = before.wrapping_add(unzigzag(self.varint()?));
                        Some(before)
                    })
                    .collect()
            }
            1 => {
                let least = unzigzag(self.varint()?);
                (0..count).map(|_| Some(least.wrapping_add(self.varint()? as i64))).collect()
            }
            _ => None,
        }
    }

    fn codes(&mut self, count: usize) -> Option<(Vec<u32>, &'a [u8], Vec<u32>)> {
        let distinct = self.count()?;
        let mut end = 0u64;
        let mut ends = Vec::with_capacity(distinct);
        for _ in 0..distinct {
            end = end.checked_add(self.varint()?)?;
            ends.push(u32::try_from(end).ok()?);
        }
        let joined = self.take(usize::try_from(end).ok()?)?;
        let codes: Vec<u32> = match self.byte()? {
            0 => (0..count as u32).collect(),
            1 => (0..count).map(|_| u32::try_from(self.varint()?).ok()).collect::<Option<_>>()?,
            _ => return None,
        };
        codes.iter().all(|c| (*c as usize) < distinct).then_some((ends, joined, codes))
    }
}
