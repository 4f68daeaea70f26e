//! A stand-in for a sign-on provider, for the demo and tests: whoever comes picks who they are, without a password. It
//! speaks as much of OpenID Connect as a sign-on by code needs, and signs its tokens with a key made at its start.

use axum::extract::{Form, Query, State};
use axum::http::{StatusCode, header};
use axum::response::{Html, IntoResponse, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use parking_lot::Mutex;
use ring::signature::{Ed25519KeyPair, KeyPair};
use serde::Deserialize;
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use std::collections::HashMap;
use std::sync::Arc;
use tokio::net::TcpListener;

/// Codes that were given and not yet used, at most.
const MAX_CODES: usize = 1_000;
/// How long an id token is good, seconds.
const GOOD_S: i64 = 300;

/// Somebody whom the stand-in knows: a name, and the groups that person is in.
#[derive(Debug, Clone)]
#[allow(missing_docs)]
pub struct Known {
    pub name: String,
    pub groups: Vec<String>,
}

struct Given {
    name: String,
    challenge: String,
    nonce: Option<String>,
    client: String,
    redirect: String,
}

struct Stand {
    issuer: String,
    people: Vec<Known>,
    key: Ed25519KeyPair,
    codes: Mutex<HashMap<String, Given>>,
}

/// Serves until dropped.
///
/// # Errors
/// Where the listener fails, or no key can be made.
pub async fn serve(listener: TcpListener, people: Vec<Known>) -> std::io::Result<()> {
    let made = Ed25519KeyPair::generate_pkcs8(&ring::rand::SystemRandom::new());
    let key = made.ok().and_then(|pkcs8| Ed25519KeyPair::from_pkcs8(pkcs8.as_ref()).ok());
    let key = key.ok_or_else(|| std::io::Error::other("no key could be made"))?;
    let issuer = format!("http://{}", listener.local_addr()?);
    let stand = Arc::new(Stand { issuer, people, key, codes: Mutex::default() });
    let router = Router::new()
        .route("/.well-known/openid-configuration", get(metadata))
        .route("/keys", get(keys))
        .route("/authorize", get(choose))
        .route("/chosen", get(chosen))
        .route("/token", post(token))
        .with_state(stand);
    axum::serve(listener, router).await
}

async fn metadata(State(stand): State<Arc<Stand>>) -> Json<Value> {
    let at = |path: &str| format!("{}/{path}", stand.issuer);
    Json(json!({
        "issuer": stand.issuer,
        "authorization_endpoint": at("authorize"),
        "token_endpoint": at("token"),
        "jwks_uri": at("keys"),
        "response_types_supported": ["code"],
        "subject_types_supported": ["public"],
        "id_token_signing_alg_values_supported": ["EdDSA"],
        "token_endpoint_auth_methods_supported": ["client_secret_basic"],
        "code_challenge_methods_supported": ["S256"],
        "scopes_supported": ["openid", "profile", "groups"],
    }))
}

async fn keys(State(stand): State<Arc<Stand>>) -> Json<Value> {
    let x = URL_SAFE_NO_PAD.encode(stand.key.public_key().as_ref());
    Json(json!({ "keys": [{ "kty": "OKP", "crv": "Ed25519", "alg": "EdDSA", "use": "sig", "kid": "1", "x": x }] }))
}

#[derive(Deserialize)]
struct Asked {
    client_id: String,
    redirect_uri: String,
    state: String,
    #[serde(default)]
    nonce: Option<String>,
    code_challenge: String,
    #[serde(default)]
    name: String,
}

fn escaped(text: &str) -> String {
    let sign = |c: char| match c {
        '&' => "&amp;".to_owned(),
        '<' => "&lt;".to_owned(),
        '>' => "&gt;".to_owned(),
        '"' => "&quot;".to_owned(),
        c => c.to_string(),
    };
    text.chars().map(sign).collect()
}

/// The page on which somebody picks who they are.
async fn choose(State(stand): State<Arc<Stand>>, Query(asked): Query<Asked>) -> Html<String> {
    let hidden = |name: &str, value: &str| format!("<input type=hidden name={name} value=\"{}\">", escaped(value));
    let kept = [
        hidden("client_id", &asked.client_id),
        hidden("redirect_uri", &asked.redirect_uri),
        hidden("state", &asked.state),
        hidden("nonce", asked.nonce.as_deref().unwrap_or("")),
        hidden("code_challenge", &asked.code_challenge),
    ]
    .concat();
    let person = |known: &Known| {
        let (name, groups) = (escaped(&known.name), escaped(&known.groups.join(", ")));
        format!("<p><button name=name value=\"{name}\">{name}</button> {groups}")
    };
    let people: String = stand.people.iter().map(person).collect();
    Html(format!(
        "<!doctype html><html lang=en><meta charset=utf-8><meta name=viewport content=\"width=device-width\">\
         <title>Fennmark sign-on</title><style>body{{font:17px sans-serif;margin:3rem auto;max-width:26rem}}\
         button{{font:inherit;padding:.4rem 1rem;margin-right:.6rem}}</style>\
         <h1>Fennmark sign-on</h1><p>This stand-in takes anybody's word. Who are you?</p>\
         <form action=/chosen>{kept}{people}</form>"
    ))
}

fn random() -> String {
    URL_SAFE_NO_PAD.encode(rand::random::<[u8; 24]>())
}

async fn chosen(State(stand): State<Arc<Stand>>, Query(asked): Query<Asked>) -> Response {
    if !stand.people.iter().any(|known| known.name == asked.name) {
        return (StatusCode::BAD_REQUEST, "nobody of this name").into_response();
    }
    let code = random();
    let given = Given {
        name: asked.name,
        challenge: asked.code_challenge,
        nonce: asked.nonce.filter(|nonce| !nonce.is_empty()),
        client: asked.client_id,
        redirect: asked.redirect_uri.clone(),
    };
    let mut codes = stand.codes.lock();
    if codes.len() >= MAX_CODES {
        codes.clear();
    }
    codes.insert(code.clone(), given);
    let state: String = asked.state.chars().filter(|c| c.is_ascii_alphanumeric() || "-_".contains(*c)).collect();
    let back = format!("{}?code={code}&state={state}", asked.redirect_uri);
    (StatusCode::SEE_OTHER, [(header::LOCATION, back)]).into_response()
}

#[derive(Deserialize)]
struct Exchange {
    code: String,
    redirect_uri: String,
    code_verifier: String,
}

async fn token(State(stand): State<Arc<Stand>>, Form(asked): Form<Exchange>) -> Response {
    let given = stand.codes.lock().remove(&asked.code);
    let fits = |given: &Given| {
        let challenge = URL_SAFE_NO_PAD.encode(Sha256::digest(asked.code_verifier.as_bytes()));
        given.challenge == challenge && given.redirect == asked.redirect_uri
    };
    let Some(given) = given.filter(fits) else {
        return (StatusCode::BAD_REQUEST, Json(json!({ "error": "invalid_grant" }))).into_response();
    };
    let known = stand.people.iter().find(|known| known.name == given.name);
    let now_s = jiff::Timestamp::now().as_second();
    let part = |value: Value| URL_SAFE_NO_PAD.encode(value.to_string());
    let mut claims = json!({
        "iss": stand.issuer, "sub": format!("fennmark-{}", given.name), "aud": given.client, "iat": now_s,
        "exp": now_s + GOOD_S, "preferred_username": given.name, "groups": known.map(|known| known.groups.clone()),
    });
    if let Some(nonce) = given.nonce {
        claims["nonce"] = json!(nonce);
    }
    let signed = format!("{}.{}", part(json!({ "alg": "EdDSA", "kid": "1", "typ": "JWT" })), part(claims));
    let signature = URL_SAFE_NO_PAD.encode(stand.key.sign(signed.as_bytes()).as_ref());
    let id_token = format!("{signed}.{signature}");
    let answer =
        json!({ "access_token": random(), "token_type": "Bearer", "expires_in": GOOD_S, "id_token": id_token });
    Json(answer).into_response()
}
