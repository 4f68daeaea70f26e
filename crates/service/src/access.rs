//! Who may do what: keys for sending, tokens and sessions for reading, and the limits on trying.

use crate::error::{Result, ServiceError};
use crate::secrets::hash_secret;
use crate::state::Shared;
use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, header};
use calvex_core::event::Value;
use calvex_store::records::access::ReaderRow;
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
        Ok(Some(app.store.key_named(name).await?.map_or_else(nameless, Sender::of)))
    };
    let found = app.keys.get(hash_secret(&format!("named {name}")), look).await?;
    found.ok_or_else(|| ServiceError::NotSignedIn(format!("no sender is named `{name}`")))
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
            let begins: String = secret.chars().take(15).collect();
            crate::intake::refuse(app, &begins, "wrong-key", 1, "");
            let what = if secret.starts_with("calvex-token-") {
                "a token reads, a key sends"
            } else {
                "it is unknown or revoked"
            };
            Err(ServiceError::NotSignedIn(format!(
                "the key beginning `{begins}` is not good ({what}); `calvex key list` shows those in use"
            )))
        }
    }
}

/// A person, by session or token.
#[derive(Debug, Clone)]
pub struct Reader {
    /// Who, and which lanes.
    pub who: Arc<ReaderRow>,
}

impl Reader {
    /// Whether the lane may be read.
    pub fn may_read(&self, lane: u32) -> bool {
        self.who.lanes.as_ref().is_none_or(|l| l.contains(&lane))
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
        if let Some(secret) = bearer(&parts.headers) {
            let hash = hash_secret(secret);
            let found = app.readers.get(hash, async { Ok(app.store.token_reader(&hash).await?) }).await?;
            let told =
                || ServiceError::NotSignedIn("this token is unknown or revoked; `calvex token new` makes one".into());
            return Ok(Reader { who: found.ok_or_else(told)? });
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
        let now_ns = (app.clock)();
        let hash = hash_secret(secret);
        let found = app.readers.get(hash, async { Ok(app.store.session_reader(&hash, now_ns).await?) }).await?;
        Ok(Reader { who: found.ok_or_else(told)? })
    }
}

/// A person who administers.
pub struct Admin(pub Reader);

impl FromRequestParts<Shared> for Admin {
    type Rejection = ServiceError;

    async fn from_request_parts(parts: &mut Parts, app: &Shared) -> Result<Self> {
        let reader = Reader::from_request_parts(parts, app).await?;
        if reader.who.role != "admin" {
            return Err(ServiceError::NotAllowed(format!(
                "`{}` may read, but not administer; ask an administrator",
                reader.who.name
            )));
        }
        Ok(Admin(reader))
    }
}

/// Counts failed sign-ins, so that guessing is slow.
pub struct LoginLimiter {
    failed: Cache<String, u32>,
}

/// Failed tries of one name before it must wait.
const MAX_FAILED: u32 = 5;

impl LoginLimiter {
    /// None failed yet.
    pub fn new() -> Self {
        LoginLimiter { failed: Cache::builder().max_capacity(10_000).time_to_live(Duration::from_secs(60)).build() }
    }

    /// Whether `name` may try now.
    ///
    /// # Errors
    /// [`ServiceError::TooMany`].
    pub fn check(&self, name: &str) -> Result<()> {
        if self.failed.get(name).is_some_and(|n| n >= MAX_FAILED) {
            return Err(ServiceError::TooMany(format!("too many failed sign-ins of `{name}`; wait a minute"), 60));
        }
        Ok(())
    }

    /// Notes a failure.
    pub fn failed(&self, name: &str) {
        let n = self.failed.get(name).unwrap_or(0) + 1;
        self.failed.insert(name.to_owned(), n);
    }

    /// Forgets failures.
    pub fn succeeded(&self, name: &str) {
        self.failed.invalidate(name);
    }
}
