//! Who may do what: keys for sending, tokens and sessions for reading, and the limits on trying.

pub mod cache;
pub mod passwords;
pub mod peer;
pub mod provider;
mod read_scope;
pub mod secrets;
pub mod sign_in;
pub mod stand_in_provider;
pub mod strangers;
mod watch;

pub use read_scope::{LaneAccess, ReadScope};
pub use watch::{CHANGED, Watch};

use crate::auth::secrets::hash_secret;
use crate::config::Config;
use crate::error::{Result, ServiceError};
use crate::state::{Auth, Base};
use axum::extract::{FromRef, FromRequestParts};
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, header};
use calvex_language::domain::access::Principal;
use calvex_language::domain::grant::May;
use calvex_language::domain::rule::Rule;
use calvex_store::records::Act;
use calvex_wire::api::{CONSOLE_HEADER, SESSION_COOKIE};
use std::sync::Arc;

/// The secret of a request: `Authorization: Bearer …`.
pub fn bearer(headers: &HeaderMap) -> Option<&str> {
    let value = headers.get(header::AUTHORIZATION)?.to_str().ok()?;
    let (scheme, secret) = value.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then_some(secret.trim())
}

/// How a secret of ours begins, as it is listed; none where it has not the form of one.
pub fn shown_prefix(secret: &str, sort: &str) -> Option<String> {
    let random = secret.strip_prefix("calvex-")?.strip_prefix(sort)?.strip_prefix('-')?;
    let formed = random.len() == 43 && random.bytes().all(|b| b.is_ascii_alphanumeric() || b"-_".contains(&b));
    formed.then(|| format!("calvex-{sort}-{}", &random[..4]))
}

/// What a request proved itself by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Proof {
    Token([u8; 32]),
    Session([u8; 32]),
}

/// A person, by session or token.
#[derive(Debug, Clone)]
pub struct Reader {
    /// Who, and which lanes.
    pub who: Arc<Principal>,
    proof: Proof,
}

impl Reader {
    /// What may be read.
    pub fn scope(&self) -> ReadScope {
        ReadScope::of(self)
    }

    /// Whether the lane may be read.
    pub fn may_read(&self, lane: u32) -> bool {
        self.who.may_read(lane)
    }

    /// What is kept of the session's secret, where the person asks by one.
    pub fn session(&self) -> Option<[u8; 32]> {
        match self.proof {
            Proof::Session(hash) => Some(hash),
            Proof::Token(_) => None,
        }
    }

    /// Whether a rule and its alerts may be seen: by its owner, the people of its team, and those who may read everything,
    /// so that no rule reads more than they.
    pub fn may_see_rule(&self, rule: &Rule, config: &Config) -> bool {
        self.owns_rule(rule) || self.reads_everything(config)
    }

    /// Whether a rule is this one's own, or of a team of theirs.
    pub fn owns_rule(&self, rule: &Rule) -> bool {
        self.who.owns(rule.owner_id, rule.team_id)
    }

    /// Whether a rule may be changed by this one: its owner, the people of its team, administrators.
    pub fn may_change_rule(&self, rule: &Rule) -> bool {
        self.who.administers || self.owns_rule(rule)
    }

    /// Whether all of every lane may be read.
    pub fn reads_everything(&self, config: &Config) -> bool {
        let scope = self.scope();
        config.lanes().iter().all(|lane| scope.reads_whole(lane.id))
    }

    async fn of(auth: &Arc<Auth>, proof: Proof) -> Result<Option<Self>> {
        let now_ns = (auth.base.clock)();
        let found = match proof {
            Proof::Token(hash) => {
                auth.readers.get(hash, async { Ok(auth.base.store.token_principal(&hash, now_ns).await?) }).await?
            }
            Proof::Session(hash) => {
                auth.readers.get(hash, async { Ok(auth.base.store.session_principal(&hash, now_ns).await?) }).await?
            }
        };
        Ok(found.map(|who| Reader { who, proof }))
    }

    /// The same person as things stand now; none once the session or token is gone. For what lasts longer than a
    /// request.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn still(&self, auth: &Arc<Auth>) -> Result<Option<Self>> {
        Reader::of(auth, self.proof).await
    }
}

/// The session secret of a request's cookie.
pub fn session_secret(headers: &HeaderMap) -> Option<&str> {
    let cookies = headers.get_all(header::COOKIE).into_iter().filter_map(|v| v.to_str().ok());
    cookies.flat_map(|v| v.split(';')).find_map(|c| c.trim().strip_prefix(SESSION_COOKIE)?.strip_prefix('='))
}

impl<S: Send + Sync> FromRequestParts<S> for Reader
where
    Arc<Auth>: FromRef<S>,
{
    type Rejection = ServiceError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self> {
        Reader::of_request(parts, &Arc::<Auth>::from_ref(state)).await
    }
}

impl Reader {
    /// The person who makes this request.
    ///
    /// # Errors
    /// Where it proves nobody.
    pub async fn of_request(parts: &Parts, auth: &Arc<Auth>) -> Result<Self> {
        // Looked up once: a body is read for those alone who may send one.
        if let Some(known) = parts.extensions.get::<Reader>() {
            return Ok(known.clone());
        }
        let reader = Reader::proven(parts, auth).await;
        if matches!(reader, Err(ServiceError::NotSignedIn(_))) {
            auth.strangers.refused().await;
        }
        reader
    }

    /// The person whose token or session a request carries.
    async fn proven(parts: &Parts, auth: &Arc<Auth>) -> Result<Self> {
        if let Some(secret) = bearer(&parts.headers) {
            let found = Reader::of(auth, Proof::Token(hash_secret(secret))).await?;
            let reported = "this token is unknown or revoked; `calvex token new` makes one";
            return found.ok_or_else(|| ServiceError::NotSignedIn(reported.into()));
        }
        let reported = || {
            ServiceError::NotSignedIn(
                "sign in, or send `Authorization: Bearer TOKEN`; `calvex token new` makes one".into(),
            )
        };
        let secret = session_secret(&parts.headers).ok_or_else(reported)?;
        // A page of another site can make a browser send the cookie, but not this header (Fetch: no-cors requests).
        if parts.method != Method::GET && !parts.headers.contains_key(CONSOLE_HEADER) {
            return Err(ServiceError::NotAllowed(format!(
                "a session may change something only with the header {CONSOLE_HEADER}"
            )));
        }
        Reader::of(auth, Proof::Session(hash_secret(secret))).await?.ok_or_else(reported)
    }
}

/// A person who may change what is theirs: not by a token that only reads.
pub struct Editor(pub Reader);

impl<S: Send + Sync> FromRequestParts<S> for Editor
where
    Arc<Auth>: FromRef<S>,
{
    type Rejection = ServiceError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self> {
        let reader = Reader::from_request_parts(parts, state).await?;
        if !reader.who.changes {
            return Err(ServiceError::NotAllowed(
                "this token reads and changes nothing; `calvex token new --for configure` makes one that may".into(),
            ));
        }
        Ok(Editor(reader))
    }
}

impl Reader {
    /// Whether this may be done in the lane.
    pub fn may(&self, lane: u32, what: May) -> bool {
        self.who.changes && self.who.may(lane, what)
    }

    /// What this person does now, for the audit trail.
    pub fn act<'a>(&'a self, base: &Base, act: &'static str, what: impl Into<String>) -> Act<'a> {
        Act { by: self.who.actor(), ..base.act(self.who.name.as_str(), act, what) }
    }
}

/// Somebody who reads the audit trail.
pub struct Auditor(pub Reader);

impl<S: Send + Sync> FromRequestParts<S> for Auditor
where
    Arc<Auth>: FromRef<S>,
{
    type Rejection = ServiceError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self> {
        let reader = Reader::from_request_parts(parts, state).await?;
        if !reader.who.audits {
            return Err(ServiceError::NotAllowed(format!(
                "`{}` does not read the audit trail; an auditor does, or an administrator",
                reader.who.name
            )));
        }
        Ok(Auditor(reader))
    }
}

/// A person who administers.
pub struct Admin(pub Reader);

impl<S: Send + Sync> FromRequestParts<S> for Admin
where
    Arc<Auth>: FromRef<S>,
{
    type Rejection = ServiceError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self> {
        let Editor(reader) = Editor::from_request_parts(parts, state).await?;
        if !reader.who.administers {
            return Err(ServiceError::NotAllowed(format!(
                "`{}` may read, but not administer; ask an administrator",
                reader.who.name
            )));
        }
        Ok(Admin(reader))
    }
}
