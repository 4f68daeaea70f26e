//! Whether what rules judge comes at all: each source, as rules share them, is watched for silence once.

use crate::answer::search;
use crate::auth::ReadScope;
use crate::error::Result;
use crate::state::Reading;
use calvex_answer::watch::{Known, Moments, Rings, Rule as Compiled, silent_since, source_rule, strips};
use std::collections::HashMap;
use std::sync::Arc;

/// Sources that are watched at most; rules of others are never called blind.
const MAX_SOURCES: usize = 100;
/// One that no rule asked for is let go after so long.
const UNASKED_NS: i64 = 600 * 1_000_000_000;
/// A source is looked at this often.
const EVERY_NS: i64 = 30 * 1_000_000_000;

/// One source: a filter, of the lanes that some owner may read.
struct Source {
    rule: Compiled,
    rings: Rings,
    asked_ns: i64,
    looked_ns: i64,
    silent_ns: Option<i64>,
}

/// Every source that rules share.
#[derive(Default)]
pub(super) struct Sources(HashMap<String, Source>);

impl Sources {
    /// Lets go of what no rule asks for, and forgets what was read from a moment on, as events came there.
    pub fn turn(&mut self, touched_ns: i64, now_ns: i64) {
        self.0.retain(|_, source| now_ns - source.asked_ns < UNASKED_NS);
        if touched_ns < i64::MAX {
            self.0.values_mut().for_each(|source| source.rings.forget_from(touched_ns, source.rule.step_ns));
        }
    }

    /// Rough bytes of what is held.
    pub fn bytes(&self) -> usize {
        self.0.values().map(|source| source.rings.bytes()).sum()
    }

    /// Since when nothing has come of what a rule judges, though it usually does; `lanes` are those that its owner may read.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn silent_since(
        &mut self,
        reading: &Arc<Reading>,
        lanes: Option<Vec<u32>>,
        compiled: &Compiled,
    ) -> Result<Option<i64>> {
        let Some(filter) = compiled.sources() else { return Ok(None) };
        let now_ns = (reading.base.clock)();
        let key = format!("{lanes:?} {filter}");
        if !self.0.contains_key(&key) {
            let Some(rule) = source_rule(&filter).filter(|_| self.0.len() < MAX_SOURCES) else { return Ok(None) };
            let source =
                Source { rule, rings: Rings::default(), asked_ns: now_ns, looked_ns: i64::MIN / 2, silent_ns: None };
            self.0.insert(key.clone(), source);
        }
        let Some(source) = self.0.get_mut(&key) else { return Ok(None) };
        source.asked_ns = now_ns;
        if now_ns - source.looked_ns < EVERY_NS {
            return Ok(source.silent_ns);
        }
        source.looked_ns = now_ns;
        let (asked, step_ns) = (source.rule.clone(), source.rule.step_ns);
        // A few moments are enough to see where the silence began to count.
        let until_ns = asked.judged_until(now_ns);
        let moments = Moments::between(until_ns - 20 * step_ns, until_ns, step_ns);
        let mut rings = std::mem::take(&mut source.rings);
        let (read, rings) = search::run_for_rules(reading, ReadScope::of_lanes(lanes), move |scope| {
            let read = strips(scope, &asked, moments, &Known::default(), &mut rings);
            (read, rings)
        })
        .await?;
        source.rings = rings;
        source.silent_ns = match read.incomplete {
            Some(_) => None,
            None => silent_since(&source.rule, &read, (moments.first_ns, step_ns)),
        };
        Ok(source.silent_ns)
    }
}
