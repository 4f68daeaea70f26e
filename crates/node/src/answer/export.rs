//! Step 11, export: everything a query finds, the oldest first, as lines of JSON, streamed for as long as the client
//! takes them. The last line is the account: `{"account": …}`, by which a client knows that it has all.

use crate::answer::run::run_export;
use crate::answer::search::{plan, range_answer, timed};
use crate::auth::Reader;
use crate::error::{Result, ServiceError};
use crate::state::Reading;
use axum::body::Bytes;
use calvex_answer::search::{Export, export as write_out};
use calvex_wire::api::{ExportAccount, ExportEnd, SearchRequest};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::mpsc;

/// Exports at once; each has a thread for as long as it runs.
pub const AT_ONCE: usize = 2;
/// Events of one export at most, unless asked for fewer.
const MOST: usize = usize::MAX;
/// How long a client may take for what waits for it.
const PATIENCE: Duration = Duration::from_secs(60);

/// Begins an export into `lines`; it ends when it is done or when they are taken no more.
///
/// # Errors
/// Mistakes in the request, or too many exports.
pub async fn begin(
    reading: &Arc<Reading>,
    reader: &Reader,
    ask: SearchRequest,
    lines: mpsc::Sender<Bytes>,
) -> Result<()> {
    let began = Instant::now();
    let plan = plan(reading, &ask)?;
    if plan.query.measure.is_some() {
        return Err(ServiceError::BadRequest("the query measures; ask POST /api/measure for its figures".into()));
    }
    let slot = reading.export_slots.clone().try_acquire_owned();
    let slot = slot.map_err(|_| ServiceError::Busy(format!("{AT_ONCE} exports run already; try again later"), 10))?;
    let (reading, reader) = (reading.clone(), reader.clone());
    let (filter, range, limit, sent) = (plan.query.filter, plan.range, ask.limit.unwrap_or(MOST), ask.sent);
    let query = ask.query;
    tokio::spawn(async move {
        let _slot = slot;
        let runtime = tokio::runtime::Handle::current();
        let give = lines.clone();
        let asking = reader.scope().asking("export", &query, &range);
        let done = run_export(&reading, asking, move |scope| {
            write_out(scope, &Export { filter: &filter, range, limit, sent }, |bytes| {
                runtime.block_on(give.send_timeout(bytes.into(), PATIENCE)).is_ok()
            })
        });
        let end = match done.await {
            Ok((exported, reads)) => ExportEnd::Account(ExportAccount {
                events: exported.events,
                more: exported.more,
                range: range_answer(&range),
                explain: timed(exported.explain, began, reads),
            }),
            Err(e) => ExportEnd::Problem(e.problem()),
        };
        let mut line = serde_json::to_vec(&end).unwrap_or_default();
        line.push(b'\n');
        // A client that has gone needs no account.
        let _ = lines.send_timeout(line.into(), PATIENCE).await;
    });
    Ok(())
}
