//! Which error groups were seen when: what makes a group new, and what makes one return. The newest failures are looked at
//! again and again; looking at one twice changes nothing.

use crate::answer::search::run_for_rules;
use crate::auth::ReadScope;
use crate::error::Result;
use crate::state::Reading;
use calvex_answer::errors::{ErrorsAsk, errors};
use calvex_language::domain::error_group::{GroupState, SeenGroup};
use calvex_language::model::time::SECOND_NS;
use calvex_language::query::{Filter, TimeRange};
use std::sync::Arc;

/// Failures may come so much later than they happened.
const LATE_NS: i64 = 600 * SECOND_NS;
/// Groups of one turn at most; those with the most failures are seen first.
const MAX_GROUPS: usize = 2000;

/// Looks at the failures since the last turn. `until_ns` is how far the last one came; none at the first.
///
/// # Errors
/// Where the database fails.
pub async fn see_once(reading: &Arc<Reading>, until_ns: &mut Option<i64>) -> Result<()> {
    let now_ns = (reading.base.clock)();
    if until_ns.is_none() {
        *until_ns = reading.base.store.groups_seen_until().await?;
    }
    // At the very first everything that is there.
    let from_ns = until_ns.map_or(0, |until| until.min(now_ns).saturating_sub(LATE_NS));
    let range = TimeRange { from_ns, to_ns: now_ns.saturating_add(1) };
    let scope = ReadScope::of_lanes(None::<Vec<u32>>);
    let found = run_for_rules(reading, scope, move |scope| {
        errors(scope, &ErrorsAsk { filter: &Filter::All, range, top: MAX_GROUPS, points: 1 })
    })
    .await?;
    if let Some(why) = found.explain.stopped {
        tracing::warn!("not all failures were looked at for new error groups: {why}");
    }
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
    *until_ns = Some(now_ns);
    Ok(())
}
