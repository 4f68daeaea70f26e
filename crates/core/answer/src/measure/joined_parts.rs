//! Groups in parts of several workers, put together part by part: a group's values have the numbers of the first worker.

use super::MeasureAsk;
use super::cells::NONE;
use super::groups::Groups;
use super::partial::Partial;
use super::parts::PartedGroups;
use super::values::{Renumbered, Values};
use super::workers::side_by_side;
use crate::scan::Workers;
use parking_lot::Mutex;

/// All that the workers have.
pub(super) struct JoinedParts {
    /// By field, the values of all.
    fields: Vec<Values>,
    /// The groups of the first, by smallest share, each until it is taken.
    first: Vec<Mutex<Option<Groups>>>,
    /// The groups of the others by smallest share, or of all shares in one, and by field the numbers of their values.
    others: Vec<(Vec<Groups>, Vec<Renumbered>)>,
}

impl JoinedParts {
    /// Of groups in parts and of those that are not; there is one step.
    pub fn of(workers: &dyn Workers, ask: &MeasureAsk, parted: Vec<PartedGroups>, few: Vec<Partial>) -> Self {
        let settled = side_by_side(workers, parted, PartedGroups::into_groups);
        let few = few
            .into_iter()
            .filter(|few| few.groups.len() > 0 || few.groups.overfull)
            .map(|few| (few.fields, vec![few.groups]));
        let (of_each, mut groups): (Vec<Vec<Values>>, Vec<Vec<Groups>>) = settled.into_iter().chain(few).unzip();
        let mut of_each: Vec<_> = of_each.into_iter().map(Vec::into_iter).collect();
        let mut fields = Vec::new();
        let mut renumbered: Vec<Vec<Renumbered>> = groups.iter().skip(1).map(|_| Vec::new()).collect();
        for _ in &ask.measure.per {
            let of_field = of_each.iter_mut().filter_map(Iterator::next).collect();
            let (values, of_others) = Values::joined(workers, of_field);
            fields.push(values);
            renumbered.iter_mut().zip(of_others).for_each(|(fields, of_field)| fields.push(of_field));
        }
        let others = groups.drain(1.min(groups.len())..).zip(renumbered).collect();
        let first = groups.pop().unwrap_or_default().into_iter().map(|groups| Mutex::new(Some(groups))).collect();
        JoinedParts { fields, first, others }
    }

    /// The values of each field.
    pub fn fields(&self) -> &[Values] {
        &self.fields
    }

    /// Takes the groups of a smallest share, by its number.
    pub fn groups(&self, part: usize) -> Option<Groups> {
        let mut whole = self.first.get(part)?.lock().take()?;
        for (groups, fields) in &self.others {
            if let Some(theirs) = groups.get(part).or(groups.first()) {
                whole.take(theirs, |field, number| fields.get(field).map_or(NONE, |of| of.get(number)));
            }
        }
        Some(whole)
    }
}
