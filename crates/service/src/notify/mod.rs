//! Step 12, the outbox: notifications leave at least once, under a stable id, with retries that back off.

mod bounds;
mod calls;
pub mod fake_receiver;
mod mail;
mod message;
mod webhook;

pub use calls::{beat, call_again};
pub use mail::check_mail_address;
pub use message::{Notice, endings, hearers, test_messages};
pub use webhook::{check_webhook_url, host_of as webhook_host, sign_webhook};

use bounds::Sending;
use calvex_language::domain::contact::{Contact, Dropped, Notification, NotifyBy};
use calvex_node::error::Result;
use calvex_node::state::Base;
use futures_util::StreamExt;
use std::sync::Arc;

/// The longest pause between two tries of one notification.
const MAX_PAUSE_S: i64 = 600;
/// Tries until a notification is left as failed (about a day).
const MAX_TRIES: u32 = 150;
/// Tries of one message after which its contact counts as unreachable.
const UNREACHABLE_TRIES: u32 = 3;

/// Notifications that are delivered side by side, so that a slow receiver keeps no other waiting.
const AT_ONCE: usize = 8;

/// Delivers what is due.
#[derive(Default)]
pub struct Outbox;

impl Outbox {
    /// Sends every notification that is due; each failure waits longer.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn run(&self, base: &Arc<Base>) -> Result<()> {
        let due = base.store.outbox_due((base.clock)()).await?;
        if due.is_empty() {
            return Ok(());
        }
        let contacts = base.store.contacts().await?;
        let mut sending = Sending::new(base, &contacts);
        let mut sendable = Vec::new();
        for message in due {
            sendable.extend(sending.admit(message).await?);
        }
        let mut each = Vec::with_capacity(sendable.len());
        for (message, contact) in sendable {
            each.push(try_once(base, &contacts, message, contact));
        }
        let done: Vec<Result<()>> = futures_util::stream::iter(each).buffer_unordered(AT_ONCE).collect().await;
        done.into_iter().collect()
    }
}

/// Tries to deliver one message to its contact; none for a way that a rule has of its own.
async fn try_once(
    base: &Arc<Base>,
    contacts: &[Contact],
    message: Notification,
    contact: Option<&Contact>,
) -> Result<()> {
    match deliver(base, &message, contact).await {
        Ok(()) => {
            base.metrics.notifications.inc();
            base.store.outbox_done(&message, (base.clock)()).await?;
        }
        Err(why) => {
            base.metrics.notification_failures.inc();
            let host = webhook::host_of(&message.target);
            tracing::warn!(kind = message.by.name(), host, "a notification failed: {why}");
            let now_ns = (base.clock)();
            match next_try_ns(message.tries, now_ns) {
                Some(next_ns) => base.store.outbox_retry(message.id, &why, (now_ns, next_ns)).await?,
                None => base.store.outbox_drop(message.id, Dropped::GivenUp, now_ns, &[]).await?,
            }
            if let Some(contact) = contact.filter(|c| c.failing_since_ns.is_none())
                && message.tries + 1 >= UNREACHABLE_TRIES
            {
                let others = message::unreachable(base, contacts, contact, &why);
                base.store.contact_fails(&contact.name, now_ns, &others).await?;
            }
        }
    }
    Ok(())
}

/// Notifies the contact of a lane's owner that somebody on call reads it.
///
/// # Errors
/// Where the database fails.
pub async fn glass_broken(base: &Base, contact: &Contact, about: (&str, &str, &str)) -> Result<()> {
    let messages = message::glass_broken(base, contact, about);
    Ok(base.store.add_to_outbox(&base.claim, &messages).await?)
}

/// Delivers one message now, to the address that its contact has now.
///
/// # Errors
/// Why it could not be delivered.
pub async fn deliver(
    base: &Base,
    message: &Notification,
    contact: Option<&Contact>,
) -> std::result::Result<(), String> {
    let now_ns = (base.clock)();
    match message.by {
        NotifyBy::Webhook => {
            let own = || message.secret.iter().cloned().collect();
            let secrets: Vec<String> = contact.map_or_else(own, |contact| secrets_of(contact, now_ns));
            let target = contact.and_then(|c| c.webhook.as_ref()).unwrap_or(&message.target);
            let local = base.settings.flag("notify.webhook_local");
            let envelope = webhook::Envelope { target, secrets: &secrets, installation: &base.installation, now_ns };
            webhook::send(message, envelope, local).await
        }
        NotifyBy::Mail => {
            let to = contact.and_then(|c| c.mail.as_ref()).unwrap_or(&message.target);
            let (server, from) = (base.settings.text("notify.mail_server"), base.settings.text("notify.mail_from"));
            mail::send(message, (to, &base.installation), server, from).await
        }
    }
}

/// What signs a contact's webhooks now, the newest first.
fn secrets_of(contact: &Contact, now_ns: i64) -> Vec<String> {
    let old = contact.old_secret.iter().filter(|(_, until_ns)| *until_ns > now_ns).map(|(secret, _)| secret.clone());
    contact.webhook_secret.iter().cloned().chain(old).collect()
}

/// When to try again after `tries` failures and one more: 1 s, 2 s, 4 s … up to ten minutes; never, in the end.
fn next_try_ns(tries: u32, now_ns: i64) -> Option<i64> {
    let pause_s = (1i64 << tries.min(20)).min(MAX_PAUSE_S);
    (tries + 1 < MAX_TRIES).then_some(now_ns + pause_s * 1_000_000_000)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_double_up_to_a_bound() {
        let s = |tries| next_try_ns(tries, 0).map(|ns| ns / 1_000_000_000);
        assert_eq!([s(0), s(1), s(5), s(12), s(100)], [1, 2, 32, 600, 600].map(Some));
        assert_eq!(next_try_ns(149, 0), None);
    }

    #[test]
    fn an_old_secret_signs_until_its_end() {
        let contact =
            Contact { webhook_secret: Some("new".into()), old_secret: Some(("old".into(), 100)), ..Contact::default() };
        assert_eq!(secrets_of(&contact, 99), ["new", "old"]);
        assert_eq!(secrets_of(&contact, 100), ["new"]);
    }
}
