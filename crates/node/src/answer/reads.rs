//! What is said of the reading itself: the counters of an answer, and the record of who read a lane that asks for it.

use crate::auth::ReadScope;
use crate::error::Result;
use crate::state::Reading;
use calvex_answer::scan::Explanation;
use std::collections::HashMap;
use std::time::Instant;

/// Records that somebody read, in each lane that asks for it: nothing is answered that could not be recorded.
pub(super) async fn record_read(reading: &Reading, scope: &ReadScope, passed: &HashMap<String, u64>) -> Result<()> {
    let Some(reader) = &scope.watched else { return Ok(()) };
    let config = reading.base.config.get();
    for lane in config.lanes().into_iter().filter(|lane| lane.audited && scope.may_read(lane.id)) {
        let events = passed.get(&lane.name).copied().unwrap_or(0);
        let what = format!("{}: {}; {events} events passed", lane.name, scope.asking);
        reading.base.store.audit(&reader.act(&reading.base, "read lane", what)).await?;
    }
    Ok(())
}

/// Records in each lane that asks for it that somebody reads what is not counted here: what comes from now on, or what was
/// worked out lately for others who may read the same.
pub(super) async fn record_shown(reading: &Reading, scope: &ReadScope, more: &str) -> Result<()> {
    let Some(reader) = &scope.watched else { return Ok(()) };
    let config = reading.base.config.get();
    for lane in config.lanes().into_iter().filter(|lane| lane.audited && scope.may_read(lane.id)) {
        let what = format!("{}: {}{more}", lane.name, scope.asking);
        reading.base.store.audit(&reader.act(&reading.base, "read lane", what)).await?;
    }
    Ok(())
}

/// What was read for an answer, and whether that is shown.
#[derive(Debug, Clone, Default)]
pub struct Reads {
    pub(super) segments: u64,
    pub(super) bytes: u64,
    pub(super) restricted: bool,
    /// Which nodes were not looked at lately.
    pub(super) unseen: Option<String>,
}

/// Fills the timing and I/O counters. Whoever reads a part gets neither: they are of other events too.
pub fn timed(explain: Explanation, began: Instant, reads: Reads) -> Explanation {
    let mut explain = match reads.restricted {
        true => Explanation { left_out: explain.left_out, stopped: explain.stopped, ..Explanation::default() },
        false => explain,
    };
    explain.left_out.extend(reads.unseen);
    if !reads.restricted {
        (explain.segments_read, explain.fetched_bytes) = (reads.segments, reads.bytes);
    }
    explain.took_us = u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX);
    explain
}
