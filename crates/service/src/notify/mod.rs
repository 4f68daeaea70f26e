//! Step 12, the outbox: notifications leave at least once, under a stable id, with retries that back off.

pub mod fake_receiver;
mod mail;
mod message;
mod webhook;

pub use mail::check_mail_address;
pub use message::{messages, test_messages};
pub use webhook::{check_webhook_url, sign_webhook};

use crate::error::Result;
use crate::state::Base;
use calvex_language::domain::rule::{Notification, NotifyBy};
use futures_util::StreamExt;
use std::sync::Arc;

/// The longest pause between two tries of one notification.
const MAX_PAUSE_S: i64 = 600;
/// Tries until a notification is left as failed (about a day).
const MAX_TRIES: u32 = 150;

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
        let each = due.into_iter().map(|message| try_once(base, message));
        let done: Vec<Result<()>> = futures_util::stream::iter(each).buffer_unordered(AT_ONCE).collect().await;
        done.into_iter().collect()
    }
}

async fn try_once(base: &Arc<Base>, message: Notification) -> Result<()> {
    match deliver(base, &message).await {
        Ok(()) => {
            base.metrics.notifications.inc();
            base.store.outbox_done(message.id, (base.clock)()).await?;
        }
        Err(why) => {
            base.metrics.notification_failures.inc();
            let host = webhook::host_of(&message.target);
            tracing::warn!(kind = message.by.name(), host, "a notification failed: {why}");
            base.store.outbox_retry(message.id, &why, next_try_ns(message.tries, (base.clock)())).await?;
        }
    }
    Ok(())
}

/// Delivers one message now.
///
/// # Errors
/// Why it could not be delivered.
pub async fn deliver(base: &Arc<Base>, message: &Notification) -> std::result::Result<(), String> {
    match message.by {
        NotifyBy::Webhook => {
            let local = base.settings.flag("notify.webhook_local");
            webhook::send(message, &base.installation, (base.clock)(), local).await
        }
        NotifyBy::Mail => {
            mail::send(message, base.settings.text("notify.mail_server"), base.settings.text("notify.mail_from")).await
        }
    }
}

/// When to try again after `tries` failures and one more: 1 s, 2 s, 4 s … up to ten minutes; never, in the end.
fn next_try_ns(tries: u32, now_ns: i64) -> i64 {
    if tries + 1 >= MAX_TRIES {
        return i64::MAX;
    }
    let pause_s = (1i64 << tries.min(20)).min(MAX_PAUSE_S);
    now_ns + pause_s * 1_000_000_000
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_double_up_to_a_bound() {
        let s = |tries| next_try_ns(tries, 0) / 1_000_000_000;
        assert_eq!([s(0), s(1), s(5), s(12), s(100)], [1, 2, 32, 600, 600]);
        assert_eq!(next_try_ns(149, 0), i64::MAX);
    }
}
