//! Sign-on by a provider: OpenID Connect, by authorization code with PKCE (OpenID Connect Core 1.0 and Discovery 1.0, RFC
//! 6749, RFC 7636). Here stands what is asked of the provider, how long anything is waited for, and how much of an answer
//! is read; what must hold of its id token stands in `id_token`.

mod id_token;

use crate::admission::remembered::Remembered;
use crate::config::settings::Settings;
use crate::error::{Result, ServiceError, innermost};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use futures_util::StreamExt;
use id_token::{Wanted, keys_of, proven};
use jsonwebtoken::Algorithm;
use jsonwebtoken::jwk::Jwk;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use reqwest::{RequestBuilder, StatusCode, Url};
use serde::Deserialize;
use serde_json::Value;
use sha2::{Digest, Sha256};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::Mutex;

/// How long the provider may take for an answer, and how much of one is read.
const PATIENCE: Duration = Duration::from_secs(10);
const MAX_ANSWER: usize = 1 << 20;
/// What the provider says of itself, its keys too, is asked for again after so long.
const KNOWN_FOR: Duration = Duration::from_secs(600);
/// Sign-ons under way at most, and how long each may take.
const MAX_PENDING: usize = 1_000;
const PENDING_FOR: Duration = Duration::from_secs(600);
/// Groups of a person that are looked at, and letters of each.
const MAX_GROUPS: usize = 1_000;
const MAX_GROUP: usize = 128;
/// Letters of what a provider says of a mistake.
const MAX_MISTAKE: usize = 200;

/// What a provider says of itself (OpenID Connect Discovery 1.0, 3).
#[derive(Deserialize)]
struct Metadata {
    issuer: String,
    authorization_endpoint: String,
    token_endpoint: String,
    jwks_uri: String,
    id_token_signing_alg_values_supported: Vec<String>,
    /// Where it says nothing, the client's secret goes into a header (RFC 6749, 2.3.1).
    #[serde(default)]
    token_endpoint_auth_methods_supported: Vec<String>,
}

/// What is known of the provider.
struct Known {
    authorization: Url,
    token: Url,
    algorithms: Vec<Algorithm>,
    keys: Vec<Jwk>,
    /// Whether the client's secret goes into the body, and not into a header.
    secret_in_body: bool,
}

/// The answer of the token endpoint, as much as is used.
#[derive(Deserialize)]
struct Answered {
    id_token: Option<String>,
    error: Option<String>,
    error_description: Option<String>,
}

/// A sign-on that was begun.
#[derive(Clone)]
struct Pending {
    verifier: String,
    nonce: String,
}

/// Who the provider says that somebody is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Identity {
    /// Issuer and subject: the same person for ever, whatever the name.
    pub subject: String,
    /// What to call the person.
    pub name: String,
    /// The groups that the person is in.
    pub groups: Vec<String>,
}

/// The provider that the settings name.
pub struct Provider {
    issuer: String,
    client_id: String,
    client_secret: Option<String>,
    redirect: String,
    name_claim: String,
    groups_claim: String,
    /// What the button says.
    pub label: String,
    http: reqwest::Client,
    known: Mutex<Option<(Instant, Arc<Known>)>>,
    pending: Remembered<String, Pending>,
}

/// The address, where what is sent there is encrypted or stays on this machine.
fn guarded(address: &str) -> Option<Url> {
    let url = Url::parse(address).ok().filter(Url::has_host)?;
    let local = ["127.0.0.1", "[::1]", "localhost"];
    let stays = url.scheme() == "http" && url.host_str().is_some_and(|host| local.contains(&host));
    (url.scheme() == "https" || stays).then_some(url)
}

/// Random bits nobody guesses, as text.
fn random() -> String {
    URL_SAFE_NO_PAD.encode(rand::random::<[u8; 32]>())
}

fn away(why: impl std::fmt::Display) -> ServiceError {
    ServiceError::Busy(format!("the sign-on provider does not answer: {why}"), 10)
}

fn refused(why: impl std::fmt::Display) -> ServiceError {
    tracing::warn!("a sign-on by the provider was refused: {why}");
    ServiceError::NotSignedIn("the provider's answer does not hold; begin again".into())
}

impl Provider {
    /// The one that the settings name, for a service whose console is at `console_url`; none where they name none.
    ///
    /// # Errors
    /// Where an address is none, or would send secrets unencrypted.
    pub fn of(settings: &Settings, console_url: &str) -> Result<Option<Self>> {
        let issuer = settings.text("oidc.issuer");
        if issuer.is_empty() {
            return Ok(None);
        }
        let bad = |name: &str, why: &str| ServiceError::Setting(format!("{name}: {why}"));
        if guarded(issuer).is_none() {
            return Err(bad("oidc.issuer", "the address of a provider begins with https://"));
        }
        let redirect = format!("{}/api/sign-on/done", console_url.trim_end_matches('/'));
        Url::parse(&redirect).map_err(|e| bad("notify.console_url", &e.to_string()))?;
        let mut http = reqwest::Client::builder()
            .timeout(PATIENCE)
            .no_proxy()
            // A provider that sends elsewhere is not followed: what it was asked holds the client's secret.
            .redirect(reqwest::redirect::Policy::none());
        let ca = settings.text("oidc.ca");
        if !ca.is_empty() {
            let pem = std::fs::read(ca).map_err(|e| bad("oidc.ca", &e.to_string()))?;
            let trusted = reqwest::Certificate::from_pem_bundle(&pem).map_err(|e| bad("oidc.ca", &e.to_string()))?;
            http = http.tls_certs_only(trusted);
        }
        let secret = settings.text("oidc.client_secret");
        Ok(Some(Provider {
            issuer: issuer.to_owned(),
            client_id: settings.text("oidc.client_id").to_owned(),
            client_secret: (!secret.is_empty()).then(|| secret.to_owned()),
            redirect,
            name_claim: settings.text("oidc.name_claim").to_owned(),
            groups_claim: settings.text("oidc.groups_claim").to_owned(),
            label: settings.text("oidc.label").to_owned(),
            http: http.build().map_err(|e| bad("oidc.issuer", &e.to_string()))?,
            known: Mutex::new(None),
            pending: Remembered::new(MAX_PENDING, PENDING_FOR),
        }))
    }

    async fn known(&self) -> Result<Arc<Known>> {
        let mut known = self.known.lock().await;
        if let Some((at, found)) = known.as_ref()
            && at.elapsed() < KNOWN_FOR
        {
            return Ok(found.clone());
        }
        let found = Arc::new(self.discovered().await?);
        *known = Some((Instant::now(), found.clone()));
        Ok(found)
    }

    /// Asks the provider for what it says of itself, and for its keys.
    async fn discovered(&self) -> Result<Known> {
        let at = format!("{}/.well-known/openid-configuration", self.issuer.trim_end_matches('/'));
        let said: Metadata = read(self.http.get(at)).await.and_then(parsed).map_err(away)?;
        if said.issuer != self.issuer {
            return Err(away(format!("it calls itself `{}`, and oidc.issuer is `{}`", said.issuer, self.issuer)));
        }
        let address = |text: &str| {
            guarded(text)
                .ok_or_else(|| away(format!("it names `{text}`, which is no address that begins with https://")))
        };
        let set: Value = read(self.http.get(address(&said.jwks_uri)?)).await.and_then(parsed).map_err(away)?;
        let methods = &said.token_endpoint_auth_methods_supported;
        let takes = |method: &str| methods.iter().any(|m| m == method);
        Ok(Known {
            authorization: address(&said.authorization_endpoint)?,
            token: address(&said.token_endpoint)?,
            algorithms: said.id_token_signing_alg_values_supported.iter().filter_map(|a| a.parse().ok()).collect(),
            keys: keys_of(&set),
            secret_in_body: takes("client_secret_post") && !takes("client_secret_basic"),
        })
    }

    /// Begins a sign-on: where the browser goes, and the state by which it is known when it comes back.
    ///
    /// # Errors
    /// Where the provider does not answer.
    pub async fn begin(&self) -> Result<(String, String)> {
        let known = self.known().await?;
        let (state, nonce, verifier) = (random(), random(), random());
        let challenge = URL_SAFE_NO_PAD.encode(Sha256::digest(verifier.as_bytes()));
        let mut url = known.authorization.clone();
        url.query_pairs_mut()
            .append_pair("response_type", "code")
            .append_pair("client_id", &self.client_id)
            .append_pair("redirect_uri", &self.redirect)
            .append_pair("scope", "openid profile groups")
            .append_pair("state", &state)
            .append_pair("nonce", &nonce)
            .append_pair("code_challenge", &challenge)
            .append_pair("code_challenge_method", "S256");
        self.pending.insert(state.clone(), Pending { verifier, nonce }, Instant::now());
        Ok((url.into(), state))
    }

    /// Ends a sign-on that was begun: each once.
    ///
    /// # Errors
    /// Where it is not known, or the provider does not say who it is in a way that holds.
    pub async fn end(&self, state: &str, code: String) -> Result<Identity> {
        let pending = self.pending.remove(state, Instant::now());
        let pending = pending.ok_or_else(|| refused("it was not begun, or took too long"))?;
        let known = self.known().await?;
        let token = self.exchanged(&known, &code, &pending.verifier).await.map_err(refused)?;
        let wanted = Wanted {
            issuer: &self.issuer,
            client_id: &self.client_id,
            nonce: &pending.nonce,
            algorithms: &known.algorithms,
        };
        let claims = proven(&token, &known.keys, &wanted);
        if claims.is_err() {
            // Keys change: who comes next has those that the provider has then.
            *self.known.lock().await = None;
        }
        let claims = claims.map_err(refused)?;
        let text = |name: &str| claims.get(name).and_then(Value::as_str).map(str::to_owned);
        let name =
            text(&self.name_claim).ok_or_else(|| refused(format!("the id token has no `{}`", self.name_claim)))?;
        let subject = text("sub").ok_or_else(|| refused("the id token has no `sub`"))?;
        let groups = claims.get(&self.groups_claim).and_then(Value::as_array).into_iter().flatten();
        let groups = groups.filter_map(Value::as_str).filter(|group| group.len() <= MAX_GROUP);
        Ok(Identity {
            subject: format!("{} {subject}", self.issuer),
            name,
            groups: groups.take(MAX_GROUPS).map(str::to_owned).collect(),
        })
    }

    /// Gives a code for the id token that it stands for (RFC 6749, 4.1.3).
    async fn exchanged(&self, known: &Known, code: &str, verifier: &str) -> std::result::Result<String, String> {
        let mut form = vec![
            ("grant_type", "authorization_code"),
            ("code", code),
            ("redirect_uri", self.redirect.as_str()),
            ("code_verifier", verifier),
        ];
        let request = self.http.post(known.token.clone()).header("accept", "application/json");
        let request = match self.client_secret.as_deref() {
            Some(secret) if !known.secret_in_body => {
                let written = |text: &str| utf8_percent_encode(text, NON_ALPHANUMERIC).to_string();
                request.basic_auth(written(&self.client_id), Some(written(secret)))
            }
            secret => {
                form.push(("client_id", self.client_id.as_str()));
                form.extend(secret.map(|secret| ("client_secret", secret)));
                request
            }
        };
        let (status, body) = read(request.form(&form)).await?;
        let answered: Answered = parsed((StatusCode::OK, body)).map_err(|e| format!("{status}: {e}"))?;
        if let Some(mistake) = answered.error {
            let mistake = format!("{mistake}: {}", answered.error_description.unwrap_or_default());
            return Err(mistake.chars().take(MAX_MISTAKE).collect());
        }
        answered.id_token.filter(|_| status.is_success()).ok_or_else(|| format!("{status}: there is no id token"))
    }
}

/// Asks the provider one thing.
async fn read(request: RequestBuilder) -> std::result::Result<(StatusCode, Vec<u8>), String> {
    let failed = |e: reqwest::Error| innermost(&e);
    let answer = request.send().await.map_err(failed)?;
    let status = answer.status();
    let (mut bytes, mut pieces) = (Vec::new(), answer.bytes_stream());
    while let Some(piece) = pieces.next().await {
        bytes.extend_from_slice(&piece.map_err(failed)?);
        if bytes.len() > MAX_ANSWER {
            return Err("its answer is larger than 1 MiB".to_owned());
        }
    }
    Ok((status, bytes))
}

/// What an answer holds.
fn parsed<T: for<'a> Deserialize<'a>>((status, body): (StatusCode, Vec<u8>)) -> std::result::Result<T, String> {
    if !status.is_success() {
        return Err(format!("it answered {status}"));
    }
    serde_json::from_slice(&body).map_err(|e| format!("its answer is not understood: {e}"))
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "a test may end where it stands")]
mod tests {
    use super::*;
    use crate::auth::stand_in_provider::{Known as Person, serve};
    use axum::Router;
    use axum::routing::get;
    use serde_json::json;
    use tokio::net::TcpListener;

    fn provider(issuer: &str) -> Result<Option<Provider>> {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let set = [("oidc.issuer", issuer), ("oidc.client_id", "calvex"), ("oidc.client_secret", "s%:crét")];
        let options = set.map(|(name, value)| (name, value.to_owned(), "--x"));
        Provider::of(&Settings::read(None, &|_| None, &options).unwrap(), "http://127.0.0.1:8437/")
    }

    async fn listener() -> (TcpListener, String) {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = format!("http://{}", listener.local_addr().unwrap());
        (listener, address)
    }

    #[tokio::test]
    async fn a_sign_on_ends_once_and_as_it_was_begun() {
        let (listening, issuer) = listener().await;
        let people = vec![Person { name: "olle".into(), groups: vec!["drivers".into(), "x".repeat(129)] }];
        let stand_in = tokio::spawn(serve(listening, people));
        let provider = provider(&issuer).unwrap().unwrap();
        let browser =
            reqwest::Client::builder().no_proxy().redirect(reqwest::redirect::Policy::none()).build().unwrap();
        let chosen = async |url: &str| {
            let url = format!("{}&name=olle", url.replace("/authorize?", "/chosen?"));
            let back = browser.get(url).send().await.unwrap().headers()["location"].to_str().unwrap().to_owned();
            let back = Url::parse(&back).unwrap();
            assert_eq!(back.path(), "/api/sign-on/done");
            let of = |name: &str| back.query_pairs().find(|(n, _)| n == name).unwrap().1.into_owned();
            (of("state"), of("code"))
        };
        let (url, begun) = provider.begin().await.unwrap();
        let (state, code) = chosen(&url).await;
        assert_eq!(state, begun);
        let (other, _) = provider.begin().await.unwrap();
        let identity = provider.end(&state, code.clone()).await.unwrap();
        assert_eq!(identity.subject, format!("{issuer} fennmark-olle"));
        assert_eq!((identity.name.as_str(), identity.groups.as_slice()), ("olle", &["drivers".to_owned()][..]));
        // Neither again, nor with a state that nobody gave, nor with the code of another sign-on.
        assert!(provider.end(&state, code.clone()).await.is_err());
        assert!(provider.end("made up", code).await.is_err());
        let (_, code) = chosen(&other).await;
        let (_, third) = provider.begin().await.unwrap();
        assert!(provider.end(&third, code).await.is_err());
        stand_in.abort();
    }

    #[tokio::test]
    async fn what_a_provider_says_of_itself_is_not_taken_on_trust() {
        assert!(provider("").unwrap().is_none());
        for bad in
            ["http://sign-on.fennmark.example", "http://127.0.0.1.fennmark.example", "ftp://127.0.0.1", "https://"]
        {
            assert!(provider(bad).is_err(), "{bad} is taken");
        }
        let good = |issuer: &str| {
            json!({
                "issuer": issuer, "authorization_endpoint": format!("{issuer}/authorize"),
                "token_endpoint": format!("{issuer}/token"), "jwks_uri": format!("{issuer}/keys"),
                "id_token_signing_alg_values_supported": ["EdDSA"],
            })
        };
        for (change, why) in [
            (json!({}), None),
            (json!({ "issuer": "https://elsewhere.example" }), Some("calls itself `https://elsewhere.example`")),
            (json!({ "token_endpoint": "http://elsewhere.example/token" }), Some("begins with https://")),
            (json!({ "authorization_endpoint": "javascript:alert(1)" }), Some("begins with https://")),
            (json!({ "jwks_uri": "file:///etc/passwd" }), Some("begins with https://")),
            (json!({ "token_endpoint": null }), Some("is not understood")),
            (json!({ "id_token_signing_alg_values_supported": null }), Some("is not understood")),
            (json!({ "more": "x".repeat(MAX_ANSWER) }), Some("larger than 1 MiB")),
        ] {
            let (listening, issuer) = listener().await;
            let mut said = good(&issuer);
            for (name, value) in change.as_object().unwrap() {
                said[name] = value.clone();
            }
            let router = Router::new()
                .route("/.well-known/openid-configuration", get(async move || said.to_string()))
                .route("/keys", get(async || r#"{"keys":[]}"#));
            let served = tokio::spawn(async { axum::serve(listening, router).await });
            let begun = provider(&issuer).unwrap().unwrap().begin().await.map_err(|e| e.to_string());
            match why {
                None => assert!(begun.unwrap().0.contains("scope=openid+profile+groups")),
                Some(why) => assert!(begun.as_ref().unwrap_err().contains(why), "{begun:?}"),
            }
            served.abort();
        }
    }
}
