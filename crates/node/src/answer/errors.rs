//! Error groups: failures folded into problems, with what people have said about each.

use super::run::{Listener, run_following};
use super::search::{plan, range_answer, timed};
use crate::auth::{ReadScope, Reader};
use crate::error::{Result, ServiceError};
use crate::state::Reading;
use calvex_answer::errors::{Errors, ErrorsAsk, FoundGroup, errors as work_out};
use calvex_language::domain::error_group::{GroupState, KeptGroup, SeenGroup};
use calvex_language::model::template::shown;
use calvex_language::model::time::{DAY_NS, format_utc};
use calvex_language::model::to_hex;
use calvex_language::query::{TimeRange, parse_filter};
use calvex_store::StoreError;
use calvex_wire::api::{
    ErrorExample, ErrorGroup, ErrorsAnswer, ErrorsRequest, FailedRelease, SaidOfGroup, SayOfGroup, SearchRequest,
};
use std::collections::HashMap;
use std::sync::Arc;
use std::time::Instant;

/// Groups where the request names no number, and at most.
const TOP: usize = 100;
const MAX_TOP: usize = 500;
/// Points of a trend where the request names no number; the engine has the most.
const POINTS: usize = 24;
/// Longest name of a release, and longest note, in characters.
const MAX_RELEASE: usize = 128;
const MAX_NOTE: usize = 512;
/// Releases that failed lately are looked for over so long.
const FAILED_LATELY_NS: i64 = 7 * DAY_NS;

/// Folds the failures of a range.
///
/// # Errors
/// Mistakes in the request.
pub async fn errors(
    reading: &Arc<Reading>,
    reader: &Reader,
    ask: ErrorsRequest,
    listener: Option<Listener>,
) -> Result<ErrorsAnswer> {
    let began = Instant::now();
    let request = SearchRequest { query: ask.query, from: ask.from, to: ask.to, zone: ask.zone, ..Default::default() };
    let plan = plan(reading, &request)?;
    if plan.query.measure.is_some() {
        return Err(ServiceError::BadRequest("error groups take a filter; leave `measure` out".into()));
    }
    let (filter, range) = (plan.query.filter.clone(), plan.range);
    let top = ask.top.unwrap_or(TOP).clamp(1, MAX_TOP);
    let points = ask.points.unwrap_or(POINTS);
    let asking = reader.scope().asking("error groups", &request.query, &range);
    let (found, reads) = run_following(reading, asking, listener, move |scope| {
        work_out(scope, &ErrorsAsk { filter: &filter, range, top, points })
    })
    .await?;
    let Errors { groups, group_count, failures, uncounted, explain } = found;
    let kept = reading.base.store.kept_groups().await?;
    let kept: HashMap<&str, &KeptGroup> = kept.iter().map(|group| (group.id.as_str(), group)).collect();
    let ids: Vec<&str> = groups.iter().map(|group| group.group.id.as_str()).collect();
    // What a lane that may not be read knows of a group is not shown.
    let scope = reader.scope();
    let mut seen: HashMap<String, Vec<SeenGroup>> = HashMap::new();
    for one in reading.base.store.seen_groups(&ids).await?.into_iter().filter(|one| scope.reads_all_rows(one.lane)) {
        seen.entry(one.id.clone()).or_default().push(one);
    }
    let reported = |group: FoundGroup| {
        let (kept, seen) = (kept.get(group.group.id.as_str()).copied(), seen.get(&group.group.id));
        answer_of(group, kept, seen.map_or(&[][..], Vec::as_slice))
    };
    Ok(ErrorsAnswer {
        groups: groups.into_iter().map(reported).collect(),
        group_count,
        failures,
        uncounted,
        range: range_answer(&range),
        explain: timed(explain, began, reads),
    })
}

fn answer_of(found: FoundGroup, kept: Option<&KeptGroup>, seen: &[SeenGroup]) -> ErrorGroup {
    let releases: Vec<String> = found.releases.iter().map(|(release, _)| release.clone()).collect();
    let since_ns = seen.iter().map(|one| one.first_ns).fold(found.first_ns, i64::min);
    let group = found.group;
    ErrorGroup {
        id: group.id,
        state: kept.map_or(GroupState::New, |kept| kept.state(found.last_ns, &releases)).name().to_owned(),
        said: kept.map(|kept| SaidOfGroup {
            by: kept.said_by.clone(),
            at: format_utc(kept.said_ns, 0),
            release: kept.release.clone(),
            note: kept.note.clone(),
        }),
        service: found.service,
        error: group.error,
        cause: group.cause,
        language: group.language.map(|language| language.name().to_owned()),
        frames: group.frames,
        message: shown(&group.shape),
        count: found.count,
        first: format_utc(found.first_ns, 9),
        last: format_utc(found.last_ns, 9),
        since: format_utc(since_ns, 9),
        trend: found.trend,
        releases: found.releases.into_iter().map(|(release, count)| FailedRelease { release, count }).collect(),
        lanes: found.lanes.into_iter().map(|(lane, ..)| lane.to_string()).collect(),
        example: ErrorExample {
            time: format_utc(found.example.time_ns, 9),
            id: found.example.id.to_string(),
            trace: found.example.trace.map(|id| to_hex(&id)),
        },
    }
}

/// Keeps what somebody says about a group.
///
/// # Errors
/// Where the group was not seen in a lane that the reader may read, or the request is wrong.
pub async fn say(reading: &Arc<Reading>, reader: &Reader, id: &str, ask: SayOfGroup) -> Result<()> {
    let said = match GroupState::from_name(&ask.state) {
        Some(said) if said != GroupState::Returned => said,
        _ => {
            return Err(ServiceError::BadRequest(format!(
                "`{}` is no state that can be said; write new, known or resolved",
                ask.state
            )));
        }
    };
    let release = ask.release.filter(|release| !release.is_empty());
    if release.is_some() && said != GroupState::Resolved {
        return Err(ServiceError::BadRequest("only what is resolved is resolved in a release".into()));
    }
    if release.as_ref().is_some_and(|release| release.chars().count() > MAX_RELEASE) {
        return Err(ServiceError::BadRequest(format!("a release has at most {MAX_RELEASE} characters; shorten it")));
    }
    if ask.note.chars().count() > MAX_NOTE {
        return Err(ServiceError::BadRequest(format!("a note has at most {MAX_NOTE} characters; shorten it")));
    }
    let missing = || StoreError::Missing(format!("error group `{id}`"));
    // Only an id is looked up: the store takes several joined by commas.
    if id.len() != 16 || !id.bytes().all(|b| b.is_ascii_digit() || (b'a'..=b'f').contains(&b)) {
        return Err(missing().into());
    }
    let now_ns = (reading.base.clock)();
    let found = lately(reading, reader.scope(), id, now_ns).await?;
    let seen = reading.base.store.seen_groups(&[id]).await?;
    let scope = reader.scope();
    let seen_ns = seen.iter().filter(|one| scope.reads_all_rows(one.lane)).map(|one| one.last_ns).max();
    let Some(last_ns) = found.as_ref().map(|group| group.last_ns).max(seen_ns) else {
        return Err(missing().into());
    };
    let failed_releases = found.map(|group| group.releases).unwrap_or_default();
    let group = KeptGroup {
        id: id.to_owned(),
        said,
        // What a clock that runs ahead has sent already is no return.
        said_ns: now_ns.max(last_ns),
        said_by: reader.who.name.clone(),
        failed_releases: failed_releases
            .into_iter()
            .map(|(name, _)| name)
            .filter(|n| Some(n) != release.as_ref())
            .collect(),
        release,
        note: ask.note,
        returned_ns: None,
    };
    let act = reader.act(&reading.base, "error group", format!("{id} {}", said.name()));
    reading.base.store.say_of_group(&group, &act).await?;
    Ok(())
}

/// A group as it failed lately.
async fn lately(reading: &Arc<Reading>, scope: ReadScope, id: &str, now_ns: i64) -> Result<Option<FoundGroup>> {
    let Ok(filter) = parse_filter(&format!("error_group={id}")) else { return Ok(None) };
    let range = TimeRange { from_ns: now_ns.saturating_sub(FAILED_LATELY_NS), to_ns: now_ns };
    let ask = move |scope: &calvex_answer::scan::Scope| {
        work_out(scope, &ErrorsAsk { filter: &filter, range, top: 1, points: 1 })
    };
    let (found, _) = run_following(reading, scope, None, ask).await?;
    Ok(found.groups.into_iter().next())
}
