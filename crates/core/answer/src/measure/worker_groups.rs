//! What one worker gathers. Where a page has few groups, its rows get their cells at once (`partial`); where nearly every row
//! may be of another group, they go to parts (`parts`).

use super::MeasureAsk;
use super::grouper::Grouper;
use super::numbers::{RowNumber, row_numbers};
use super::partial::Partial;
use super::parts::{Inputs, PartedGroups};
use super::share::Share;
use super::workers::Figures;
use calvex_language::error::Result;
use calvex_language::query::Function;
use calvex_storage::columns::{PageRead, Rows, select};

/// Figures of some pages, of the groups of a share.
pub(super) struct WorkerGroups {
    share: Share,
    /// Bytes that it may take; no bound where groups are not worked out share by share.
    most: Option<usize>,
    /// Groups of pages that have few.
    few: Partial,
    /// Groups of other pages; none until there is such a page.
    many: Option<PartedGroups>,
}

impl WorkerGroups {
    /// Of the groups of a share, or of a smaller one where they take more than `most` bytes.
    pub fn new(ask: &MeasureAsk, share: Share, most: Option<usize>) -> Self {
        WorkerGroups { share, most, few: Partial::new(ask, share), many: None }
    }

    /// The groups that it has figures of.
    pub fn share(&self) -> Share {
        self.share
    }

    /// How many groups there may be.
    pub fn group_count(&self) -> usize {
        self.few.groups.len() + self.many.as_ref().map_or(0, PartedGroups::group_count)
    }

    /// Adds the `rows` of a page.
    ///
    /// # Errors
    /// Where the page is damaged.
    pub fn add(&mut self, ask: &MeasureAsk, page: &dyn PageRead, rows: &Rows, lane: &str) -> Result<()> {
        let grows = self.most.is_none_or(|most| self.weight_bytes() < most);
        if self.most.is_some() {
            self.few.groups.make_room(grows);
        }
        if self.few.add_as_one(ask, page, rows, lane)? {
            return Ok(());
        }
        let grouper = Grouper::of(ask, page, rows, lane)?;
        let most = self.most.filter(|_| can_wait(ask) && grouper.may_differ(rows.count()));
        let inputs = if most.is_some() { inputs(ask, page, rows, lane)? } else { None };
        match (most, inputs) {
            (Some(most), Some(inputs)) => {
                let many = self.many.get_or_insert_with(|| PartedGroups::new(ask, most));
                many.add(grouper.fields(), rows, &inputs, self.share, grows);
            }
            _ => self.few.add(grouper, ask, page, rows, lane)?,
        }
        self.keep_within();
        Ok(())
    }

    /// Keeps the groups of a smaller share, where it takes more than it may.
    fn keep_within(&mut self) {
        let Some(most) = self.most.filter(|most| self.weight_bytes() >= *most) else { return };
        self.many.iter_mut().for_each(PartedGroups::forget);
        while !self.few.fields.is_empty()
            && self.weight_bytes() >= most
            && let Some(half) = self.share.half()
        {
            self.narrow(half);
        }
    }

    /// Keeps the groups of a smaller share.
    pub fn narrow(&mut self, share: Share) {
        if share != self.share {
            self.share = share;
            self.few.narrow(share);
            self.many.iter_mut().for_each(|many| many.narrow(share));
        }
    }

    /// Whether there are groups in parts; there is one step then.
    pub fn has_parts(&self) -> bool {
        self.many.is_some()
    }

    /// The groups of pages that have few, and those of the others.
    pub fn into_parts(self) -> (Partial, Option<PartedGroups>) {
        (self.few, self.many)
    }

    /// All groups.
    pub fn into_whole(mut self) -> Partial {
        if let Some((fields, parts)) = self.many.map(PartedGroups::into_groups) {
            self.few.take(&fields, &parts);
        }
        self.few
    }
}

impl Figures for WorkerGroups {
    fn weight_bytes(&self) -> usize {
        self.few.weight_bytes() + self.many.as_ref().map_or(0, PartedGroups::weight_bytes)
    }
}

/// Whether rows can wait: there is one step, and each aggregate takes a number of a row at most.
fn can_wait(ask: &MeasureAsk) -> bool {
    let takes_more =
        |function: &Function| matches!(function, Function::Distinct(_) | Function::First(_) | Function::Last(_));
    ask.steps.count() == 1 && !ask.measure.aggregates.iter().any(|aggregate| takes_more(&aggregate.function))
}

/// What the aggregates take of the rows of a page; nothing where one takes several numbers of a row.
///
/// # Errors
/// Where the page is damaged.
fn inputs(ask: &MeasureAsk, page: &dyn PageRead, rows: &Rows, lane: &str) -> Result<Option<Inputs>> {
    let mut inputs = Inputs::new();
    for aggregate in &ask.measure.aggregates {
        inputs.push(match &aggregate.function {
            Function::Count(None) | Function::Rate => Vec::new(),
            Function::Count(Some(filter)) | Function::Share(filter) => {
                let mut passing = select(filter, page, lane)?;
                passing.and(rows);
                let mut counted = vec![RowNumber::None; page.rows()];
                passing.iter().for_each(|row| counted[row] = RowNumber::Int(1));
                counted
            }
            Function::Sum(field)
            | Function::Mean(field)
            | Function::Min(field)
            | Function::Max(field)
            | Function::Percentile(_, field) => match row_numbers(field, page)? {
                Some(numbers) => numbers,
                None => return Ok(None),
            },
            Function::Distinct(_) | Function::First(_) | Function::Last(_) => return Ok(None),
        });
    }
    Ok(Some(inputs))
}
