//! Whether what rules judge comes at all: each source, as rules share them, is watched for silence once.

use calvex_answer::watch::{Known, Moments, Rings, Rule as Compiled, silent_since, source_rule, strips};
use calvex_node::answer::run::run_for_rules;
use calvex_node::auth::ReadScope;
use calvex_node::state::Reading;
use std::collections::HashMap;
use std::sync::Arc;

/// Sources that are watched at most; rules of others are never called blind.
const MAX_SOURCES: usize = 100;
/// One that no rule asked for is let go after so long.
const UNASKED_NS: i64 = 600 * 1_000_000_000;
/// A source is looked at this often.
const EVERY_NS: i64 = 30 * 1_000_000_000;
/// What comes later than this makes no source be read again: senders decide how late, and a gap of days is not filled.
const LATE_NS: i64 = 600 * 1_000_000_000;

/// One source: a filter, of what some owner may read.
struct Source {
    rule: Compiled,
    rings: Rings,
    asked_ns: i64,
    looked_ns: i64,
    silent_ns: Option<i64>,
}

/// Every source that rules share.
#[derive(Default)]
pub(super) struct Sources {
    known: HashMap<String, Source>,
    /// One was read for the first time in this turn: that takes long, and rules wait meanwhile.
    began: bool,
}

impl Sources {
    /// Lets go of what no rule asks for, and forgets what was read from a moment on, as events came there.
    pub fn turn(&mut self, touched_ns: i64, now_ns: i64) {
        self.began = false;
        self.known.retain(|_, source| now_ns - source.asked_ns < UNASKED_NS);
        if touched_ns < i64::MAX {
            let from_ns = touched_ns.max(now_ns - LATE_NS);
            self.known.values_mut().for_each(|source| source.rings.forget_from(from_ns, source.rule.step_ns));
        }
    }

    /// Rough bytes of what is held.
    pub fn bytes(&self) -> usize {
        self.known.values().map(|source| source.rings.bytes()).sum()
    }

    /// Since when nothing has come of what a rule judges, though it usually does; `scope` is what its owner may read.
    /// None where that cannot be read: the rule is judged all the same.
    pub async fn silent_since(&mut self, reading: &Arc<Reading>, scope: ReadScope, compiled: &Compiled) -> Option<i64> {
        let filter = compiled.sources()?;
        let now_ns = (reading.base.clock)();
        let key = format!("{} {filter}", scope.key());
        if !self.known.contains_key(&key) {
            if self.began {
                return None;
            }
            let rule = source_rule(&filter).filter(|_| self.known.len() < MAX_SOURCES)?;
            let source =
                Source { rule, rings: Rings::default(), asked_ns: now_ns, looked_ns: i64::MIN / 2, silent_ns: None };
            self.known.insert(key.clone(), source);
            self.began = true;
        }
        let source = self.known.get_mut(&key)?;
        source.asked_ns = now_ns;
        if now_ns - source.looked_ns < EVERY_NS {
            return source.silent_ns;
        }
        source.looked_ns = now_ns;
        let (asked, step_ns) = (source.rule.clone(), source.rule.step_ns);
        // A few moments are enough to see where the silence began to count.
        let until_ns = asked.judged_until(now_ns);
        let moments = Moments::between(until_ns - 20 * step_ns, until_ns, step_ns);
        let mut rings = std::mem::take(&mut source.rings);
        let looked = run_for_rules(reading, scope, move |scope| {
            let read = strips(scope, &asked, moments, &Known::default(), &mut rings);
            (read, rings)
        });
        source.silent_ns = match looked.await {
            Ok((read, rings)) => {
                source.rings = rings;
                let whole = read.incomplete.is_none();
                silent_since(&source.rule, &read, (moments.first_ns, step_ns)).filter(|_| whole)
            }
            Err(e) => {
                tracing::warn!("whether the sources {filter} are silent could not be read: {e}");
                None
            }
        };
        source.silent_ns
    }
}
