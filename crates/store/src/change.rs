//! What the work transactions changed in the catalogue, numbered, for nodes that follow it; and which journal rows each
//! chunk came from.

use crate::claim::Claim;
use crate::journal::JournalRowRef;
use crate::{Result, sql};
use calvex_storage::chunk::ChunkMeta;
use sqlx::MySqlConnection;
use std::collections::BTreeMap;

/// Journal rows of one slot and epoch that a seal covers.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Origin {
    pub slot: u16,
    pub epoch: u32,
    pub seq_min: u64,
    pub seq_max: u64,
}

/// The rows of a seal, joined per slot and epoch.
pub(crate) fn origins_of(covers: &[JournalRowRef]) -> Vec<Origin> {
    let mut spans: BTreeMap<(u16, u32), (u64, u64)> = BTreeMap::new();
    for row in covers {
        let span = spans.entry((row.slot, row.epoch)).or_insert((row.seq, row.seq));
        *span = (span.0.min(row.seq), span.1.max(row.seq));
    }
    let origin = |((slot, epoch), (seq_min, seq_max))| Origin { slot, epoch, seq_min, seq_max };
    spans.into_iter().map(origin).collect()
}

/// Journal rows of one slot, epoch, lane and day that became chunks: each of them from the first to the last seq.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct SealedRows {
    pub slot: u16,
    pub epoch: u32,
    pub seq_min: u64,
    pub seq_max: u64,
    pub lane: u32,
    pub day: i32,
    pub late: bool,
}

/// What a seal covers. Its chunks are of one head, and so of one lane and day.
pub(crate) fn sealed_rows(origins: &[Origin], chunks: &[ChunkMeta]) -> Vec<SealedRows> {
    let Some(ChunkMeta { lane, day, late, .. }) = chunks.first().cloned() else { return Vec::new() };
    let row = |&Origin { slot, epoch, seq_min, seq_max }| SealedRows { slot, epoch, seq_min, seq_max, lane, day, late };
    origins.iter().map(row).collect()
}

/// What a change holds, as its texts say.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Change {
    pub added: Vec<u64>,
    pub removed: Vec<u64>,
    pub sealed: Vec<SealedRows>,
}

impl Change {
    /// Reads the texts of a row; none where they are of another form.
    pub(crate) fn read(added: &str, removed: &str, sealed: &str) -> Option<Self> {
        let sealed: Vec<(u16, u32, u64, u64, u32, i32, u8)> = serde_json::from_str(sealed).ok()?;
        let row = |(slot, epoch, seq_min, seq_max, lane, day, late)| SealedRows {
            slot,
            epoch,
            seq_min,
            seq_max,
            lane,
            day,
            late: late != 0,
        };
        Some(Change {
            added: serde_json::from_str(added).ok()?,
            removed: serde_json::from_str(removed).ok()?,
            sealed: sealed.into_iter().map(row).collect(),
        })
    }
}

/// Changes that are kept for nodes that follow.
const CHANGES_KEPT: u64 = 4096;
/// Of this many fence moves one forgets older changes.
pub(crate) const FORGET_EVERY: u64 = 256;

/// Notes what a work transaction did to the catalogue.
pub(crate) async fn note_change(
    tx: &mut MySqlConnection,
    claim: &Claim,
    n: u64,
    added: &[u64],
    removed: &[u64],
    sealed: &[SealedRows],
) -> Result<()> {
    let list = |ids: &[u64]| format!("[{}]", ids.iter().map(u64::to_string).collect::<Vec<_>>().join(","));
    let each = |o: &SealedRows| {
        let SealedRows { slot, epoch, seq_min, seq_max, lane, day, late } = o;
        format!("[{slot},{epoch},{seq_min},{seq_max},{lane},{day},{}]", u8::from(*late))
    };
    let sealed = format!("[{}]", sealed.iter().map(each).collect::<Vec<_>>().join(","));
    let add = sqlx::query(sql::CHANGE_ADD).bind(claim.slot).bind(claim.epoch).bind(n);
    let add = add.bind(list(added)).bind(list(removed)).bind(sealed);
    add.bind(claim.slot).bind(claim.epoch).execute(&mut *tx).await?;
    if n.is_multiple_of(FORGET_EVERY) {
        let forget = sqlx::query(sql::CHANGE_FORGET).bind(claim.slot).bind(claim.epoch);
        forget.bind(n.saturating_sub(CHANGES_KEPT)).execute(tx).await?;
    }
    Ok(())
}
