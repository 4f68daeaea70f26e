//! Which error groups were seen when: what makes a group new, and what makes one return. Each failure is looked at as it
//! has come; looking at one twice changes nothing.

use calvex_answer::errors::{ErrorsAsk, errors};
use calvex_intake::normalise::AHEAD_LIMIT_NS;
use calvex_language::domain::error_group::{GroupState, SeenGroup};
use calvex_language::model::time::{SECOND_NS, format_utc};
use calvex_language::query::{Filter, TimeRange, parse_filter};
use calvex_node::answer::run::run_for_rules;
use calvex_node::auth::ReadScope;
use calvex_node::error::Result;
use calvex_node::pipeline::admitted::Admitted;
use calvex_node::state::Reading;
use std::sync::Arc;

/// Failures may come so much later than they happened.
const LATE_NS: i64 = 600 * SECOND_NS;
/// Groups of one turn at most; those with the most failures are seen first.
const MAX_GROUPS: usize = 2000;

/// What was looked at, and what is still to be.
pub struct Looking {
    reading: Arc<Reading>,
    admitted: Arc<Admitted>,
    /// How far the last turn came; none before the first.
    until_ns: Option<i64>,
}

impl Looking {
    /// Nothing was looked at yet.
    pub fn new(reading: Arc<Reading>, admitted: Arc<Admitted>) -> Self {
        Looking { reading, admitted, until_ns: None }
    }

    /// Looks at the failures that came since the last turn; at the first, at those since the last one that is recorded.
    ///
    /// # Errors
    /// Where the database fails: then they are looked at in the next turn.
    pub async fn see_once(&mut self) -> Result<()> {
        let reading = &self.reading;
        let now_ns = (reading.base.clock)();
        let admitted = self.admitted.errors.take();
        let seen = match (self.until_ns, admitted) {
            (Some(_), None) => return Ok(()),
            (Some(until_ns), Some(reach)) => {
                let earliest_ns = until_ns.min(now_ns).saturating_sub(LATE_NS);
                // What stands beside them was looked at before: again, it would change nothing, and cost the more the more comes.
                let arrived = format!("arrived>={}", format_utc(reach.arrived_ns, 9));
                see(reading, parse_filter(&arrived).unwrap_or(Filter::All), reach.time_ns.max(earliest_ns), now_ns)
                    .await
            }
            // At the very first everything that is there.
            (None, _) => match reading.base.store.groups_seen_until().await {
                Ok(until_ns) => {
                    let from_ns = until_ns.map_or(0, |until| until.min(now_ns).saturating_sub(LATE_NS));
                    see(reading, Filter::All, from_ns, now_ns).await
                }
                Err(e) => Err(e.into()),
            },
        };
        if seen.is_ok() {
            self.until_ns = Some(now_ns);
        }
        // What was not looked at is looked at again, as long as it is not too late for it.
        if let (Some(reach), Ok(false) | Err(_)) = (admitted, &seen) {
            self.admitted.errors.note(reach);
        }
        seen.map(drop)
    }
}

/// Looks at the failures from a time on that pass a filter; whether at all of them.
async fn see(reading: &Arc<Reading>, filter: Filter, from_ns: i64, now_ns: i64) -> Result<bool> {
    // A sender's clock may be ahead by so much.
    let range = TimeRange { from_ns, to_ns: now_ns.saturating_add(AHEAD_LIMIT_NS + 1) };
    let scope = ReadScope::everything();
    let found = run_for_rules(reading, scope, move |scope| {
        errors(scope, &ErrorsAsk { filter: &filter, range, top: MAX_GROUPS, points: 1 })
    })
    .await?;
    let missing = found.explain.stopped.as_ref().or(found.explain.left_out.first());
    if let Some(why) = missing {
        tracing::warn!("not all failures were looked at for new error groups: {why}");
    }
    let is_whole = missing.is_none();
    let config = reading.base.config.get();
    let kept = reading.base.store.kept_groups().await?;
    let (mut seen, mut returned) = (Vec::new(), Vec::new());
    for group in found.groups {
        let releases: Vec<String> = group.releases.iter().map(|(release, _)| release.clone()).collect();
        let of_group = kept.iter().find(|kept| kept.id == group.group.id && kept.said == GroupState::Resolved);
        if of_group.is_some_and(|kept| kept.returned_ns.is_none() && kept.returns(group.last_ns, &releases)) {
            returned.push((group.group.id.clone(), group.last_ns));
        }
        for (lane, first_ns, last_ns) in group.lanes {
            if let Some(lane) = config.by_name(&lane) {
                seen.push(SeenGroup { id: group.group.id.clone(), lane: lane.id, first_ns, last_ns });
            }
        }
    }
    if !seen.is_empty() {
        reading.base.store.put_seen_groups(&seen, &returned).await?;
    }
    Ok(is_whole)
}
