//! How things stand: each service against its own usual, what is raised or building, who fell silent or is refused, and
//! the marks of the last hours. Where a shift begins. What follows from events is worked out once for all who may read
//! the same, and kept for some seconds; so fifty viewers cost what one costs.

mod standing;
mod usual;

use crate::answer::reads::record_shown;
use crate::answer::run::run;
use crate::auth::{ReadScope, Reader};
use crate::error::Result;
use crate::intake::ledger::{Asked, arrivals};
use crate::state::Reading;
use calvex_language::model::time::SECOND_NS;
use calvex_wire::api::{Alert, NowAnswer, Refused, Rule};
use parking_lot::Mutex;
use standing::{Standing, WINDOW_S};
use std::collections::HashMap;
use std::sync::Arc;

/// How long a standing is given to others who ask for the same.
const FRESH_NS: i64 = 10 * SECOND_NS;
/// Standings that are kept at most; beyond, those kept longest go.
const MAX_KEPT: usize = 64;

/// A standing, and when it was worked out. The lock is held while it is, so that others who ask for the
/// same wait for it.
type Slot = Arc<tokio::sync::Mutex<Option<(i64, Arc<Standing>)>>>;

/// Standings that were worked out lately, by what may be read.
#[derive(Default)]
pub struct Standings {
    slots: Mutex<HashMap<String, (i64, Slot)>>,
}

impl Standings {
    /// The slot of what may be read ([`ReadScope::key`]).
    fn slot(&self, lanes: String, now_ns: i64) -> Slot {
        let mut slots = self.slots.lock();
        if slots.len() >= MAX_KEPT && !slots.contains_key(&lanes) {
            let oldest = slots.iter().min_by_key(|(_, (used_ns, _))| *used_ns).map(|(lanes, _)| lanes.clone());
            oldest.map(|lanes| slots.remove(&lanes));
        }
        let (used_ns, slot) = slots.entry(lanes).or_default();
        *used_ns = now_ns;
        slot.clone()
    }
}

/// The standing of what this scope may read, worked out anew where it is older than some seconds.
///
/// # Errors
/// Where no search slot is free.
async fn standing(reading: &Arc<Reading>, scope: ReadScope) -> Result<Arc<Standing>> {
    let slot = reading.standings.slot(scope.key(), (reading.base.clock)());
    let mut kept = slot.lock().await;
    let now_ns = (reading.base.clock)();
    // A clock that was set back makes what is kept as old as what lies ahead: it is worked out anew.
    if let Some((at_ns, standing)) = kept.as_ref()
        && (0..FRESH_NS).contains(&(now_ns - at_ns))
    {
        record_shown(reading, &scope, &format!(", as of {}", standing.at)).await?;
        return Ok(standing.clone());
    }
    let standing = Arc::new(run(reading, scope, move |scope| Standing::of(scope, now_ns)).await?);
    *kept = Some((now_ns, standing.clone()));
    Ok(standing)
}

/// How things stand, for this reader.
///
/// # Errors
/// Where the database fails, or no search slot is free.
pub async fn now(reading: &Arc<Reading>, reader: &Reader, alerts: Vec<Alert>, rules: &[Rule]) -> Result<NowAnswer> {
    let mut scope = reader.scope();
    "how things stand".clone_into(&mut scope.asking);
    let standing = standing(reading, scope).await?;
    let arrivals = arrivals(&reading.base, reader, Asked { hours: 1, ..Asked::default() }).await?;
    let Standing { at, usual_of, services, silent, marks, mut left_out } = standing.as_ref().clone();
    left_out.extend(reading.base.nodes.unseen(&reading.base.claim));
    Ok(NowAnswer {
        at,
        window_s: WINDOW_S as u32,
        usual_of,
        services,
        alerts: alerts.into_iter().filter(|a| a.ended.is_none()).collect(),
        building: rules.iter().filter(|r| r.state == "building").map(|r| r.name.clone()).collect(),
        silent,
        refused: arrivals.refused.into_iter().map(|r| Refused { sample: None, ..r }).collect(),
        marks,
        left_out,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_kept_is_bounded() {
        let standings = Standings::default();
        let first = standings.slot("0".into(), 0);
        for lane in 1..200 {
            standings.slot(lane.to_string(), lane);
        }
        assert_eq!(standings.slots.lock().len(), MAX_KEPT);
        assert!(!Arc::ptr_eq(&first, &standings.slot("0".into(), 200)), "the one unused longest went");
        assert!(Arc::ptr_eq(&standings.slot("199".into(), 201), &standings.slot("199".into(), 202)));
        assert!(!Arc::ptr_eq(&standings.slot("199".into(), 203), &standings.slot("198, 199".into(), 204)));
    }
}
