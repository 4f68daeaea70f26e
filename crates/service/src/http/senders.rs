//! Keys and dials: who sends, and how much of what is sent is kept.

use super::admin::check_name;
use super::setter::{AskedTeam, Setter, is_shown};
use super::sharing::team_for;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use calvex_intake::dial::{Asker, published};
use calvex_language::domain::access::SecretKind;
use calvex_language::domain::kept::StoredDial;
use calvex_language::domain::key as stored;
use calvex_language::model::Severity;
use calvex_language::model::time::{format_utc, parse_time};
use calvex_language::query::{Builtin, parse_filter};
use calvex_node::auth::secrets::new_secret;
use calvex_node::auth::{Admin, Editor, Reader};
use calvex_node::error::{Result, ServiceError};
use calvex_node::http::ask::Ask;
use calvex_node::intake::probe::{PROBE_SERVICE, probe};
use calvex_node::intake::sender::sender;
use calvex_node::state::{Auth, Reading, Receiving};
use calvex_store::StoreError;
use calvex_wire::api::{Dial, Key, KeyLimits, KeySecret, MadeSecret, NewDial, NewKey, Probed, Rotation, SearchRequest};
use sha2::{Digest, Sha256};
use std::sync::Arc;

const SECOND_NS: i64 = 1_000_000_000;
/// Longest overlap of a rotation, and longest time of a dial.
const MAX_SPAN_S: u64 = 400 * 86_400;
/// How often senders are asked to look after dials, seconds.
const POLL_S: u32 = 15;

pub(super) fn seconds(ns: i64) -> String {
    format_utc(ns, 0)
}

/// `GET /api/keys`
pub async fn keys(
    State(auth): State<Arc<Auth>>,
    State(receiving): State<Arc<Receiving>>,
    Editor(reader): Editor,
) -> Result<Json<Vec<Key>>> {
    // What was counted this moment belongs to the answer.
    calvex_node::intake::ledger::write(&auth.base).await?;
    let config = auth.base.config.get();
    let now_ns = (auth.base.clock)();
    let reported = |k: stored::KeyListed| {
        let limits = &k.key.limits;
        let ended = limits.ends_ns.is_some_and(|ends| ends <= now_ns)
            || k.secrets.iter().all(|s| s.ends_ns.is_some_and(|ends| ends <= now_ns));
        let state = match (k.revoked_ns.is_some(), ended) {
            (true, _) => "revoked",
            (false, true) => "ended",
            _ => "in use",
        };
        Key {
            fixed: serde_json::from_str(&k.key.fixed).unwrap_or_default(),
            limits: KeyLimits {
                services: limits.services.clone(),
                lanes: limits.lanes.iter().map(|l| config.name(*l).to_string()).collect(),
                per_second: limits.rate,
                day_events: limits.day_events,
                day_bytes: limits.day_bytes,
                until: limits.ends_ns.map(seconds),
                past: limits.past,
            },
            created: seconds(k.created_ns),
            revoked: k.revoked_ns.map(seconds),
            last_used: k.last_ns.map(|ns| format_utc(ns, 3)),
            state: state.to_owned(),
            secrets: k
                .secrets
                .into_iter()
                .map(|s| KeySecret { prefix: s.prefix, created: seconds(s.created_ns), until: s.ends_ns.map(seconds) })
                .collect(),
            used_today: receiving.limits.used_by(&k.key.name, now_ns),
            team: k.team,
            name: k.key.name,
        }
    };
    let own = teams_of(&auth, &reader).await?;
    let seen = |k: &stored::KeyListed| reader.who.administers || k.team.as_ref().is_some_and(|t| own.contains(t));
    Ok(Json(auth.base.store.keys().await?.into_iter().filter(seen).map(reported).collect()))
}

/// The names of one's own teams.
async fn teams_of(auth: &Auth, reader: &Reader) -> Result<Vec<String>> {
    let teams = auth.base.store.teams().await?.into_iter();
    Ok(teams.filter(|team| reader.who.teams.contains(&team.id)).map(|team| team.name).collect())
}

/// Whether this one may change a key: the people of its team, and administrators.
pub(super) async fn may_change_key(auth: &Auth, reader: &Reader, name: &str) -> Result<()> {
    if reader.who.administers {
        return Ok(());
    }
    let (keys, own) = (auth.base.store.keys().await?, teams_of(auth, reader).await?);
    let team = keys.iter().find(|k| k.key.name == name).and_then(|k| k.team.as_ref());
    if team.is_some_and(|team| own.contains(team)) && !reader.who.narrowed {
        return Ok(());
    }
    Err(ServiceError::NotAllowed(format!("the key `{name}` is not yours; ask its team, or an administrator")))
}

fn limits_of(auth: &Arc<Auth>, limits: &KeyLimits) -> Result<stored::KeyLimits> {
    let config = auth.base.config.get();
    if let Some(long) = limits.services.iter().find(|s| s.is_empty() || s.len() > 128) {
        return Err(ServiceError::BadRequest(format!("`{long}` is no service; use 1 to 128 bytes")));
    }
    if limits.per_second == Some(0) || limits.day_events == Some(0) || limits.day_bytes == Some(0) {
        return Err(ServiceError::BadRequest("a limit of 0 lets nothing through; revoke the key instead".into()));
    }
    Ok(stored::KeyLimits {
        services: limits.services.clone(),
        lanes: config.ids_of(&limits.lanes)?,
        rate: limits.per_second,
        day_events: limits.day_events,
        day_bytes: limits.day_bytes,
        ends_ns: limits.until.as_deref().map(moment).transpose()?,
        past: limits.past,
    })
}

pub(super) fn moment(text: &str) -> Result<i64> {
    parse_time(text)
        .ok_or_else(|| ServiceError::BadRequest(format!("`{text}` is no time; write one such as 2026-10-04T02:10:00Z")))
}

/// `POST /api/keys`
pub async fn add_key(
    State(auth): State<Arc<Auth>>,
    Admin(admin): Admin,
    Ask(ask): Ask<NewKey>,
) -> Result<Json<MadeSecret>> {
    check_name(&ask.name)?;
    let limits = limits_of(&auth, &ask.limits)?;
    let (secret, hash, prefix) = new_secret("key", rand::random());
    let fixed = serde_json::to_string(&ask.fixed).unwrap_or_else(|_| "{}".into());
    let team = team_for(&auth.base, &admin, ask.team.as_deref()).await?;
    let act = admin.act(&auth.base, "add key", serde_json::to_string(&ask).unwrap_or_default());
    auth.base.store.add_key(&ask.name, &hash, &prefix, &fixed, &limits, team, &act).await?;
    auth.keys.clear();
    // What its team has set holds for it from now on.
    auth.base.reload_config().await?;
    Ok(Json(MadeSecret { name: ask.name, secret }))
}

/// `PUT /api/keys/{name}/limits`
pub async fn limit_key(
    State(auth): State<Arc<Auth>>,
    Editor(admin): Editor,
    Path(name): Path<String>,
    Ask(ask): Ask<KeyLimits>,
) -> Result<StatusCode> {
    may_change_key(&auth, &admin, &name).await?;
    let limits = limits_of(&auth, &ask)?;
    if !admin.who.administers {
        let known = auth.base.store.key_named(&name).await?;
        let known = known.ok_or_else(|| StoreError::Missing(format!("key `{name}` in use")))?;
        if !limits.are_within(&known.limits) {
            return Err(ServiceError::NotAllowed(
                "a key's team narrows what it may send, and never widens it; ask an administrator".into(),
            ));
        }
    }
    let reported = serde_json::to_string(&ask).unwrap_or_default();
    let act = admin.act(&auth.base, "limit key", format!("{name}: {reported}"));
    auth.base.store.limit_key(&name, &limits, &act).await?;
    auth.keys.clear();
    Ok(StatusCode::NO_CONTENT)
}

/// `POST /api/keys/{name}/rotate`: another secret; the earlier ones work for the overlap.
pub async fn rotate_key(
    State(auth): State<Arc<Auth>>,
    Editor(admin): Editor,
    Path(name): Path<String>,
    Ask(ask): Ask<Rotation>,
) -> Result<Json<MadeSecret>> {
    may_change_key(&auth, &admin, &name).await?;
    if u64::from(ask.overlap_s) > MAX_SPAN_S {
        return Err(ServiceError::BadRequest(format!("overlap_s is at most {MAX_SPAN_S}")));
    }
    let (secret, hash, prefix) = new_secret("key", rand::random());
    let now_ns = (auth.base.clock)();
    let earlier_end_ns = now_ns + i64::from(ask.overlap_s) * SECOND_NS;
    let reported = format!("{name}, its earlier secrets end {}", seconds(earlier_end_ns));
    let act = admin.act(&auth.base, "rotate key", reported);
    auth.base.store.rotate_key(&name, &hash, &prefix, earlier_end_ns, now_ns, &act).await?;
    auth.keys.clear();
    Ok(Json(MadeSecret { name, secret }))
}

/// `DELETE /api/keys/{name}`
pub async fn revoke_key(
    State(auth): State<Arc<Auth>>,
    Editor(admin): Editor,
    Path(name): Path<String>,
) -> Result<StatusCode> {
    may_change_key(&auth, &admin, &name).await?;
    let now_ns = (auth.base.clock)();
    auth.base.store.revoke(SecretKind::Key, &name, now_ns, &admin.act(&auth.base, "revoke key", name.clone())).await?;
    auth.keys.clear();
    Ok(StatusCode::NO_CONTENT)
}

/// `GET /api/dials`: the one set last first; those that ended stay listed for a while. Those of other teams are not shown.
pub async fn dials(State(auth): State<Arc<Auth>>, reader: Reader) -> Result<Json<Vec<Dial>>> {
    let now_ns = (auth.base.clock)();
    let reported = |d: StoredDial| Dial {
        id: d.id,
        when: d.filter,
        least: Severity(d.least).name().to_owned(),
        until: d.until_ns.map(seconds),
        why: d.why,
        who: d.who,
        set: seconds(d.set_ns),
        in_force: d.until_ns.is_none_or(|until| now_ns < until),
        team: d.team.map(|team| team.name),
    };
    let seen = |d: &StoredDial| d.team.is_none() || is_shown(&reader, d.team.as_ref());
    Ok(Json(auth.base.store.dials().await?.into_iter().filter(seen).map(reported).collect()))
}

/// `POST /api/dials`
pub async fn add_dial(
    State(auth): State<Arc<Auth>>,
    Editor(editor): Editor,
    Ask(ask): Ask<NewDial>,
) -> Result<Json<Dial>> {
    let setter = Setter::of(&auth.base, &editor, &AskedTeam { team: ask.team.clone() }).await?;
    let filter = parse_filter(&ask.when).map_err(ServiceError::Query)?;
    if filter.names(Builtin::Lane) {
        let reported = "a dial cannot ask for a lane: none is known yet when it is asked; name the service or a field";
        return Err(ServiceError::BadRequest(reported.into()));
    }
    let filter = filter.to_string();
    let least = Severity::from_name(&ask.least).ok_or_else(|| {
        ServiceError::BadRequest(format!(
            "`{}` is no severity; use trace, debug, info, warn, error or fatal",
            ask.least
        ))
    })?;
    let now_ns = (auth.base.clock)();
    let until_ns = match (ask.for_s, ask.until.as_deref()) {
        (Some(_), Some(_)) => {
            return Err(ServiceError::BadRequest("give `for_s` or `until`, not both".into()));
        }
        (Some(s), None) if !(1..=MAX_SPAN_S).contains(&s) => {
            return Err(ServiceError::BadRequest(format!("for_s must be 1 to {MAX_SPAN_S}")));
        }
        (Some(s), None) => Some(now_ns + s as i64 * SECOND_NS),
        (None, Some(until)) => Some(moment(until)?),
        (None, None) => None,
    };
    if until_ns.is_some_and(|until| until <= now_ns) {
        return Err(ServiceError::BadRequest("this end lies in the past; choose a later one".into()));
    }
    let why: String = ask.why.chars().take(256).collect();
    let row = StoredDial {
        id: 0,
        filter,
        least: least.0,
        until_ns,
        why: why.clone(),
        who: editor.who.name.clone(),
        set_ns: now_ns,
        team: setter.team.clone(),
    };
    let reported = setter.in_words(&format!("`{}` from {} on", row.filter, least.name()));
    let act = editor.act(&auth.base, "set dial", reported);
    let id = auth.base.store.add_dial(&row, Setter::most_dials(), &act).await?;
    auth.base.reload_config().await?;
    Ok(Json(Dial {
        id,
        when: row.filter,
        least: least.name().to_owned(),
        until: until_ns.map(seconds),
        why,
        who: row.who,
        set: seconds(now_ns),
        in_force: true,
        team: row.team.map(|team| team.name),
    }))
}

/// `DELETE /api/dials/{id}`
pub async fn remove_dial(
    State(auth): State<Arc<Auth>>,
    Editor(editor): Editor,
    Path(id): Path<u32>,
) -> Result<StatusCode> {
    let known = auth.base.store.dials().await?.into_iter().find(|dial| dial.id == id);
    let shown = known.filter(|dial| dial.team.is_none() || is_shown(&editor, dial.team.as_ref()));
    let known = shown.ok_or_else(|| StoreError::Missing(format!("dial {id}")))?;
    match known.team {
        Some(team) => _ = Setter::of(&auth.base, &editor, &AskedTeam { team: Some(team.name) }).await?,
        None if editor.who.administers => {}
        None => {
            return Err(ServiceError::NotAllowed(
                "this dial holds for every sender; administrators take it back, and you set one for your team".into(),
            ));
        }
    }
    let act = editor.act(&auth.base, "remove dial", format!("{id}: `{}`", known.filter));
    auth.base.store.remove_dial(id, &act).await?;
    auth.base.reload_config().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// `POST /api/probe`: a marked event by each way in, with a key made for it that works for a minute.
pub async fn probe_ways(
    State(auth): State<Arc<Auth>>,
    State(reading): State<Arc<Reading>>,
    Admin(admin): Admin,
) -> Result<Json<Vec<Probed>>> {
    let addresses = auth.base.addresses;
    // What listens everywhere is reached here; the address that the one who asks uses may lie before a proxy.
    let mut own = addresses.http;
    if own.ip().is_unspecified() {
        own.set_ip(std::net::Ipv4Addr::LOCALHOST.into());
    }
    let (secret, hash, prefix) = new_secret("key", rand::random());
    let now_ns = (auth.base.clock)();
    let name = format!("{PROBE_SERVICE}-{:08x}", rand::random::<u32>());
    let limits = stored::KeyLimits {
        services: vec![PROBE_SERVICE.to_owned()],
        ends_ns: Some(now_ns + 60 * SECOND_NS),
        ..stored::KeyLimits::default()
    };
    auth.base
        .store
        .add_key(&name, &hash, &prefix, "{}", &limits, None, &admin.act(&auth.base, "probe", name.clone()))
        .await?;
    let find = |mark: String| {
        let (reading, reader) = (reading.clone(), admin.clone());
        async move {
            let ask = SearchRequest { query: mark, from: Some("now-1h".to_owned()), ..SearchRequest::default() };
            let found = calvex_node::answer::search::search(&reading, &reader, ask, None).await;
            found.map(|answer| !answer.events.is_empty()).map_err(|e| e.to_string())
        }
    };
    let reported = probe(&addresses.ways_in(), &format!("http://{own}"), &secret, || (auth.base.clock)(), find).await;
    auth.base.store.forget_key(&name).await?;
    auth.keys.clear();
    Ok(Json(reported))
}

/// `GET /v1/dials?service=…&host=…`: what a sender is to send, asked with its key. Unchanged, it answers 304 to the
/// `ETag` given before (RFC 9110, 13.1.2).
pub async fn level(State(auth): State<Arc<Auth>>, headers: HeaderMap, Query(asker): Query<Asker>) -> Result<Response> {
    let sender = sender(&auth, &headers).await?;
    let now_ns = (auth.base.clock)();
    auth.base.ledger.used(now_ns, &sender.name);
    let asker = Asker { sender: sender.name.clone(), ..asker };
    let level = published(auth.base.config.get().dials(), &asker, now_ns);
    let body = serde_json::to_vec(&level).unwrap_or_default();
    let hash: String = Sha256::digest(&body).iter().take(8).map(|b| format!("{b:02x}")).collect();
    let tag = format!("\"{hash}\"");
    let reported = [
        (header::ETAG, tag.clone()),
        (header::CACHE_CONTROL, format!("private, max-age={POLL_S}")),
        (header::VARY, "authorization".to_owned()),
    ];
    let known = headers.get_all(header::IF_NONE_MATCH).iter().filter_map(|v| v.to_str().ok());
    let mut known = known.flat_map(|v| v.split(',')).map(|v| v.trim().trim_start_matches("W/"));
    if known.any(|v| v == tag || v == "*") {
        return Ok((StatusCode::NOT_MODIFIED, reported).into_response());
    }
    Ok((reported, [(header::CONTENT_TYPE, "application/json")], body).into_response())
}
