//! Lanes, routes, chunks: what an administrator sets up and looks after.

use super::setter::{AskedTeam, Setter, is_shown};
use crate::jobs;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use calvex_language::domain::grant::May;
use calvex_language::model::time::format_utc;
use calvex_language::query::parse_filter;
use calvex_node::answer::run::run;
use calvex_node::auth::{Admin, Editor, ReadScope, Reader};
use calvex_node::error::{Result, ServiceError};
use calvex_node::http::ask::Ask;
use calvex_node::nodes::Duty;
use calvex_node::state::{Auth, Base, Reading, Upkeep};
use calvex_storage::chunk::{ChunkDescription, describe};
use calvex_store::StoreError;
use calvex_store::records::lanes::LaneTerms;
use calvex_wire::api::{ChunkSummary, Lane, NodeChange, NodeListed, Route};
use serde_json::{Value, json};
use std::sync::Arc;

/// Longest retention, in days.
const MAX_RETENTION: u32 = 36_500;

/// Whether something can be called so.
pub(super) fn check_name(name: &str) -> Result<()> {
    let good = |c: char| c.is_ascii_alphanumeric() || "-_.".contains(c);
    if name.is_empty() || name.len() > 64 || !name.chars().all(good) {
        return Err(ServiceError::BadRequest(format!(
            "`{name}` cannot be a name; use 1 to 64 letters, digits, `-`, `_` and `.`"
        )));
    }
    Ok(())
}

/// `GET /api/lanes`: those that may be read.
pub async fn lanes(State(reading): State<Arc<Reading>>, reader: Reader) -> Json<Vec<Lane>> {
    let (config, scope) = (reading.base.config.get(), reader.scope());
    let readable = config.lanes().into_iter().filter(|l| reader.may_read(l.id));
    let reported = readable.map(|l| {
        let counted = if scope.reads_all_rows(l.id) { reading.view.sealed_size(l.id) } else { (0, 0) };
        let (sealed_events, sealed_bytes) = counted;
        Lane {
            name: l.name.clone(),
            retention_days: l.retention_days,
            listed: l.listed,
            day_events: l.day_events,
            day_bytes: l.day_bytes,
            owner: l.owner.clone(),
            audited: Some(l.audited),
            sealed_events,
            sealed_bytes,
        }
    });
    Json(reported.collect())
}

/// `PUT /api/lanes/{name}`: makes a lane, or changes its terms. An administrator makes one; whoever manages it changes it
/// too, but for its owner.
pub async fn put_lane(
    State(upkeep): State<Arc<Upkeep>>,
    State(auth): State<Arc<Auth>>,
    Editor(reader): Editor,
    Path(name): Path<String>,
    Ask(lane): Ask<Lane>,
) -> Result<StatusCode> {
    check_name(&name)?;
    if lane.name != name {
        return Err(ServiceError::BadRequest(format!(
            "the lane is called `{name}` in the address and `{}` in the body",
            lane.name
        )));
    }
    if !(1..=MAX_RETENTION).contains(&lane.retention_days) {
        return Err(ServiceError::BadRequest(format!("retention_days must be 1 to {MAX_RETENTION}")));
    }
    let base = &upkeep.base;
    let config = base.config.get();
    let known = config.by_name(&name);
    let manages = known.is_some_and(|known| reader.may(known.id, May::Manage));
    // Who is given a lane has it: an administrator gives away what is nobody's, and whoever manages it what is theirs.
    let owner = match lane.owner.as_deref() {
        None => known.and_then(|known| known.owner.as_deref()),
        Some(owner) => Some(owner).filter(|owner| !owner.is_empty()),
    };
    let gives = owner != known.and_then(|known| known.owner.as_deref());
    let nobodys = match known {
        Some(known) if gives => !base.store.is_managed(known.id, (base.clock)()).await?,
        _ => true,
    };
    if !(manages || reader.who.administers && nobodys) {
        return Err(ServiceError::NotAllowed(format!(
            "`{name}` is not yours to change; ask whoever manages it, or an administrator for a lane that is new"
        )));
    }
    let mut act = reader.act(base, "put lane", serde_json::to_string(&lane).unwrap_or_default());
    act.before = known.map(|known| format!("{known:?}"));
    let terms = LaneTerms {
        name: &name,
        retention_days: lane.retention_days,
        listed: lane.listed,
        day_events: lane.day_events,
        day_bytes: lane.day_bytes,
        owner,
        audited: lane.audited.unwrap_or(known.is_some_and(|known| known.audited)),
    };
    let maker = reader.who.team.is_none().then_some(reader.who.name.as_str());
    base.store.put_lane(&terms, maker, &act).await?;
    base.reload_config().await?;
    auth.readers.clear();
    jobs::reread_chunks(&upkeep).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// `GET /api/routes`: all for an administrator, those of one's own teams for others.
pub async fn routes(State(base): State<Arc<Base>>, reader: Reader) -> Result<Json<Vec<Route>>> {
    let config = base.config.get();
    let seen = base.store.routes().await?.into_iter().filter(|route| is_shown(&reader, route.team.as_ref()));
    let listed = seen.map(|route| Route {
        filter: route.filter,
        lane: config.name(route.lane).to_string(),
        team: route.team.map(|team| team.name),
    });
    Ok(Json(listed.collect()))
}

/// `PUT /api/routes`: replaces all of a team, or of the service.
pub async fn put_routes(
    State(base): State<Arc<Base>>,
    Editor(editor): Editor,
    Query(asked): Query<AskedTeam>,
    Ask(routes): Ask<Vec<Route>>,
) -> Result<StatusCode> {
    let config = base.config.get();
    let setter = Setter::of(&base, &editor, &asked).await?;
    let most = setter.room_for(routes.len(), "routes")?;
    let mut rows = Vec::new();
    for route in &routes {
        if route.team.as_ref().is_some_and(|team| Some(team) != setter.team.as_ref().map(|team| &team.name)) {
            return Err(ServiceError::BadRequest("a route of another team stands among them; leave it out".into()));
        }
        parse_filter(&route.filter).map_err(ServiceError::Query)?;
        let lane = config.by_name(&route.lane).ok_or_else(|| StoreError::Missing(format!("lane `{}`", route.lane)))?;
        if !setter.may_configure(lane.id) {
            return Err(ServiceError::NotAllowed(format!(
                "nothing may be routed into `{}` by this team; ask whoever manages the lane",
                lane.name
            )));
        }
        rows.push((route.filter.clone(), lane.id));
    }
    let words = |routes: &[(String, u32)]| {
        let one = |(filter, lane): &(String, u32)| format!("`{filter}` to {}", config.name(*lane));
        routes.iter().map(one).collect::<Vec<_>>().join(", ")
    };
    let mut act = editor.act(&base, "put routes", setter.in_words(&words(&rows)));
    let before = base.store.routes().await?.into_iter().filter(|route| route.team == setter.team);
    act.before = Some(words(&before.map(|route| (route.filter, route.lane)).collect::<Vec<_>>()));
    base.store.put_routes(setter.team_id(), &rows, most, &act).await?;
    base.reload_config().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// `GET /api/nodes`
pub async fn nodes(State(base): State<Arc<Base>>, _admin: Admin) -> Result<Json<Vec<NodeListed>>> {
    let alone = base.nodes.is_alone();
    let owners = base.store.duty_owners().await?;
    let duties_of = |n: &calvex_store::Node| -> Vec<String> {
        if alone {
            // Nobody else could have any.
            return Duty::ALL.iter().filter(|_| n.alive).map(|duty| duty.name().to_owned()).collect();
        }
        let own = owners.iter().filter(|o| (o.slot, o.epoch) == (n.slot, n.epoch));
        own.map(|o| o.duty.clone()).collect()
    };
    let reported = |n: calvex_store::Node| {
        let duties = duties_of(&n);
        let still_s = Some(base.nodes.still_for(&n).as_secs()).filter(|s| n.alive && *s >= 2);
        let answers = n.slot == base.claim.slot;
        let calvex_store::Node { slot, name, epoch, beat, alive, version, draining, looked_ms, server, url } = n;
        name.map(|name| NodeListed {
            name,
            slot,
            epoch,
            beat,
            alive,
            version,
            draining,
            duties,
            looked_ms,
            server,
            url,
            still_s,
            answers,
        })
    };
    Ok(Json(base.store.nodes().await?.into_iter().filter_map(reported).collect()))
}

/// `PUT /api/nodes/{name}`
pub async fn change_node(
    State(base): State<Arc<Base>>,
    Admin(admin): Admin,
    Path(name): Path<String>,
    Ask(NodeChange { draining }): Ask<NodeChange>,
) -> Result<StatusCode> {
    if base.nodes.is_alone() && draining {
        let why = "this node is alone on its database: nobody would take its events or its duties; stop it instead";
        return Err(ServiceError::BadRequest(why.into()));
    }
    let act = admin.act(&base, if draining { "drain node" } else { "end draining of node" }, name.clone());
    base.store.drain(&name, draining, &act).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// `DELETE /api/nodes/{name}`
pub async fn retire_node(
    State(base): State<Arc<Base>>,
    Admin(admin): Admin,
    Path(name): Path<String>,
) -> Result<StatusCode> {
    base.store.retire(&name, &admin.act(&base, "retire node", name.clone())).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// `POST /api/expire`: drops what is due now instead of at the next turn of the job.
pub async fn expire(State(upkeep): State<Arc<Upkeep>>, Admin(admin): Admin) -> Result<Json<Value>> {
    upkeep.base.store.audit(&admin.act(&upkeep.base, "expire", "what is due")).await?;
    Ok(Json(json!({ "buckets_dropped": jobs::expire(&upkeep, true).await? })))
}

/// `POST /api/secrets/rotate`: a new key for the secrets that are given back; all are sealed by it.
pub async fn rotate_secrets(State(base): State<Arc<Base>>, Admin(admin): Admin) -> Result<Json<Value>> {
    let act = admin.act(&base, "rotate secrets' key", "");
    Ok(Json(json!({ "secrets_sealed": base.store.rotate_secrets(rand::random(), &act).await? })))
}

/// `POST /api/seal`: seals every head now.
pub async fn seal(State(upkeep): State<Arc<Upkeep>>, Admin(admin): Admin) -> Result<Json<Value>> {
    upkeep.base.store.audit(&admin.act(&upkeep.base, "seal", "every head")).await?;
    Ok(Json(json!({ "heads_sealed": jobs::seal_all(&upkeep).await? })))
}

/// `POST /api/merge`: merges every chunk that can be merged, now.
pub async fn merge(State(upkeep): State<Arc<Upkeep>>, Admin(admin): Admin) -> Result<Json<Value>> {
    upkeep.base.store.audit(&admin.act(&upkeep.base, "merge", "what can be merged")).await?;
    Ok(Json(json!({ "chunks_replaced": jobs::merge_all(&upkeep).await? })))
}

/// `DELETE /api/cache`: forgets every chunk part and column kept near at hand; answers are the same, only slower.
pub async fn clear_cache(State(reading): State<Arc<Reading>>, Admin(admin): Admin) -> Result<StatusCode> {
    reading.base.store.audit(&admin.act(&reading.base, "forget cache", "")).await?;
    reading.cache.clear(true);
    reading.columns.iter().for_each(calvex_store::ColumnCache::clear);
    reading.rule_columns.clear();
    Ok(StatusCode::NO_CONTENT)
}

/// `GET /api/chunks`: every chunk, newest first.
pub async fn chunks(State(reading): State<Arc<Reading>>, _admin: Admin) -> Json<Vec<ChunkSummary>> {
    let config = reading.base.config.get();
    let mut rows = reading.view.chunks();
    rows.sort_by_key(|c| std::cmp::Reverse((c.time_max, c.id)));
    let summary = |c: calvex_storage::chunk::ChunkMeta| ChunkSummary {
        id: format!("{:x}", c.id),
        lane: config.name(c.lane).to_string(),
        from: format_utc(c.time_min, 9),
        to: format_utc(c.time_max, 9),
        rows: c.rows,
        bytes: c.bytes,
        segments: c.segments,
        late: c.late,
    };
    Json(rows.into_iter().map(summary).collect())
}

/// `GET /api/chunks/{id}`: a chunk's segments, columns, sizes and encodings.
pub async fn chunk(
    State(reading): State<Arc<Reading>>,
    _admin: Admin,
    Path(id): Path<String>,
) -> Result<Json<ChunkDescription>> {
    let row = u64::from_str_radix(&id, 16).ok().and_then(|id| reading.view.chunk(id));
    let row = row.ok_or_else(|| StoreError::Missing(format!("chunk `{id}`; GET /api/chunks lists them")))?;
    let described = run(&reading, ReadScope::nothing(), move |scope| {
        scope.source.directory(row.id).and_then(|d| describe(&d, row.segments, scope.source))
    });
    Ok(Json(described.await?.map_err(StoreError::Core)?))
}
