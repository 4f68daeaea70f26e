//! What deviations measured on their own past days is kept, so that a rule knows its usual where events are gone already.

use crate::answer::search::run_for_rules;
use crate::auth::ReadScope;
use crate::error::Result;
use crate::state::Reading;
use calvex_answer::watch::{Rule as Compiled, RuleDocument, USUAL_DAY_NS, USUAL_DAYS, encode_usual_day, usual_day};
use calvex_language::domain::rule::Rule;
use calvex_store::records::usual::KeptDay;
use std::sync::Arc;

/// Days that are measured in one turn: each reads a day's events.
const MAX_TURN: usize = 8;

/// Keeps days that are over and not kept yet, a few a turn.
///
/// # Errors
/// Where the database fails.
pub async fn keep_once(reading: &Arc<Reading>) -> Result<()> {
    let base = &reading.base;
    let mut left = MAX_TURN;
    for rule in base.store.rules().await? {
        let Ok(compiled) = RuleDocument::read(&rule.document, base.config.get().ties()) else { continue };
        let Some(key) = compiled.usual_key() else { continue };
        let now_ns = (base.clock)();
        // A day is kept once no event of it is judged again.
        let today = (now_ns - compiled.delay_ns - compiled.late_ns).div_euclid(USUAL_DAY_NS);
        let kept = base.store.usual_days(rule.id, key).await?;
        for day in (today - USUAL_DAYS + 1..today).rev() {
            if left == 0 {
                return Ok(());
            }
            let Ok(number) = i32::try_from(day) else { continue };
            if kept.contains(&number) {
                continue;
            }
            left -= 1;
            if let Some(figures) = day_of(reading, &rule, &compiled, day).await? {
                let kept = KeptDay { day: number, step_ns: compiled.step_ns, figures };
                base.store.keep_usual(rule.id, key, &kept).await?;
            }
        }
    }
    Ok(())
}

/// A day's figures as its rule's owner sees them, packed; none where they cannot be read whole.
async fn day_of(reading: &Arc<Reading>, rule: &Rule, compiled: &Compiled, day: i64) -> Result<Option<Vec<u8>>> {
    let lanes = reading.base.store.lanes_of_user(rule.owner_id, rule.owner_role).await?;
    let asked = compiled.clone();
    let figures =
        run_for_rules(reading, ReadScope::of_lanes(lanes), move |scope| usual_day(scope, &asked, day)).await?;
    let bytes = figures.and_then(|figures| encode_usual_day(&figures));
    Ok(bytes.and_then(|bytes| zstd::encode_all(bytes.as_slice(), 3).ok()))
}
