//! Who may do what: keys for sending, tokens and sessions for reading, and the limits on trying.

use crate::error::{Result, ServiceError};
use crate::secrets::hash_secret;
use crate::state::{App, Shared};
use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, header};
use calvex_language::model::Value;
use calvex_store::records::Act;
use calvex_store::records::access::Principal;
use calvex_store::records::keys::{KeyLimits, KeyRow};
use calvex_wire::api::{CONSOLE_HEADER, SESSION_COOKIE};
use moka::sync::Cache;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

/// A key that may send.
#[derive(Debug)]
pub struct Sender {
    /// Of the key.
    pub key_id: u32,
    /// The key's name.
    pub name: String,
    /// Stamped on every event.
    pub fixed: Vec<(String, Value)>,
    /// What it may send.
    pub limits: KeyLimits,
    /// From when on the secret that was shown is no longer good.
    ends_ns: Option<i64>,
}

impl Sender {
    /// Of a key's record.
    fn of(key: KeyRow) -> Self {
        let fixed = match serde_json::from_str::<Value>(&key.fixed) {
            Ok(Value::Object(fixed)) => fixed,
            _ => Vec::new(),
        };
        let ends_ns = [key.limits.ends_ns, key.secret_ends_ns].into_iter().flatten().min();
        Sender { key_id: key.id, name: key.name, fixed, limits: key.limits, ends_ns }
    }
}

/// Who stands behind secrets looked up lately, nobody included: a sender that goes on with a wrong key asks the database
/// once in a while only. Any change made here forgets them all at once, what is being looked up
/// meanwhile included; a change on another node is seen when the entry ends, within seconds.
pub struct Lookups<T> {
    known: Cache<[u8; 32], Option<Arc<T>>>,
    /// Counts the changes.
    turn: AtomicU64,
}

impl<T: Send + Sync + 'static> Lookups<T> {
    /// Empty; entries end after `keep`.
    pub fn new(keep: Duration) -> Self {
        Lookups { known: Cache::builder().max_capacity(10_000).time_to_live(keep).build(), turn: AtomicU64::new(0) }
    }

    /// Forgets all.
    pub fn clear(&self) {
        self.turn.fetch_add(1, Ordering::SeqCst);
        self.known.invalidate_all();
    }

    /// Who stands behind `hash`, by `look` where it is not known.
    async fn get(&self, hash: [u8; 32], look: impl Future<Output = Result<Option<T>>>) -> Result<Option<Arc<T>>> {
        if let Some(known) = self.known.get(&hash) {
            return Ok(known);
        }
        let turn = self.turn.load(Ordering::SeqCst);
        let found = look.await?.map(Arc::new);
        if self.turn.load(Ordering::SeqCst) == turn {
            self.known.insert(hash, found.clone());
            // A change in between did not see this entry.
            if self.turn.load(Ordering::SeqCst) != turn {
                self.known.invalidate(&hash);
            }
        }
        Ok(found)
    }
}

/// The secret of a request: `Authorization: Bearer …`.
fn bearer(headers: &HeaderMap) -> Option<&str> {
    let value = headers.get(header::AUTHORIZATION)?.to_str().ok()?;
    let (scheme, secret) = value.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then_some(secret.trim())
}

/// The sender of a request.
///
/// # Errors
/// Where there is no good key.
pub async fn sender(app: &Shared, headers: &HeaderMap) -> Result<Arc<Sender>> {
    let Some(secret) = bearer(headers) else {
        crate::intake::refuse(app, "no key", "no-key", 1, "");
        app.strangers.refused().await;
        let cure = "send `Authorization: Bearer KEY`; `calvex key new` makes one";
        return Err(ServiceError::NotSignedIn(format!("this request carries no key; {cure}")));
    };
    sender_of(app, secret).await
}

/// The sender that a way in without keys counts as: the key of that name, if there is one; else the name alone.
///
/// # Errors
/// Where the database fails.
pub async fn named_sender(app: &Shared, name: &str) -> Result<Arc<Sender>> {
    let look = async {
        let nameless = || Sender {
            key_id: 0,
            name: name.to_owned(),
            fixed: Vec::new(),
            limits: KeyLimits::default(),
            ends_ns: None,
        };
        match app.store.key_named(name).await? {
            Some(key) => Ok(Some(Sender::of(key))),
            // Revoking the key closes the way in; it does not lift the key's limits.
            None if app.store.is_revoked(name).await? => Ok(None),
            None => Ok(Some(nameless())),
        }
    };
    let found = app.keys.get(hash_secret(&format!("named {name}")), look).await?;
    let closed =
        |what: &str| ServiceError::NotSignedIn(format!("the key `{name}`, which stands for this way in, {what}"));
    let sender = found.ok_or_else(|| closed("is revoked; `calvex key new` makes another"))?;
    match sender.ends_ns.is_some_and(|ends| ends <= (app.clock)()) {
        true => Err(closed("has ended; `calvex key limit` gives it another end")),
        false => Ok(sender),
    }
}

/// The sender of a key.
///
/// # Errors
/// Where the key is not good.
pub async fn sender_of(app: &Shared, secret: &str) -> Result<Arc<Sender>> {
    let look = async { Ok(app.store.key(&hash_secret(secret)).await?.map(Sender::of)) };
    match app.keys.get(hash_secret(secret), look).await? {
        Some(sender) if sender.ends_ns.is_some_and(|ends| ends <= (app.clock)()) => {
            crate::intake::refuse(app, &sender.name, "key-ended", 1, "");
            Err(ServiceError::NotSignedIn(format!(
                "the key of `{}` has ended; `calvex key rotate` gives it another secret, `calvex key limit` another end",
                sender.name
            )))
        }
        Some(sender) => Ok(sender),
        None => {
            // What was sent may be a password, so it is neither stored nor given back; how a key of ours begins is.
            let begins = shown_prefix(secret, "key");
            crate::intake::refuse(app, begins.as_deref().unwrap_or("no key of ours"), "wrong-key", 1, "");
            app.strangers.refused().await;
            let told = match begins {
                Some(begins) => format!("the key beginning `{begins}` is not good (it is unknown or revoked)"),
                None if secret.starts_with("calvex-token-") => "a token reads, a key sends".to_owned(),
                None => "the key is not good (it has not the form of a key)".to_owned(),
            };
            Err(ServiceError::NotSignedIn(format!("{told}; `calvex key list` shows those in use")))
        }
    }
}

/// How a secret of ours begins, as it is listed; none where it has not the form of one.
fn shown_prefix(secret: &str, sort: &str) -> Option<String> {
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
    /// Whether the lane may be read.
    pub fn may_read(&self, lane: u32) -> bool {
        self.who.may_read(lane)
    }

    async fn of(app: &Shared, proof: Proof) -> Result<Option<Self>> {
        let found = match proof {
            Proof::Token(hash) => app.readers.get(hash, async { Ok(app.store.token_principal(&hash).await?) }).await?,
            Proof::Session(hash) => {
                let now_ns = (app.clock)();
                app.readers.get(hash, async { Ok(app.store.session_principal(&hash, now_ns).await?) }).await?
            }
        };
        Ok(found.map(|who| Reader { who, proof }))
    }

    /// The same person as things stand now; none once the session or token is gone. For what lasts longer than a
    /// request.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn still(&self, app: &Shared) -> Result<Option<Self>> {
        Reader::of(app, self.proof).await
    }
}

/// The session secret of a request's cookie.
pub fn session_secret(headers: &HeaderMap) -> Option<&str> {
    let cookies = headers.get_all(header::COOKIE).into_iter().filter_map(|v| v.to_str().ok());
    cookies.flat_map(|v| v.split(';')).find_map(|c| c.trim().strip_prefix(SESSION_COOKIE)?.strip_prefix('='))
}

impl FromRequestParts<Shared> for Reader {
    type Rejection = ServiceError;

    async fn from_request_parts(parts: &mut Parts, app: &Shared) -> Result<Self> {
        // Looked up once: a body is read for those alone who may send one.
        if let Some(known) = parts.extensions.get::<Reader>() {
            return Ok(known.clone());
        }
        let reader = Reader::proven(parts, app).await;
        if matches!(reader, Err(ServiceError::NotSignedIn(_))) {
            app.strangers.refused().await;
        }
        reader
    }
}

impl Reader {
    /// The person whose token or session a request carries.
    async fn proven(parts: &Parts, app: &Shared) -> Result<Self> {
        if let Some(secret) = bearer(&parts.headers) {
            let found = Reader::of(app, Proof::Token(hash_secret(secret))).await?;
            let told = "this token is unknown or revoked; `calvex token new` makes one";
            return found.ok_or_else(|| ServiceError::NotSignedIn(told.into()));
        }
        let told = || {
            ServiceError::NotSignedIn(
                "sign in, or send `Authorization: Bearer TOKEN`; `calvex token new` makes one".into(),
            )
        };
        let secret = session_secret(&parts.headers).ok_or_else(told)?;
        // A page of another site can make a browser send the cookie, but not this header (Fetch: no-cors requests).
        if parts.method != Method::GET && !parts.headers.contains_key(CONSOLE_HEADER) {
            return Err(ServiceError::NotAllowed(format!(
                "a session may change something only with the header {CONSOLE_HEADER}"
            )));
        }
        Reader::of(app, Proof::Session(hash_secret(secret))).await?.ok_or_else(told)
    }
}

/// A person who may change what is theirs: not by a token that only reads.
pub struct Editor(pub Reader);

impl FromRequestParts<Shared> for Editor {
    type Rejection = ServiceError;

    async fn from_request_parts(parts: &mut Parts, app: &Shared) -> Result<Self> {
        let reader = Reader::from_request_parts(parts, app).await?;
        if !reader.who.changes {
            return Err(ServiceError::NotAllowed(
                "this token reads and changes nothing; `calvex token new --for administer` makes one that may".into(),
            ));
        }
        Ok(Editor(reader))
    }
}

impl Reader {
    /// What this person does now, for the audit trail.
    pub fn act<'a>(&'a self, app: &App, act: &'static str, what: impl Into<String>) -> Act<'a> {
        Act { at_ns: (app.clock)(), by: self.who.actor(), act, what: what.into() }
    }
}

/// A person who administers.
pub struct Admin(pub Reader);

impl FromRequestParts<Shared> for Admin {
    type Rejection = ServiceError;

    async fn from_request_parts(parts: &mut Parts, app: &Shared) -> Result<Self> {
        let Editor(reader) = Editor::from_request_parts(parts, app).await?;
        if !reader.who.administers {
            return Err(ServiceError::NotAllowed(format!(
                "`{}` may read, but not administer; ask an administrator",
                reader.who.name
            )));
        }
        Ok(Admin(reader))
    }
}
