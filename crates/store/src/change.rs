//! What the work transactions changed in the catalogue, numbered, for nodes that follow it; and which journal rows each
//! chunk came from.

use crate::claim::Claim;
use crate::journal::JournalRowRef;
use crate::{Result, sql};
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

/// Changes that are kept for nodes that follow.
const CHANGES_KEPT: u64 = 4096;

/// Notes what a work transaction did to the catalogue.
pub(crate) async fn note_change(
    tx: &mut MySqlConnection,
    claim: &Claim,
    n: u64,
    added: &[u64],
    removed: &[u64],
    sealed: &[Origin],
) -> Result<()> {
    let list = |ids: &[u64]| format!("[{}]", ids.iter().map(u64::to_string).collect::<Vec<_>>().join(","));
    let each = |o: &Origin| format!("[{},{},{},{}]", o.slot, o.epoch, o.seq_min, o.seq_max);
    let sealed = format!("[{}]", sealed.iter().map(each).collect::<Vec<_>>().join(","));
    let add = sqlx::query(sql::CHANGE_ADD).bind(claim.slot).bind(claim.epoch).bind(n);
    add.bind(list(added)).bind(list(removed)).bind(sealed).execute(&mut *tx).await?;
    if n.is_multiple_of(256) {
        let forget = sqlx::query(sql::CHANGE_FORGET).bind(claim.slot).bind(claim.epoch);
        forget.bind(n.saturating_sub(CHANGES_KEPT)).execute(tx).await?;
    }
    Ok(())
}
