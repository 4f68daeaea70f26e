//! Signing in and out of the console.

use super::ask::Ask;
use crate::auth::peer::Peer;
use crate::auth::secrets::{hash_secret, new_secret, verify_password};
use crate::auth::{Reader, session_secret};
use crate::error::{Result, ServiceError};
use crate::intake::ledger::shortened;
use crate::state::Shared;
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use calvex_store::records::Act;
use calvex_store::records::access::Actor;
use calvex_wire::api::{LoginRequest, Me, SESSION_COOKIE};
use std::net::IpAddr;

/// Longest name that is looked up.
const MAX_NAME: usize = 64;
/// How long a session lasts.
const SESSION_S: i64 = 12 * 3600;

/// A well-formed hash that fits no password, so that an unknown name takes as long as a wrong password.
const NO_PASSWORD: &str =
    "$argon2id$v=19$m=19456,t=2,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA";

/// `POST /api/login`
pub async fn login(State(app): State<Shared>, Peer(from): Peer, Ask(ask): Ask<LoginRequest>) -> Result<Response> {
    let signed_in = sign_in(&app, from, ask).await;
    if signed_in.is_err() {
        app.strangers.refused().await;
    }
    signed_in
}

async fn sign_in(app: &Shared, from: IpAddr, ask: LoginRequest) -> Result<Response> {
    let LoginRequest { name, password } = ask;
    app.sign_ins.begin_from(from)?;
    let shown = shortened(&name, MAX_NAME).to_owned();
    let weight = app.store.name_weight(&shown).await?;
    app.sign_ins.begin(&weight, from)?;
    let user = if shown == name { app.store.user(&name).await? } else { None };
    let hash = user.as_ref().map_or(NO_PASSWORD.to_owned(), |u| u.password_hash.clone());
    let good = app.sign_ins.hash(&app.behind, move || verify_password(&password, &hash)).await?;
    let now_ns = (app.clock)();
    let act = |name, act| Act { at_ns: now_ns, by: Actor { name, token: None }, act, what: format!("from {from}") };
    let Some(user) = user.filter(|_| good) else {
        // A password typed as the name must not stand in the trail, so only names that exist do.
        let known = app.store.user(&shown).await?.map_or_else(|| "unknown".to_owned(), |u| u.name);
        app.store.audit(&act(&known, "sign in refused")).await?;
        return Err(ServiceError::NotSignedIn("name and password do not fit; check both".into()));
    };
    app.sign_ins.succeeded(&weight, from);
    let (secret, hash, _) = new_secret("session", rand::random());
    app.store.add_session(&hash, user.id, now_ns + SESSION_S * 1_000_000_000, &act(&user.name, "sign in")).await?;
    let cookie = format!("{SESSION_COOKIE}={secret}; Path=/; HttpOnly; SameSite=Strict; Max-Age={SESSION_S}");
    let lanes = app.store.lanes_of_user(user.id, &user.role).await?;
    let me = me_of(app, &user.name, &user.role, &|lane| lanes.as_ref().is_none_or(|l| l.contains(&lane)));
    Ok(([(header::SET_COOKIE, cookie)], Json(me)).into_response())
}

/// `POST /api/logout`
pub async fn logout(State(app): State<Shared>, headers: HeaderMap, reader: Reader) -> Result<Response> {
    if let Some(secret) = session_secret(&headers) {
        let act = Act { at_ns: (app.clock)(), by: reader.who.actor(), act: "sign out", what: String::new() };
        app.store.end_session(&hash_secret(secret), &act).await?;
        app.readers.clear();
    }
    let cookie = format!("{SESSION_COOKIE}=; Path=/; HttpOnly; SameSite=Strict; Max-Age=0");
    Ok((StatusCode::NO_CONTENT, [(header::SET_COOKIE, cookie)]).into_response())
}

/// `GET /api/me`
pub async fn me(State(app): State<Shared>, reader: Reader) -> Json<Me> {
    Json(me_of(&app, &reader.who.name, reader.who.role(), &|lane| reader.may_read(lane)))
}

fn me_of(app: &Shared, name: &str, role: &str, may_read: &dyn Fn(u32) -> bool) -> Me {
    let config = app.config.get();
    let lanes = config.lanes().into_iter().filter(|l| may_read(l.id)).map(|l| l.name.clone()).collect();
    Me { name: name.to_owned(), role: role.to_owned(), lanes }
}
