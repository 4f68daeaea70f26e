//! Signing in and out of the console.

use super::ask::Ask;
use crate::auth::peer::Peer;
use crate::auth::secrets::{NO_PASSWORD, hash_secret, new_secret, verify_password};
use crate::auth::{Reader, session_secret};
use crate::error::{Result, ServiceError};
use crate::intake::ledger::shortened;
use crate::state::Auth;
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use calvex_language::domain::access::{Actor, Role};
use calvex_store::records::Act;
use calvex_wire::api::{LoginRequest, Me, SESSION_COOKIE};
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
    let act = |name, act| Act { at_ns: now_ns, by: Actor { name, token: None }, act, what: format!("from {from}") };
    // Of who is disabled nothing else is said than of who is not known.
    let Some(user) = user.filter(|user| good && user.disabled_ns.is_none()) else {
        // A password typed as the name must not stand in the trail, so only names that exist do.
        let known = auth.base.store.user(&shown).await?.map_or_else(|| "unknown".to_owned(), |u| u.name);
        auth.base.store.audit(&act(&known, "sign in refused")).await?;
        return Err(ServiceError::NotSignedIn("name and password do not fit; check both".into()));
    };
    auth.sign_ins.succeeded(&weight, from);
    let (secret, hash, _) = new_secret("session", rand::random());
    auth.base
        .store
        .add_session(
            &hash,
            user.id,
            (now_ns + SESSION_S * 1_000_000_000, &from.to_string()),
            &act(&user.name, "sign in"),
        )
        .await?;
    let cookie = format!("{SESSION_COOKIE}={secret}; Path=/; HttpOnly; SameSite=Strict; Max-Age={SESSION_S}");
    let lanes = auth.base.store.lanes_of_user(user.id, user.role).await?;
    let me = me_of(auth, &user.name, user.role, &|lane| lanes.as_ref().is_none_or(|l| l.contains(&lane)));
    Ok(([(header::SET_COOKIE, cookie)], Json(me)).into_response())
}

/// `POST /api/logout`
pub async fn logout(State(auth): State<Arc<Auth>>, headers: HeaderMap, reader: Reader) -> Result<Response> {
    if let Some(secret) = session_secret(&headers) {
        let act = Act { at_ns: (auth.base.clock)(), by: reader.who.actor(), act: "sign out", what: String::new() };
        auth.base.store.end_session(&hash_secret(secret), &act).await?;
        auth.readers.clear();
    }
    let cookie = format!("{SESSION_COOKIE}=; Path=/; HttpOnly; SameSite=Strict; Max-Age=0");
    Ok((StatusCode::NO_CONTENT, [(header::SET_COOKIE, cookie)]).into_response())
}

/// `GET /api/me`
pub async fn me(State(auth): State<Arc<Auth>>, reader: Reader) -> Json<Me> {
    Json(me_of(&auth, &reader.who.name, reader.who.role(), &|lane| reader.may_read(lane)))
}

fn me_of(auth: &Arc<Auth>, name: &str, role: Role, may_read: &dyn Fn(u32) -> bool) -> Me {
    let config = auth.base.config.get();
    let lanes = config.lanes().into_iter().filter(|l| may_read(l.id)).map(|l| l.name.clone()).collect();
    Me { name: name.to_owned(), role: role.name().to_owned(), lanes }
}
