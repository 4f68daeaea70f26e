//! A chunk described for people: its segments, columns, sizes and encodings.

use super::page::ChunkPage;
use super::reader::Directory;
use super::source::ChunkSource;
use crate::columns::{ColumnKey, PageRead, Values};
use calvex_language::error::Result;
use calvex_language::model::time::format_utc;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// A whole chunk.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ChunkDescription {
    /// Its id, in hex.
    pub id: String,
    /// The version of its format.
    pub version: u16,
    /// How many events.
    pub rows: usize,
    /// The earliest and latest time, RFC 3339.
    pub from: String,
    /// See `from`.
    pub to: String,
    /// How many pages.
    pub pages: usize,
    /// Bytes of each segment, header included.
    pub segments_bytes: Vec<usize>,
    /// Bytes of directory and bloom.
    pub directory_bytes: usize,
    /// See `directory_bytes`.
    pub bloom_bytes: usize,
    /// Largest first.
    pub columns: Vec<ColumnDescription>,
}

/// A column of all pages.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ColumnDescription {
    /// The builtin, or the field's path.
    pub name: String,
    /// The type of its values.
    pub kind: String,
    /// How many rows have a value.
    pub values: usize,
    /// How many values the pages share, and in how many bytes.
    pub shared: usize,
    /// See `shared`.
    pub shared_bytes: usize,
    /// Bytes of all its blocks and of what they share.
    pub bytes: usize,
    /// Smallest and largest number, where it has numbers.
    pub least: Option<f64>,
    /// See `least`.
    pub largest: Option<f64>,
    /// Page by page.
    pub blocks: Vec<BlockDescription>,
}

/// A column of one page.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BlockDescription {
    /// Which page.
    pub page: usize,
    /// Which segment it stands in.
    pub segment: u16,
    /// Its bytes.
    pub bytes: usize,
    /// How many rows have a value.
    pub values: usize,
    /// Distinct values, where they are kept in a dictionary.
    pub distinct: Option<usize>,
}

/// Describes a chunk of `segments` segments.
///
/// # Errors
/// Where a segment cannot be read or is damaged.
pub fn describe(directory: &Arc<Directory>, segments: u16, source: &dyn ChunkSource) -> Result<ChunkDescription> {
    let sizes = (0..segments).map(|n| Ok(source.segment(directory.chunk, n)?.len())).collect::<Result<Vec<_>>>()?;
    let mut columns = Vec::with_capacity(directory.keys.len());
    let pages: Vec<ChunkPage> =
        (0..directory.pages.len()).map(|p| ChunkPage::new(directory.clone(), p, source)).collect();
    for (index, key) in directory.keys.iter().enumerate() {
        columns.push(column(directory, &pages, index, key)?);
    }
    columns.sort_by_key(|c| std::cmp::Reverse(c.bytes));
    let times = |f: fn(&super::PageSpan) -> i64| directory.pages.iter().map(f);
    Ok(ChunkDescription {
        id: format!("{:x}", directory.chunk),
        version: directory.version,
        rows: directory.rows,
        from: format_utc(times(|p| p.time_min).min().unwrap_or(0), 9),
        to: format_utc(times(|p| p.time_max).max().unwrap_or(0), 9),
        pages: directory.pages.len(),
        directory_bytes: sizes.first().copied().unwrap_or(0),
        bloom_bytes: directory.bloom_segments().filter_map(|n| sizes.get(usize::from(n))).sum(),
        segments_bytes: sizes,
        columns,
    })
}

fn column(directory: &Directory, pages: &[ChunkPage], index: usize, key: &ColumnKey) -> Result<ColumnDescription> {
    let (shared, shared_bytes) = directory.shared_size(index).unwrap_or((0, 0));
    let mut blocks = Vec::new();
    let mut zone: Option<(f64, f64)> = None;
    for (page, read) in pages.iter().enumerate() {
        let (Some(block), Some(column)) = (directory.block(index, page), read.column(index)?) else { continue };
        let values = column.present.as_ref().map_or(read.rows(), |p| p.len());
        let distinct = match &column.values {
            Values::Texts { dictionary, .. } => Some(dictionary.len() - dictionary.shared_len()),
            Values::Blobs { dictionary, .. } => Some(dictionary.len() - dictionary.shared_len()),
            Values::Messages(m) => Some(m.templates.len() - m.templates.shared_len()),
            _ => None,
        };
        blocks.push(BlockDescription { page, segment: block.segment, bytes: block.length, values, distinct });
        if let Some((lo, hi)) = block.zone {
            zone = Some(zone.map_or((lo, hi), |(a, b)| (a.min(lo), b.max(hi))));
        }
    }
    let (name, kind) = match key {
        ColumnKey::Builtin(own) => (own.name().to_owned(), "builtin".to_owned()),
        ColumnKey::Field(path, kind) => (path.dotted(), kind.name().to_owned()),
    };
    Ok(ColumnDescription {
        name,
        kind,
        values: blocks.iter().map(|b| b.values).sum(),
        shared,
        shared_bytes,
        bytes: blocks.iter().map(|b| b.bytes).sum::<usize>() + shared_bytes,
        least: zone.map(|z| z.0),
        largest: zone.map(|z| z.1),
        blocks,
    })
}
