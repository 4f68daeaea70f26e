//! Step 7, the journal batch: one commit's events of one lane and day, as bytes.
//!
//! ```text
//! batch   := magic "CvxJ"  version:u16 LE  crc:u32 LE (of all that follows)  content
//! content := raw_len:u32 LE  columns (one zstd frame of raw_len)                             version 2
//! columns := rows:u32 LE  columns:varint  column*
//! column  := key  length:varint  block (see columns::block)
//! key     := 0 own:u8  |  1 type:u8 length:varint path (stored form)
//! ```
//!
//! Version 1 has `rows` and the columns as content, each block packed by itself and in the form of chunk format 1; it is
//! still read. Node, epoch and seq of the ids are not in the batch: they are those of the row it stands in, so that a
//! batch can be encoded before its turn to commit has come. The column form is that of chunks, so that a batch enters
//! the head without being taken apart. A batch is complete when its checksum holds; MariaDB gives it back whole or not
//! at all.

use crate::chunk::v1;
use crate::columns::{
    BuiltinColumn, Column, ColumnKey, Effort, FieldType, MAX_FIELD_COLUMNS, PAGE_ROWS, Page, PageRead, Presences,
    Shared, decode_block, encode_block,
};
use crate::compress::{compress, decompress};
use calvex_language::error::{CoreError, Result};
use calvex_language::model::{Path, put_varint, take_varint};
use std::sync::Arc;

const MAGIC: &[u8; 4] = b"CvxJ";
/// The version written, and the newest read.
pub const VERSION: u16 = 2;
/// Bytes before the checksummed content.
const HEADER_BYTES: usize = 10;
/// The journal is read back once at most, so the fastest level is the right one.
const LEVEL: i32 = 1;
/// Largest batch once decompressed.
const MAX_RAW_BYTES: usize = 256 << 20;

/// Columns that the row's own location gives.
const ROW_COLUMNS: [ColumnKey; 2] =
    [ColumnKey::Builtin(BuiltinColumn::IdOrigin), ColumnKey::Builtin(BuiltinColumn::IdSeq)];

/// The bytes of one page.
pub fn encode_batch(page: &Page) -> Vec<u8> {
    let mut raw = Vec::with_capacity(page.weight_bytes() / 2);
    raw.extend_from_slice(&(page.rows() as u32).to_le_bytes());
    let kept = || page.keyed_columns().filter(|(key, _)| !ROW_COLUMNS.contains(key));
    put_varint(&mut raw, kept().count() as u64);
    let mut block = Vec::new();
    let mut presences = Presences::default();
    for (number, (key, column)) in kept().enumerate() {
        put_key(&mut raw, key);
        block.clear();
        encode_block(column, number as u32, page.rows(), &mut presences, Effort::Light, LEVEL, &mut block);
        put_varint(&mut raw, block.len() as u64);
        raw.extend_from_slice(&block);
    }
    let compressed = compress(&raw, LEVEL).unwrap_or_default();
    let mut content = (raw.len() as u32).to_le_bytes().to_vec();
    content.extend_from_slice(&compressed);
    let mut out = Vec::with_capacity(HEADER_BYTES + content.len());
    out.extend_from_slice(MAGIC);
    out.extend_from_slice(&VERSION.to_le_bytes());
    out.extend_from_slice(&crc32fast::hash(&content).to_le_bytes());
    out.extend_from_slice(&content);
    out
}

/// Reads a batch back; `location` names it in errors. The page's ids lack their origin: see [`Page::with_origin`].
///
/// # Errors
/// [`CoreError::Damaged`] or [`CoreError::Version`].
pub fn decode_batch(bytes: &[u8], location: &str) -> Result<Page> {
    let damaged = |what: &str| CoreError::damaged(format!("journal batch {location}"), what);
    let (header, content) = bytes.split_first_chunk::<HEADER_BYTES>().ok_or_else(|| damaged("it is cut short"))?;
    let [m0, m1, m2, m3, v0, v1, checksum @ ..] = *header;
    if [m0, m1, m2, m3] != *MAGIC {
        return Err(damaged("it does not begin as one"));
    }
    let version = u16::from_le_bytes([v0, v1]);
    if !(1..=VERSION).contains(&version) {
        return Err(CoreError::Version {
            location: format!("journal batch {location}"),
            found: version,
            known: VERSION,
        });
    }
    if crc32fast::hash(content).to_le_bytes() != checksum {
        return Err(damaged("its checksum does not hold"));
    }
    let read = if version == 1 {
        read_columns(content, 1)
    } else {
        decompressed(content).and_then(|raw| read_columns(&raw, version))
    };
    read.ok_or_else(|| damaged("its columns do not decode"))
}

fn decompressed(content: &[u8]) -> Option<Vec<u8>> {
    let raw_len = u32::from_le_bytes(content.get(..4)?.try_into().ok()?) as usize;
    let raw_len = Some(raw_len).filter(|n| *n <= MAX_RAW_BYTES)?;
    decompress(content.get(4..)?, raw_len)
}

fn read_columns(content: &[u8], version: u16) -> Option<Page> {
    let rows = u32::from_le_bytes(content.get(..4)?.try_into().ok()?) as usize;
    if rows > PAGE_ROWS {
        return None;
    }
    let mut at = 4;
    let count = take_varint(content, &mut at)
        .filter(|n| version == 1 || *n <= (MAX_FIELD_COLUMNS + BuiltinColumn::ALL.len()) as u64)?;
    let mut columns: Vec<(ColumnKey, Column)> = Vec::new();
    for _ in 0..count {
        let key = take_key(content, &mut at)?;
        let length = usize::try_from(take_varint(content, &mut at)?).ok()?;
        let block = content.get(at..at.checked_add(length)?)?;
        at += length;
        let earlier = |n: u32| -> Option<Arc<[u32]>> { columns.get(n as usize)?.1.present.clone() };
        let column = match version {
            1 => v1::column(&key, block, rows)?,
            _ => decode_block(block, rows, &Shared::None, &earlier).ok()?,
        };
        columns.push((key, column));
    }
    (at == content.len()).then(|| Page::new(rows, columns).ok()).flatten()
}

/// Appends a column's key.
pub(crate) fn put_key(out: &mut Vec<u8>, key: &ColumnKey) {
    match key {
        ColumnKey::Builtin(own) => out.extend_from_slice(&[0, *own as u8]),
        ColumnKey::Field(path, kind) => {
            out.extend_from_slice(&[1, *kind as u8]);
            put_varint(out, path.as_str().len() as u64);
            out.extend_from_slice(path.as_str().as_bytes());
        }
    }
}

/// Reads what [`put_key`] wrote.
pub(crate) fn take_key(bytes: &[u8], at: &mut usize) -> Option<ColumnKey> {
    let (form, number) = (*bytes.get(*at)?, *bytes.get(*at + 1)? as usize);
    *at += 2;
    match form {
        0 => BuiltinColumn::ALL.get(number).map(|own| ColumnKey::Builtin(*own)),
        1 => {
            let kind = *FieldType::ALL.get(number)?;
            let length = usize::try_from(take_varint(bytes, at)?).ok()?;
            let path = std::str::from_utf8(bytes.get(*at..at.checked_add(length)?)?).ok()?;
            *at += length;
            Some(ColumnKey::Field(Path::from_stored(path), kind))
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::columns::{build_page, materialise_all};
    use calvex_language::model::Event;

    #[test]
    fn round_trip_truncation_and_flips() {
        let event = |n: i64| Event {
            time_ns: n,
            message: format!("lease {n}"),
            fields: vec![(Path::new(["slot", "bank"]), calvex_language::model::Value::Text(format!("BK-{n:03}")))],
            ..Event::default()
        };
        let events: Vec<Event> = (1..20).map(event).collect();
        let bytes = encode_batch(&build_page(&events).unwrap());
        assert_eq!(materialise_all(&decode_batch(&bytes, "1-1-1").unwrap().with_origin(0, 0, 0)).unwrap(), events);
        for cut in 0..bytes.len() {
            assert!(decode_batch(&bytes[..cut], "1-1-1").is_err());
        }
        for at in 0..bytes.len() {
            let mut damaged = bytes.clone();
            damaged[at] ^= 0x10;
            let error = decode_batch(&damaged, "1-1-1").unwrap_err().to_string();
            assert!(error.contains("journal batch 1-1-1"), "{error}");
        }
    }
}
