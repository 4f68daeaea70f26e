//! Segments that nothing names, of claims that are over. They are listed when a node starts or adopts another one, and removed
//! once no search can read them that began before, and no chunk is being moved that was then.

use crate::config::settings::Settings;
use crate::error::Result;
use crate::state::{Base, Upkeep};
use calvex_language::model::time::SECOND_NS;
use std::ops::RangeInclusive;
use std::sync::Arc;

/// How long what was replaced stays readable beyond the longest search.
const MARGIN_NS: i64 = 30 * SECOND_NS;

/// The longest that what is in the catalogue now may still be read, whatever happens to it.
pub fn longest_read_ns(settings: &Settings) -> i64 {
    settings.number("search.timeout_s") as i64 * SECOND_NS + MARGIN_NS
}

/// Lists segments under these ids that nothing names, beside whatever else is done. Where the database fails, the next start
/// of their slot lists them.
pub fn list_orphans(upkeep: &Arc<Upkeep>, ids: RangeInclusive<u64>) {
    let upkeep = upkeep.clone();
    tokio::spawn(async move {
        let Base { store, clock, settings, .. } = &*upkeep.base;
        match store.orphans(&ids).await {
            Ok(listed) if listed.is_empty() => {}
            Ok(listed) => upkeep.orphans.lock().push((clock() + longest_read_ns(settings), listed)),
            Err(e) => tracing::warn!("segments that nothing names were not listed: {e}"),
        }
    });
}

/// Removes what was listed for long enough and is not named now either.
///
/// # Errors
/// Where the database fails; the next start of their slot lists them.
pub async fn sweep_listed(upkeep: &Upkeep) -> Result<()> {
    let Base { store, clock, .. } = &*upkeep.base;
    let now_ns = clock();
    let due: Vec<_> = upkeep.orphans.lock().extract_if(.., |(due_ns, _)| *due_ns <= now_ns).collect();
    for (_, listed) in due {
        let swept = store.sweep_listed(&listed).await?;
        tracing::info!(swept, "segments that nothing names were removed");
    }
    Ok(())
}
