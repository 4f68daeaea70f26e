//! Who sends: keys, and the names of ways in that have none.

use crate::auth::secrets::hash_secret;
use crate::auth::{bearer, shown_prefix};
use crate::error::{Result, ServiceError};
use crate::state::Auth;
use axum::http::HeaderMap;
use calvex_language::domain::key::{Key, KeyLimits};
use calvex_language::model::Value;
use std::sync::Arc;

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
    fn of(key: Key) -> Self {
        let fixed = match serde_json::from_str::<Value>(&key.fixed) {
            Ok(Value::Object(fixed)) => fixed,
            _ => Vec::new(),
        };
        let ends_ns = [key.limits.ends_ns, key.secret_ends_ns].into_iter().flatten().min();
        Sender { key_id: key.id, name: key.name, fixed, limits: key.limits, ends_ns }
    }
}

/// The sender of a request.
///
/// # Errors
/// Where there is no good key.
pub async fn sender(auth: &Auth, headers: &HeaderMap) -> Result<Arc<Sender>> {
    let Some(secret) = bearer(headers) else {
        super::refuse(&auth.base, "no key", "no-key", 1, "");
        auth.strangers.refused().await;
        let cure = "send `Authorization: Bearer KEY`; `calvex key new` makes one";
        return Err(ServiceError::NotSignedIn(format!("this request carries no key; {cure}")));
    };
    sender_of(auth, secret).await
}

/// The sender that a way in without keys counts as: the key of that name, if there is one; else the name alone.
///
/// # Errors
/// Where the database fails.
pub async fn named_sender(auth: &Auth, name: &str) -> Result<Arc<Sender>> {
    let look = async {
        let nameless = || Sender {
            key_id: 0,
            name: name.to_owned(),
            fixed: Vec::new(),
            limits: KeyLimits::default(),
            ends_ns: None,
        };
        match auth.base.store.key_named(name).await? {
            Some(key) => Ok(Some(Sender::of(key))),
            // Revoking the key closes the way in; it does not lift the key's limits.
            None if auth.base.store.is_revoked(name).await? => Ok(None),
            None => Ok(Some(nameless())),
        }
    };
    let found = auth.keys.get(hash_secret(&format!("named {name}")), look).await?;
    let closed =
        |what: &str| ServiceError::NotSignedIn(format!("the key `{name}`, which stands for this way in, {what}"));
    let sender = found.ok_or_else(|| closed("is revoked; `calvex key new` makes another"))?;
    match sender.ends_ns.is_some_and(|ends| ends <= (auth.base.clock)()) {
        true => Err(closed("has ended; `calvex key limit` gives it another end")),
        false => Ok(sender),
    }
}

/// The sender of a key.
///
/// # Errors
/// Where the key is not good.
pub async fn sender_of(auth: &Auth, secret: &str) -> Result<Arc<Sender>> {
    let look = async { Ok(auth.base.store.key(&hash_secret(secret)).await?.map(Sender::of)) };
    match auth.keys.get(hash_secret(secret), look).await? {
        Some(sender) if sender.ends_ns.is_some_and(|ends| ends <= (auth.base.clock)()) => {
            super::refuse(&auth.base, &sender.name, "key-ended", 1, "");
            Err(ServiceError::NotSignedIn(format!(
                "the key of `{}` has ended; `calvex key rotate` gives it another secret, `calvex key limit` another end",
                sender.name
            )))
        }
        Some(sender) => Ok(sender),
        None => {
            // What was sent may be a password, so it is neither stored nor given back; how a key of ours begins is.
            let begins = shown_prefix(secret, "key");
            super::refuse(&auth.base, begins.as_deref().unwrap_or("no key of ours"), "wrong-key", 1, "");
            auth.strangers.refused().await;
            let reported = match begins {
                Some(begins) => format!("the key beginning `{begins}` is not good (it is unknown or revoked)"),
                None if secret.starts_with("calvex-token-") => "a token reads, a key sends".to_owned(),
                None => "the key is not good (it has not the form of a key)".to_owned(),
            };
            Err(ServiceError::NotSignedIn(format!("{reported}; `calvex key list` shows those in use")))
        }
    }
}
