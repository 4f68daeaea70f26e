//! The client's side of the HTTP interface: where the service is, with what it is asked, and what its problems say.

use crate::addresses::Addresses;
use crate::profiles::Profiles;
use anyhow::{Context, Result, anyhow, bail};
use calvex_wire::Problem;
use calvex_wire::api::{CONSOLE_HEADER, LoginRequest};
use clap::Args;
use reqwest::{Method, RequestBuilder, Response, StatusCode, header};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::io::IsTerminal;
use std::sync::OnceLock;
use std::time::Duration;

/// Where the service listens unless set otherwise.
pub const DEFAULT_URL: &str = "http://127.0.0.1:8437";

/// Where to ask, and as whom.
#[derive(Args, Clone, Debug)]
pub struct Connection {
    /// Address of the service, or of several nodes, joined by commas; else that of the profile, else http://127.0.0.1:8437
    #[arg(long, env = "CALVEX_URL", global = true, help_heading = "Service")]
    pub url: Option<String>,
    /// Ask the service kept under this name (`calvex profile`)
    #[arg(long, env = "CALVEX_PROFILE", global = true, help_heading = "Service")]
    pub profile: Option<String>,
    /// Token for reading [env: CALVEX_TOKEN]
    #[arg(long, global = true, help_heading = "Service")]
    pub token: Option<String>,
    /// Sign in with this name where there is no token; the password comes from CALVEX_ADMIN_PASSWORD or the terminal
    #[arg(long, default_value = "admin", global = true, help_heading = "Service")]
    pub user: String,
}

/// A client that is signed in.
pub struct Client {
    http: reqwest::Client,
    base: String,
    authorization: (header::HeaderName, String),
}

/// The password of a person, from the environment or typed.
pub fn password(user: &str) -> Result<String> {
    if let Ok(password) = std::env::var("CALVEX_ADMIN_PASSWORD") {
        return Ok(password);
    }
    if !std::io::stdin().is_terminal() {
        bail!("no token and no password; set CALVEX_TOKEN, or CALVEX_ADMIN_PASSWORD with --user");
    }
    typed(&format!("password of {user}: "))
}

/// Asks for a secret without showing it.
pub fn typed(what: &str) -> Result<String> {
    let terminal = console::Term::stderr();
    terminal.write_str(what)?;
    Ok(terminal.read_secure_line()?)
}

/// The certificates of authorities that are trusted, where any are named.
static TRUSTED: OnceLock<Vec<reqwest::Certificate>> = OnceLock::new();

/// Trusts the certificate authorities of a PEM file, and no others, from now on, for every request of this process.
pub fn trust(file: &std::path::Path) -> Result<()> {
    let read =
        || -> Result<Vec<reqwest::Certificate>> { Ok(reqwest::Certificate::from_pem_bundle(&std::fs::read(file)?)?) };
    let certificates = read().with_context(|| format!("--ca {}", file.display()))?;
    if certificates.is_empty() {
        bail!("--ca {}: it holds no certificate; give a PEM file", file.display());
    }
    let _ = TRUSTED.set(certificates);
    Ok(())
}

/// A client that gives up after `timeout`, and trusts whom [`trust`] named.
///
/// # Errors
/// Where the machine has no means for TLS.
pub fn http_client(timeout: Duration) -> Result<reqwest::Client> {
    let builder = reqwest::Client::builder().timeout(timeout).no_proxy();
    let builder = match TRUSTED.get() {
        Some(certificates) => builder.tls_certs_only(certificates.iter().cloned()),
        None => builder,
    };
    Ok(builder.build()?)
}

impl Connection {
    /// With this address and token.
    pub fn to(url: &str, token: &str) -> Self {
        let (url, token) = (Some(url.to_owned()), Some(token.to_owned()));
        Connection { url, profile: None, token, user: "admin".to_owned() }
    }

    /// The address asked, and a token for it where there is one. A profile's token goes to the profile's address only.
    pub fn meant(&self) -> Result<(String, Option<String>)> {
        let kept = if self.url.is_some() && self.profile.is_none() {
            None
        } else {
            Profiles::load()?.get(self.profile.as_deref())?.cloned()
        };
        let kept_url = kept.as_ref().map(|k| k.url.as_str());
        let url = self.url.as_deref().or(kept_url).unwrap_or(DEFAULT_URL).trim_end_matches('/').to_owned();
        let token = self.token.clone().or_else(|| std::env::var("CALVEX_TOKEN").ok()).filter(|t| !t.is_empty());
        let token = token.or_else(|| kept.as_ref().filter(|k| k.url == url).and_then(|k| k.token.clone()));
        Ok((url, token))
    }

    /// The first address, for links.
    pub fn first(&self) -> Result<String> {
        Ok(Addresses::of(&self.meant()?.0, 0)?.current().to_owned())
    }

    /// Signs in: by token where there is one, else by name and password.
    pub async fn open(&self) -> Result<Client> {
        let http = http_client(Duration::from_secs(60))?;
        let (named, token) = self.meant()?;
        let base = ready(&named).await?;
        if let Some(token) = token {
            return Ok(Client { http, base, authorization: (header::AUTHORIZATION, format!("Bearer {token}")) });
        }
        Self::sign_in(http, base, &self.user, password(&self.user)?).await
    }

    /// Signs in by name and password.
    pub async fn with_password(url: &str, user: &str, password: &str) -> Result<Client> {
        let http = http_client(Duration::from_secs(60))?;
        Self::sign_in(http, url.trim_end_matches('/').to_owned(), user, password.to_owned()).await
    }

    /// Signs in by name and password, whatever tokens there are: for what a token does not do. With the password.
    pub async fn open_by_name(&self) -> Result<(Client, String)> {
        let (base, password) = (ready(&self.meant()?.0).await?, password(&self.user)?);
        let client = Self::sign_in(http_client(Duration::from_secs(60))?, base, &self.user, password.clone()).await?;
        Ok((client, password))
    }

    /// Asks as nobody, where a secret in the body says who it is.
    pub async fn post_as_nobody(&self, path: &str, body: &impl Serialize) -> Result<()> {
        let base = ready(&self.meant()?.0).await?;
        let request = http_client(Duration::from_secs(60))?.post(format!("{base}{path}")).json(body);
        good(request.send().await.map_err(|e| away(&base, &e))?).await.map(drop)
    }

    async fn sign_in(http: reqwest::Client, base: String, user: &str, password: String) -> Result<Client> {
        let ask = LoginRequest { name: user.to_owned(), password };
        let response = http.post(format!("{base}/api/login")).json(&ask).send().await.map_err(|e| away(&base, &e))?;
        let response = good(response).await?;
        let cookie =
            response.headers().get(header::SET_COOKIE).and_then(|v| v.to_str().ok()).and_then(|v| v.split(';').next());
        let cookie = cookie.context("the service gave no session")?.to_owned();
        Ok(Client { http, base, authorization: (header::COOKIE, cookie) })
    }
}

/// The one of the named addresses that is asked.
async fn ready(named: &str) -> Result<String> {
    Addresses::of(named, 0)?.ready().await
}

fn away(base: &str, e: &reqwest::Error) -> anyhow::Error {
    let why = root_cause(e);
    if e.is_connect() && why.contains("certificate") {
        return anyhow!("{base} does not prove itself: {why}; name its authority with --ca FILE");
    }
    if e.is_connect() {
        return anyhow!("no service answers at {base}; start it with `calvex serve`, or set CALVEX_URL");
    }
    anyhow!("{base}: {why}")
}

/// Whether a request that was answered so may be sent again: nothing of it was taken.
pub fn is_passing(status: StatusCode) -> bool {
    status == StatusCode::TOO_MANY_REQUESTS || status == StatusCode::REQUEST_TIMEOUT || status.is_server_error()
}

/// The innermost reason, which is the one that explains.
pub fn root_cause(e: &dyn std::error::Error) -> String {
    let mut inner: &dyn std::error::Error = e;
    while let Some(source) = inner.source() {
        inner = source;
    }
    inner.to_string()
}

/// The response, or its problem as an error.
pub async fn good(response: Response) -> Result<Response> {
    let status = response.status();
    if status.is_success() {
        return Ok(response);
    }
    let text = response.text().await.unwrap_or_default();
    let reported = serde_json::from_str::<Problem>(&text).ok();
    match reported {
        Some(p) if !p.mistakes.is_empty() => {
            bail!("{}", p.mistakes.iter().map(ToString::to_string).collect::<Vec<_>>().join("; and "))
        }
        Some(p) => bail!("{}", p.detail),
        None if status == StatusCode::UNPROCESSABLE_ENTITY || status == StatusCode::BAD_REQUEST => {
            bail!("{}", text.trim())
        }
        None => bail!("the service answered {status}"),
    }
}

impl Client {
    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        let (name, value) = &self.authorization;
        self.http.request(method, format!("{}{path}", self.base)).header(name, value).header(CONSOLE_HEADER, "1")
    }

    async fn send(&self, request: RequestBuilder) -> Result<Response> {
        good(request.send().await.map_err(|e| away(&self.base, &e))?).await
    }

    /// Reads.
    pub async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T> {
        Ok(self.send(self.request(Method::GET, path)).await?.json().await?)
    }

    /// Asks with a body and reads the answer.
    pub async fn post<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T> {
        Ok(self.send(self.request(Method::POST, path).json(body)).await?.json().await?)
    }

    /// Asks with a body for an answer that comes bit by bit, for as long as it goes on.
    pub async fn stream(&self, path: &str, body: &impl Serialize) -> Result<Response> {
        let request = self.request(Method::POST, path).json(body);
        self.send(request.timeout(Duration::from_secs(u64::from(u32::MAX)))).await
    }

    /// Changes something that has no answer.
    pub async fn put(&self, path: &str, body: &impl Serialize) -> Result<()> {
        self.send(self.request(Method::PUT, path).json(body)).await.map(|_| ())
    }

    /// Asks for something that has no answer.
    pub async fn post_only(&self, path: &str, body: &impl Serialize) -> Result<()> {
        self.send(self.request(Method::POST, path).json(body)).await.map(|_| ())
    }

    /// Removes something.
    pub async fn delete(&self, path: &str) -> Result<()> {
        self.send(self.request(Method::DELETE, path)).await.map(|_| ())
    }
}

/// A name as a segment of a path.
pub fn segment(name: &str) -> String {
    let plain = |b: u8| b.is_ascii_alphanumeric() || b"-_.~".contains(&b);
    name.bytes().map(|b| if plain(b) { (b as char).to_string() } else { format!("%{b:02X}") }).collect()
}
