//! Signing on by the provider: to it and back, as a browser goes. Not in the description of the interface: programs use
//! tokens.

use super::admin::check_name;
use super::session::{begin_session, cookie_header};
use axum::Json;
use axum::extract::{Query, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use calvex_language::domain::access::{Role, User};
use calvex_language::domain::grant::May;
use calvex_node::auth::peer::Peer;
use calvex_node::auth::provider::Identity;
use calvex_node::auth::secrets::NO_PASSWORD;
use calvex_node::error::{Result, ServiceError};
use calvex_node::state::Auth;
use serde::{Deserialize, Serialize};
use std::net::IpAddr;
use std::sync::Arc;

/// The cookie that binds a sign-on to the browser that began it.
const COOKIE: &str = "calvex_sign_on";
/// How long it may take, seconds.
const LASTS_S: u32 = 600;
/// Letters of what the provider gives.
const MAX_CODE: usize = 4096;

/// What is offered beside name and password.
#[derive(Serialize)]
pub struct Offer {
    /// What the button says; none where there is no provider.
    label: Option<String>,
}

/// `GET /api/sign-on/offer`
pub async fn offer(State(auth): State<Arc<Auth>>) -> Json<Offer> {
    Json(Offer { label: auth.provider.as_ref().map(|provider| provider.label.clone()) })
}

/// `GET /api/sign-on`: sends the browser to the provider.
pub async fn begin(State(auth): State<Arc<Auth>>, Peer(from): Peer) -> Response {
    let begun = async {
        auth.sign_ins.begin_from(from)?;
        let provider = auth.provider.as_ref().ok_or_else(no_provider)?;
        provider.begin().await
    };
    match begun.await {
        Ok((url, state)) => {
            let secure = if auth.base.addresses.encrypted { "; Secure" } else { "" };
            // It must come back with the browser from another site, which a strict one would not.
            let cookie =
                format!("{COOKIE}={state}; Path=/api/sign-on; HttpOnly; SameSite=Lax; Max-Age={LASTS_S}{secure}");
            (StatusCode::SEE_OTHER, [(header::LOCATION, url), (header::SET_COOKIE, cookie)]).into_response()
        }
        Err(e) => back(&e),
    }
}

/// What the provider sends the browser back with.
#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub struct Answered {
    state: String,
    code: String,
    error: String,
}

/// `GET /api/sign-on/done`: the browser comes back.
pub async fn done(
    State(auth): State<Arc<Auth>>,
    Peer(from): Peer,
    headers: HeaderMap,
    Query(answered): Query<Answered>,
) -> Response {
    match signed_on(&auth, from, &headers, answered).await {
        Ok(cookie) => (StatusCode::SEE_OTHER, [(header::LOCATION, "/now".to_owned()), (header::SET_COOKIE, cookie)])
            .into_response(),
        Err(e) => {
            if matches!(e, ServiceError::NotSignedIn(_)) {
                auth.strangers.refused().await;
            }
            back(&e)
        }
    }
}

/// Back to the way in, which shows by a word what went wrong: no text comes from the address.
fn back(e: &ServiceError) -> Response {
    let word = match e {
        ServiceError::Busy(..) => "away",
        ServiceError::NotAllowed(_) => "unknown",
        ServiceError::TooMany(..) => "later",
        _ => "refused",
    };
    (StatusCode::SEE_OTHER, [(header::LOCATION, format!("/now?sign-on={word}"))]).into_response()
}

fn no_provider() -> ServiceError {
    ServiceError::NotAllowed("no sign-on provider is set; sign in by name and password".into())
}

async fn signed_on(auth: &Arc<Auth>, from: IpAddr, headers: &HeaderMap, answered: Answered) -> Result<String> {
    auth.sign_ins.begin_from(from)?;
    let provider = auth.provider.as_ref().ok_or_else(no_provider)?;
    let own = headers.get_all(header::COOKIE).into_iter().filter_map(|v| v.to_str().ok()).flat_map(|v| v.split(';'));
    let own = own.filter_map(|c| c.trim().strip_prefix(COOKIE)?.strip_prefix('=')).next().unwrap_or("");
    let refused = |why: &str| ServiceError::NotSignedIn(format!("the sign-on was not completed: {why}"));
    // Whoever sends somebody a link that ends in their own account must not sign that one in.
    if answered.state.is_empty() || answered.state != own {
        return Err(refused("it was begun elsewhere"));
    }
    if !answered.error.is_empty() || answered.code.is_empty() || answered.code.len() > MAX_CODE {
        return Err(refused("the provider gave no code"));
    }
    let identity = provider.end(&answered.state, answered.code).await?;
    let user = person_of(auth, &identity, from).await?;
    let (store, name) = (&auth.base.store, user.name.clone());
    let act = auth.base.act(&name, "join teams by the provider", identity.groups.join(", "));
    store.join_by_claims(user.id, &identity.groups, &act).await?;
    auth.readers.clear();
    begin_session(auth, &user, from, "by the provider").await.map(|secret| cookie_header(auth, &secret))
}

/// The person whom the provider means: one who came before, or one who is new. Somebody who signs in by password is not
/// taken over by a name.
async fn person_of(auth: &Arc<Auth>, identity: &Identity, from: IpAddr) -> Result<User> {
    let store = &auth.base.store;
    let refuse = |why: String| ServiceError::NotAllowed(why);
    if let Some(user) = store.person_of_subject(&identity.subject).await? {
        if user.disabled_ns.is_some() {
            let act = auth.base.act(&user.name, "sign in refused", format!("by the provider, from {from}"));
            store.audit(&act).await?;
            return Err(refuse("this person may not sign in".into()));
        }
        return Ok(user);
    }
    check_name(&identity.name)?;
    if store.user(&identity.name).await?.is_some() {
        let act = auth.base.act(
            "unknown",
            "sign in refused",
            format!("the provider's {} is another, from {from}", identity.name),
        );
        store.audit(&act).await?;
        return Err(refuse("a person of this name signs in by password".into()));
    }
    let act = auth.base.act("calvex serve", "add person", format!("{}, reader, by the provider", identity.name));
    store.add_user(&identity.name, NO_PASSWORD, Role::Reader, (May::Read, &[]), &act).await?;
    store.put_subject(&identity.name, &identity.subject).await?;
    let user = store.person_of_subject(&identity.subject).await?;
    user.ok_or_else(|| refuse("this person may not sign in".into()))
}
