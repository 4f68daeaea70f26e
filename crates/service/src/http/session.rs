//! Signing in and out of the console.

use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use calvex_language::domain::access::{Principal, User};
use calvex_language::domain::grant::May;
use calvex_node::auth::peer::Peer;
use calvex_node::auth::secrets::{NO_PASSWORD, hash_secret, new_secret, verify_password};
use calvex_node::auth::{ReadScope, Reader, session_secret};
use calvex_node::error::{Result, ServiceError};
use calvex_node::http::ask::Ask;
use calvex_node::intake::ledger::shortened;
use calvex_node::state::Auth;
use calvex_wire::api::{LanePart, LoginRequest, Me, SESSION_COOKIE};
use std::collections::BTreeSet;
use std::net::IpAddr;
use std::sync::Arc;

/// Longest name that is looked up.
const MAX_NAME: usize = 64;
/// How long a session lasts.
const SESSION_S: i64 = 12 * 3600;

/// `POST /api/login`
pub async fn login(State(auth): State<Arc<Auth>>, Peer(from): Peer, Ask(ask): Ask<LoginRequest>) -> Result<Response> {
    let signed_in = sign_in(&auth, from, ask).await;
    if signed_in.is_err() {
        auth.strangers.refused().await;
    }
    signed_in
}

async fn sign_in(auth: &Arc<Auth>, from: IpAddr, ask: LoginRequest) -> Result<Response> {
    let LoginRequest { name, password } = ask;
    auth.sign_ins.begin_from(from)?;
    let shown = shortened(&name, MAX_NAME).to_owned();
    let weight = auth.base.store.name_weight(&shown).await?;
    auth.sign_ins.begin(&weight, from)?;
    let user = if shown == name { auth.base.store.user(&name).await? } else { None };
    let hash = user.as_ref().map_or(NO_PASSWORD.to_owned(), |u| u.password_hash.clone());
    let good = auth.sign_ins.hash(&auth.behind, move || verify_password(&password, &hash)).await?;
    let now_ns = (auth.base.clock)();
    let act = |name, act| auth.base.act(name, act, format!("from {from}"));
    // Of who is disabled nothing else is said than of who is not known.
    let Some(user) = user.filter(|user| good && user.disabled_ns.is_none()) else {
        // A password typed as the name must not stand in the trail, so only names that exist do.
        let known = auth.base.store.user(&shown).await?.map_or_else(|| "unknown".to_owned(), |u| u.name);
        auth.base.store.audit(&act(&known, "sign in refused")).await?;
        return Err(ServiceError::NotSignedIn("name and password do not fit; check both".into()));
    };
    auth.sign_ins.succeeded(&weight, from);
    let secret = begin_session(auth, &user, from, "by password").await?;
    let cookie = cookie_header(auth, &secret);
    let who = auth.base.store.person(user.id, user.name, user.role, now_ns).await?;
    let me = me_of(auth, &who).await?;
    Ok(([(header::SET_COOKIE, cookie)], Json(me)).into_response())
}

/// Begins a session; its secret.
///
/// # Errors
/// Where the database fails.
pub(super) async fn begin_session(auth: &Arc<Auth>, user: &User, from: IpAddr, how: &str) -> Result<String> {
    let (secret, hash, _) = new_secret("session", rand::random());
    let act = auth.base.act(&user.name, "sign in", format!("{how}, from {from}"));
    let ends_ns = act.at_ns + SESSION_S * 1_000_000_000;
    auth.base.store.add_session(&hash, user.id, (ends_ns, &from.to_string()), &act).await?;
    Ok(secret)
}

/// The cookie of a session that begins.
pub(super) fn cookie_header(auth: &Auth, secret: &str) -> String {
    cookie(auth, secret, SESSION_S)
}

/// The cookie of a session; over TLS it is never sent without.
fn cookie(auth: &Auth, secret: &str, age_s: i64) -> String {
    let secure = if auth.base.addresses.encrypted { "; Secure" } else { "" };
    format!("{SESSION_COOKIE}={secret}; Path=/; HttpOnly; SameSite=Strict; Max-Age={age_s}{secure}")
}

/// `POST /api/logout`
pub async fn logout(State(auth): State<Arc<Auth>>, headers: HeaderMap, reader: Reader) -> Result<Response> {
    if let Some(secret) = session_secret(&headers) {
        let act = reader.act(&auth.base, "sign out", "");
        auth.base.store.end_session(&hash_secret(secret), &act).await?;
        auth.readers.clear();
    }
    let cookie = cookie(&auth, "", 0);
    Ok((StatusCode::NO_CONTENT, [(header::SET_COOKIE, cookie)]).into_response())
}

/// `GET /api/me`
pub async fn me(State(auth): State<Arc<Auth>>, reader: Reader) -> Result<Json<Me>> {
    Ok(Json(me_of(&auth, &reader.who).await?))
}

async fn me_of(auth: &Arc<Auth>, who: &Principal) -> Result<Me> {
    let (config, scope) = (auth.base.config.get(), ReadScope::of_held(who.held.clone()));
    let named = |may: &dyn Fn(u32) -> bool| {
        config.lanes().into_iter().filter(|l| may(l.id)).map(|l| l.name.clone()).collect::<Vec<_>>()
    };
    let part = |lane: u32| {
        let held = || who.held.iter().filter(|held| held.lane == lane);
        let all_rows = held().any(|held| held.rows.is_empty());
        LanePart {
            lane: config.name(lane).to_string(),
            rows: held().filter(|_| !all_rows).map(|held| held.rows.clone()).collect(),
            hidden: held().flat_map(|held| held.hidden.clone()).collect::<BTreeSet<_>>().into_iter().collect(),
        }
    };
    let parts = config.lanes().into_iter().filter(|l| scope.may_read(l.id) && !scope.reads_whole(l.id));
    Ok(Me {
        name: who.name.clone(),
        role: who.role().name().to_owned(),
        lanes: named(&|lane| who.may_read(lane)),
        parts: parts.map(|l| part(l.id)).collect(),
        teams: if who.teams.is_empty() {
            Vec::new()
        } else {
            let teams = auth.base.store.teams().await?.into_iter();
            teams.filter(|team| who.teams.contains(&team.id)).map(|team| team.name).collect()
        },
        changes: who.changes,
        on_call: who.on_call,
        manages: named(&|lane| who.changes && who.may(lane, May::Manage)),
        configures: named(&|lane| who.changes && who.may(lane, May::Configure)),
        nodes: auth.base.nodes.other_urls(&auth.base.claim),
    })
}
