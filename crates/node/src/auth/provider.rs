//! Sign-on by a provider: OpenID Connect, by authorization code with PKCE (OpenID Connect Core 1.0, RFC 7636). The
//! library checks signature, issuer, audience, times and nonce of the id token; here stands what is asked of the
//! provider, how long anything is waited for, and how much of an answer is read.

use crate::admission::remembered::Remembered;
use crate::config::settings::Settings;
use crate::error::{Result, ServiceError};
use futures_util::StreamExt;
use openidconnect::core::{
    CoreAuthDisplay, CoreAuthPrompt, CoreAuthenticationFlow, CoreErrorResponseType, CoreGenderClaim, CoreJsonWebKey,
    CoreJweContentEncryptionAlgorithm, CoreJwsSigningAlgorithm, CoreProviderMetadata, CoreRevocableToken,
    CoreRevocationErrorResponse, CoreTokenIntrospectionResponse, CoreTokenType,
};
use openidconnect::{
    AdditionalClaims, AuthorizationCode, Client, ClientId, ClientSecret, CsrfToken, EmptyExtraTokenFields,
    EndpointMaybeSet, EndpointNotSet, EndpointSet, HttpRequest, HttpResponse, IdTokenFields, IssuerUrl, Nonce,
    PkceCodeChallenge, PkceCodeVerifier, RedirectUrl, Scope, StandardErrorResponse, StandardTokenResponse,
    TokenResponse,
};
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

/// Every claim of an id token beside the standard ones.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct Claims(serde_json::Map<String, serde_json::Value>);

impl AdditionalClaims for Claims {}

type Fields = IdTokenFields<
    Claims,
    EmptyExtraTokenFields,
    CoreGenderClaim,
    CoreJweContentEncryptionAlgorithm,
    CoreJwsSigningAlgorithm,
>;
type Known = Client<
    Claims,
    CoreAuthDisplay,
    CoreGenderClaim,
    CoreJweContentEncryptionAlgorithm,
    CoreJsonWebKey,
    CoreAuthPrompt,
    StandardErrorResponse<CoreErrorResponseType>,
    StandardTokenResponse<Fields, CoreTokenType>,
    CoreTokenIntrospectionResponse,
    CoreRevocableToken,
    CoreRevocationErrorResponse,
    EndpointSet,
    EndpointNotSet,
    EndpointNotSet,
    EndpointNotSet,
    EndpointMaybeSet,
    EndpointMaybeSet,
>;

/// A sign-on that was begun.
#[derive(Clone)]
struct Pending {
    verifier: String,
    nonce: Nonce,
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
    issuer: IssuerUrl,
    client_id: ClientId,
    client_secret: Option<ClientSecret>,
    redirect: RedirectUrl,
    name_claim: String,
    groups_claim: String,
    /// What the button says.
    pub label: String,
    http: reqwest::Client,
    known: Mutex<Option<(Instant, Arc<Known>)>>,
    pending: Remembered<String, Pending>,
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
        let local = ["http://127.0.0.1", "http://[::1]", "http://localhost"].iter().any(|l| issuer.starts_with(l));
        if !issuer.starts_with("https://") && !local {
            return Err(bad("oidc.issuer", "the address of a provider begins with https://"));
        }
        let redirect = format!("{}/api/sign-on/done", console_url.trim_end_matches('/'));
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
            issuer: IssuerUrl::new(issuer.to_owned()).map_err(|e| bad("oidc.issuer", &e.to_string()))?,
            client_id: ClientId::new(settings.text("oidc.client_id").to_owned()),
            client_secret: (!secret.is_empty()).then(|| ClientSecret::new(secret.to_owned())),
            redirect: RedirectUrl::new(redirect).map_err(|e| bad("notify.console_url", &e.to_string()))?,
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
        if let Some((at, client)) = known.as_ref()
            && at.elapsed() < KNOWN_FOR
        {
            return Ok(client.clone());
        }
        let http = self.http.clone();
        let ask = move |request: HttpRequest| ask(http.clone(), request);
        let metadata = CoreProviderMetadata::discover_async(self.issuer.clone(), &ask).await;
        let metadata = metadata.map_err(|e| away(&e))?;
        let client: Known =
            Client::from_provider_metadata(metadata, self.client_id.clone(), self.client_secret.clone());
        let client = Arc::new(client.set_redirect_uri(self.redirect.clone()));
        *known = Some((Instant::now(), client.clone()));
        Ok(client)
    }

    /// Begins a sign-on: where the browser goes, and the state by which it is known when it comes back.
    ///
    /// # Errors
    /// Where the provider does not answer.
    pub async fn begin(&self) -> Result<(String, String)> {
        let client = self.known().await?;
        let (challenge, verifier) = PkceCodeChallenge::new_random_sha256();
        let flow = CoreAuthenticationFlow::AuthorizationCode;
        let request = client.authorize_url(flow, CsrfToken::new_random, Nonce::new_random);
        let request = request.add_scope(Scope::new("profile".into())).add_scope(Scope::new("groups".into()));
        let (url, state, nonce) = request.set_pkce_challenge(challenge).url();
        let pending = Pending { verifier: verifier.secret().clone(), nonce };
        self.pending.insert(state.secret().clone(), pending, Instant::now());
        Ok((url.to_string(), state.secret().clone()))
    }

    /// Ends a sign-on that was begun: each once.
    ///
    /// # Errors
    /// Where it is not known, or the provider does not say who it is in a way that holds.
    pub async fn end(&self, state: &str, code: String) -> Result<Identity> {
        let refused = |why: String| {
            tracing::warn!("a sign-on by the provider was refused: {why}");
            ServiceError::NotSignedIn("the provider's answer does not hold; begin again".into())
        };
        let pending = self
            .pending
            .remove(state, Instant::now())
            .ok_or_else(|| refused("it was not begun, or took too long".into()))?;
        let client = self.known().await?;
        let http = self.http.clone();
        let ask = move |request: HttpRequest| ask(http.clone(), request);
        let exchange = client.exchange_code(AuthorizationCode::new(code)).map_err(|e| refused(e.to_string()))?;
        let answer = exchange.set_pkce_verifier(PkceCodeVerifier::new(pending.verifier)).request_async(&ask).await;
        let answer = answer.map_err(|e| refused(e.to_string()))?;
        let token = answer.id_token().ok_or_else(|| refused("there is no id token".into()))?;
        let claims = token.claims(&client.id_token_verifier(), &pending.nonce).map_err(|e| refused(e.to_string()))?;
        let of = |name: &str| claims.additional_claims().0.get(name);
        let name = match self.name_claim.as_str() {
            "preferred_username" => claims.preferred_username().map(|name| name.to_string()),
            "email" => claims.email().map(|email| email.to_string()),
            "sub" => Some(claims.subject().to_string()),
            other => of(other).and_then(|name| name.as_str()).map(str::to_owned),
        };
        let name = name.ok_or_else(|| refused(format!("the id token has no `{}`", self.name_claim)))?;
        let groups = of(&self.groups_claim).and_then(|groups| groups.as_array()).into_iter().flatten();
        let groups = groups.filter_map(|group| group.as_str()).filter(|group| group.len() <= MAX_GROUP);
        Ok(Identity {
            subject: format!("{} {}", claims.issuer().as_str(), claims.subject().as_str()),
            name,
            groups: groups.take(MAX_GROUPS).map(str::to_owned).collect(),
        })
    }
}

/// Asks the provider one thing.
async fn ask(http: reqwest::Client, request: HttpRequest) -> std::result::Result<HttpResponse, std::io::Error> {
    let failed = |e: reqwest::Error| std::io::Error::other(e.to_string());
    let (parts, body) = request.into_parts();
    let asked = http.request(parts.method, parts.uri.to_string()).headers(parts.headers).body(body);
    let answer = asked.send().await.map_err(failed)?;
    let (status, headers) = (answer.status(), answer.headers().clone());
    let (mut bytes, mut pieces) = (Vec::new(), answer.bytes_stream());
    while let Some(piece) = pieces.next().await {
        bytes.extend_from_slice(&piece.map_err(failed)?);
        if bytes.len() > MAX_ANSWER {
            return Err(std::io::Error::other("the provider's answer is larger than 1 MiB"));
        }
    }
    let mut response = HttpResponse::new(bytes);
    (*response.status_mut(), *response.headers_mut()) = (status, headers);
    Ok(response)
}

fn away(e: &impl std::error::Error) -> ServiceError {
    let mut why = e.to_string();
    let mut source = e.source();
    while let Some(inner) = source {
        why = inner.to_string();
        source = inner.source();
    }
    ServiceError::Busy(format!("the sign-on provider does not answer: {why}"), 10)
}
