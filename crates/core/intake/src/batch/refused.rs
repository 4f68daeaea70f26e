//! What was refused of a request: the first events one by one, the rest counted by reason. A body of bad lines costs
//! what a hundred cost, however many there are.

use calvex_language::model::Refusal;
use std::collections::BTreeMap;

/// Refused events that are kept one by one.
pub const MAX_KEPT: usize = 100;

/// An event that was not taken.
#[derive(Debug, Clone, PartialEq)]
pub struct Refused {
    /// Its line or record in the request, from 1.
    pub line: usize,
    /// Why.
    pub refusal: Refusal,
    /// How what was sent begins, where it is at hand.
    pub sample: Option<String>,
}

/// The refused events of a request.
#[derive(Debug, Default)]
pub struct RefusedEvents {
    /// The events of the lowest lines; twice as many as are given back, so that they are sorted once in a while only.
    kept: Vec<Refused>,
    by_reason: BTreeMap<&'static str, usize>,
    total: usize,
    /// Lines from here on are not kept any more.
    beyond: usize,
}

impl RefusedEvents {
    /// Whether the details of a refusal at `line` would be kept; else [`RefusedEvents::count`] is enough.
    pub fn keeps(&self, line: usize) -> bool {
        self.beyond == 0 || line < self.beyond
    }

    /// Adds an event, with its details where they are kept.
    pub fn push(&mut self, refused: Refused) {
        self.count(refused.refusal.reason(), 1);
        if !self.keeps(refused.line) {
            return;
        }
        self.kept.push(refused);
        if self.kept.len() >= 2 * MAX_KEPT {
            self.shrink();
        }
    }

    /// Counts events without their details.
    pub fn count(&mut self, reason: &'static str, events: usize) {
        self.total += events;
        *self.by_reason.entry(reason).or_default() += events;
    }

    fn shrink(&mut self) {
        self.kept.sort_by_key(|r| r.line);
        self.kept.truncate(MAX_KEPT);
        if self.kept.len() == MAX_KEPT {
            self.beyond = self.kept.last().map_or(0, |r| r.line);
        }
    }

    /// Sorts what is kept by line; called once when the batch is finished.
    pub(super) fn finish(&mut self) {
        self.shrink();
    }

    /// How many events were refused.
    pub fn len(&self) -> usize {
        self.total
    }

    /// Whether none was.
    pub fn is_empty(&self) -> bool {
        self.total == 0
    }

    /// The kept events, the lowest lines first.
    pub fn iter(&self) -> impl Iterator<Item = &Refused> {
        self.kept.iter().take(MAX_KEPT)
    }

    /// How many events were refused for each reason, with the first kept one of it.
    pub fn by_reason(&self) -> impl Iterator<Item = (&'static str, usize, Option<&Refused>)> {
        let first = |reason: &str| self.kept.iter().find(|r| r.refusal.reason() == reason);
        self.by_reason.iter().map(move |(reason, count)| (*reason, *count, first(reason)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_lowest_lines_are_kept_and_the_rest_is_counted() {
        let mut refused = RefusedEvents::default();
        for line in (1..=100_000).rev() {
            let refusal = if line % 2 == 0 { Refusal::NotJson("x".into()) } else { Refusal::NotObject("list") };
            refused.push(Refused { line, refusal, sample: None });
            assert!(refused.kept.len() < 2 * MAX_KEPT);
        }
        refused.finish();
        let lines: Vec<usize> = refused.iter().map(|r| r.line).collect();
        assert_eq!(lines, (1..=100).collect::<Vec<_>>());
        assert_eq!(refused.len(), 100_000);
        let counts: Vec<_> = refused.by_reason().map(|(reason, n, first)| (reason, n, first.unwrap().line)).collect();
        assert_eq!(counts, [("not-an-object", 50_000, 1), ("not-json", 50_000, 2)]);
        assert!(!refused.keeps(101));
    }
}
