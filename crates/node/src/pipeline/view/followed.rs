//! What another node has in a head of its, as this one sees it: the pages of its journal rows. Small pages of one slot and
//! epoch that follow one another are joined, so that a trickle of commits leaves no thousands of pages here either.
//!
//! A seal over there covers rows up to any of them, so a joined page may be sealed in part: the rest is cut out of it then.

use crate::pipeline::small_pages::SMALL_PAGE;
use calvex_language::error::Result;
use calvex_storage::columns::{BuiltinColumn, Page, PageRead, SourceRow, permute};
use calvex_store::{JournalRowRef, SealedRows};
use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;

/// Some journal rows of one slot and epoch, in the order of their seqs, and the page of their events.
#[derive(Debug)]
struct Joined {
    page: Arc<Page>,
    rows: Vec<JournalRowRef>,
}

/// Pages by slot, epoch and first seq.
#[derive(Debug, Default)]
pub(super) struct FollowedHead(BTreeMap<(u16, u32, u64), Joined>);

impl FollowedHead {
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Every page.
    pub fn pages(&self) -> impl Iterator<Item = &Arc<Page>> {
        self.0.values().map(|joined| &joined.page)
    }

    /// Whether the page of a journal row is among them.
    pub fn has(&self, row: &JournalRowRef) -> bool {
        let before = self.0.range(..=(row.slot, row.epoch, row.seq)).next_back();
        before.is_some_and(|(_, joined)| joined.rows.contains(row))
    }

    /// Adds the page of a journal row, unless it is there.
    pub fn put(&mut self, page: Arc<Page>, row: JournalRowRef) {
        if self.has(&row) {
            return;
        }
        self.0.insert((row.slot, row.epoch, row.seq), Joined { page, rows: vec![row] });
    }

    /// Takes rows out that became a chunk.
    ///
    /// # Errors
    /// Where a page that is sealed in part cannot be read; it is taken out whole.
    pub fn drop_sealed(&mut self, sealed: &SealedRows) -> Result<()> {
        let SealedRows { slot, epoch, seq_min, seq_max, .. } = *sealed;
        let stays = |seq: u64| seq < seq_min || seq > seq_max;
        let reaching = self.0.range((slot, epoch, 0)..=(slot, epoch, seq_max));
        let reaching = reaching.filter(|(_, joined)| joined.rows.last().is_some_and(|row| row.seq >= seq_min));
        let touched: Vec<u64> = reaching.map(|((.., first), _)| *first).collect();
        for first in touched {
            let Some(mut joined) = self.0.remove(&(slot, epoch, first)) else { continue };
            joined.rows.retain(|row| stays(row.seq));
            if let Some(first) = joined.rows.first().map(|row| row.seq) {
                joined.page = Arc::new(rows_of(&joined.page, stays)?);
                self.0.insert((slot, epoch, first), joined);
            }
        }
        Ok(())
    }

    /// Takes out what is of these slots and epochs.
    pub fn take_of(&mut self, of: &HashSet<(u16, u32)>) -> Vec<(Arc<Page>, Vec<JournalRowRef>)> {
        let taken = self.0.extract_if(.., |(slot, epoch, _), _| of.contains(&(*slot, *epoch)));
        taken.map(|(_, joined)| (joined.page, joined.rows)).collect()
    }

    /// The last two pages of a slot and epoch, where they are small enough to be joined.
    pub fn last_two(&self, slot: u16, epoch: u32) -> Option<(Arc<Page>, Arc<Page>)> {
        let mut last = self.0.range((slot, epoch, 0)..=(slot, epoch, u64::MAX)).rev().map(|(_, joined)| &joined.page);
        let (b, a) = (last.next()?, last.next()?);
        (a.rows() <= b.rows() * 2 && a.rows() < SMALL_PAGE).then(|| (a.clone(), b.clone()))
    }

    /// Puts what the last two pages were joined to in their place; false where they are not the last two any more.
    pub fn join_last(&mut self, slot: u16, epoch: u32, (a, b): (&Arc<Page>, &Arc<Page>), page: Page) -> bool {
        let last = self.0.range((slot, epoch, 0)..=(slot, epoch, u64::MAX)).rev().take(2);
        let last: Vec<(u64, bool)> =
            last.zip([b, a]).map(|(((.., first), joined), page)| (*first, Arc::ptr_eq(&joined.page, page))).collect();
        let [(second, true), (first, true)] = last.as_slice() else { return false };
        let Some(later) = self.0.remove(&(slot, epoch, *second)) else { return false };
        let Some(joined) = self.0.get_mut(&(slot, epoch, *first)) else { return false };
        joined.rows.extend(later.rows);
        joined.page = Arc::new(page);
        true
    }
}

/// The events of a page whose journal rows have such seqs.
fn rows_of(page: &Page, of: impl Fn(u64) -> bool) -> Result<Page> {
    let seqs = page.builtin(BuiltinColumn::IdSeq)?;
    let seq = |row: usize| seqs.as_ref().and_then(|column| column.int(row)).map_or(0, |seq| seq as u64);
    let kept = (0..page.rows()).filter(|row| of(seq(*row)));
    let order: Vec<SourceRow> = kept.map(|row| SourceRow { source: 0, row: row as u32 }).collect();
    permute(&[page], &order)
}
