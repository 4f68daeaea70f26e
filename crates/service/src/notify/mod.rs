//! Step 12, the outbox: notifications leave at least once, under a stable id, with retries that back off.

pub mod fake_receiver;
mod mail;
mod webhook;

pub use mail::check_mail_address;
pub use webhook::{check_webhook_url, sign_webhook};

use crate::error::Result;
use crate::state::Shared;
use calvex_store::records::alerts::OutboxRow;
use futures_util::StreamExt;

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
    pub async fn run(&self, app: &Shared) -> Result<()> {
        let due = app.store.outbox_due((app.clock)()).await?;
        let each = due.into_iter().map(|message| self.try_once(app, message));
        let done: Vec<Result<()>> = futures_util::stream::iter(each).buffer_unordered(AT_ONCE).collect().await;
        done.into_iter().collect()
    }

    async fn try_once(&self, app: &Shared, message: OutboxRow) -> Result<()> {
        match self.deliver(app, &message).await {
            Ok(()) => {
                app.metrics.notifications.inc();
                app.store.outbox_done(message.id, (app.clock)()).await?;
            }
            Err(why) => {
                app.metrics.notification_failures.inc();
                let host = webhook::host_of(&message.target);
                tracing::warn!(kind = message.kind, host, "a notification failed: {why}");
                app.store.outbox_retry(message.id, &why, next_try_ns(message.tries, (app.clock)())).await?;
            }
        }
        Ok(())
    }

    async fn deliver(&self, app: &Shared, message: &OutboxRow) -> std::result::Result<(), String> {
        match message.kind.as_str() {
            "webhook" => {
                webhook::send(message, &app.installation, (app.clock)(), app.settings.flag("notify.webhook_local"))
                    .await
            }
            "mail" => {
                mail::send(message, app.settings.text("notify.mail_server"), app.settings.text("notify.mail_from"))
                    .await
            }
            other => Err(format!("`{other}` is no way to notify")),
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
