//! What deviations measured on their own past days is kept, so that a rule knows its usual where events are gone already.

use calvex_answer::watch::{Rule as Compiled, RuleDocument, USUAL_DAY_NS, USUAL_DAYS, encode_usual_day, usual_day};
use calvex_node::answer::run::run_for_rules;
use calvex_node::auth::ReadScope;
use calvex_node::error::Result;
use calvex_node::state::Reading;
use calvex_store::records::usual::KeptDay;
use std::collections::HashMap;
use std::sync::Arc;

/// Days that are measured in one turn: each reads a day's events.
const MAX_TURN: usize = 8;

/// A day that could not be kept is tried again after so long: what is damaged stays so.
const AGAIN_NS: i64 = 6 * 3_600_000_000_000;

/// Keeps days that are over.
pub struct Keeper {
    reading: Arc<Reading>,
    /// Days that could not be kept, by their figures' key, and when they are tried again.
    failed: HashMap<(u32, u64, i32), i64>,
}

impl Keeper {
    /// One that has kept nothing yet.
    pub fn new(reading: Arc<Reading>) -> Self {
        Keeper { reading, failed: HashMap::new() }
    }

    /// Keeps days that are not kept yet, a few a turn.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn run(&mut self) -> Result<()> {
        let reading = self.reading.clone();
        let (base, now_ns) = (&reading.base, (reading.base.clock)());
        self.failed.retain(|_, again_ns| *again_ns > now_ns);
        let mut left = MAX_TURN;
        for rule in base.store.rules().await? {
            let Ok(compiled) = RuleDocument::read(&rule.document, base.config.get().ties()) else { continue };
            let scope = ReadScope::of_held(base.store.held_by_rule(rule.owner_id, rule.team_id, now_ns).await?);
            let Some(key) = compiled.usual_key(&scope.key()) else { continue };
            // A day is kept once no event of it is judged again.
            let today = (now_ns - compiled.delay_ns - compiled.late_ns).div_euclid(USUAL_DAY_NS);
            let kept = base.store.usual_days(rule.id, key).await?;
            for day in (today - USUAL_DAYS + 1..today).rev() {
                let Ok(number) = i32::try_from(day) else { continue };
                if kept.contains(&number) || self.failed.contains_key(&(rule.id, key, number)) {
                    continue;
                }
                if left == 0 {
                    return Ok(());
                }
                left -= 1;
                match day_of(&reading, scope.clone(), &compiled, day).await? {
                    Some(figures) => {
                        let kept = KeptDay { day: number, step_ns: compiled.step_ns, figures };
                        base.store.keep_usual(rule.id, key, &kept).await?;
                    }
                    None => {
                        self.failed.insert((rule.id, key, number), now_ns + AGAIN_NS);
                    }
                }
            }
        }
        Ok(())
    }
}

/// A day's figures as its rule's owner sees them, packed; none where they cannot be read whole.
async fn day_of(reading: &Arc<Reading>, scope: ReadScope, compiled: &Compiled, day: i64) -> Result<Option<Vec<u8>>> {
    let asked = compiled.clone();
    let figures = run_for_rules(reading, scope, move |scope| usual_day(scope, &asked, day)).await?;
    let bytes = figures.and_then(|figures| encode_usual_day(&figures));
    Ok(bytes.and_then(|bytes| zstd::encode_all(bytes.as_slice(), 3).ok()))
}
