//! What goes out while nobody takes an alert: to the contact that comes next, and again. And heartbeats, by which an outside
//! watcher notices that Calvex itself is dead.

use super::deliver;
use super::message::{Notice, heard, hearers, heartbeats};
use calvex_answer::watch::{Call, Later, RuleDocument, later_calls};
use calvex_language::domain::contact::AlertMove;
use calvex_node::error::Result;
use calvex_node::state::{Health, Reading};
use std::sync::Arc;

/// Notifies who comes next, and again, of every alert that is raised and that nobody took.
///
/// # Errors
/// Where the database fails.
pub async fn call_again(reading: &Arc<Reading>) -> Result<()> {
    let (base, store) = (&reading.base, &reading.base.store);
    let alerts = store.untaken_alerts().await?;
    if alerts.is_empty() {
        return Ok(());
    }
    let now_ns = (base.clock)();
    let (rules, contacts) = (store.rules().await?, store.contacts().await?);
    for id in alerts {
        let heard = heard(&store.heard_of(id).await?);
        let Some(alert) = store.alert(id).await? else { continue };
        let Some(rule) = rules.iter().find(|rule| rule.id == alert.rule_id) else { continue };
        if rule.mutes.iter().any(|mute| mute.filter.is_empty() && mute.until_ns > now_ns) {
            continue;
        }
        let Ok(compiled) = RuleDocument::read(&rule.document, base.config.get().ties()) else { continue };
        let contacts = hearers(rule, &contacts);
        let later = later_calls(&contacts, &heard, compiled.document.urgency, now_ns);
        if later.is_empty() {
            continue;
        }
        let notes = store.alert_notes(alert.id).await?;
        let mut messages = Vec::new();
        for one in later {
            let (what, round, call) = match one {
                Later::Next(call) => (AlertMove::Raised, 0, call),
                Later::Again(contact, n) => {
                    (AlertMove::Repeated, n, Call { contact, due_ns: now_ns, instead_of: None })
                }
            };
            let notice = Notice { round, notes: &notes, ..Notice::new(rule, &compiled, &alert, what) };
            messages.extend(notice.to(base, &[call]));
        }
        store.add_to_outbox(&base.claim, &messages).await?;
    }
    Ok(())
}

/// Sends the heartbeats that are due, where the service works. One that does not arrive is not sent again: that it is missing
/// is what it is for.
///
/// # Errors
/// Where the database fails.
pub async fn beat(health: &Arc<Health>) -> Result<()> {
    let base = &health.base;
    let now_ns = (base.clock)();
    let is_due = |every_s: u32, last_ns: i64| every_s > 0 && now_ns - last_ns >= i64::from(every_s) * 1_000_000_000;
    let contacts = base.store.contacts().await?;
    let due: Vec<_> = contacts.iter().filter(|c| is_due(c.heartbeat_s, c.beat.0)).collect();
    if due.is_empty() || health.why_not_ready().await?.is_some() {
        return Ok(());
    }
    let each = due.into_iter().map(|contact| async move {
        let mut error = String::new();
        for message in heartbeats(base, contact) {
            if let Err(why) = deliver(base, &message, Some(contact)).await {
                error = why.chars().take(512).collect();
            }
        }
        base.store.contact_beat(&contact.name, now_ns, &error).await
    });
    futures_util::future::try_join_all(each).await?;
    Ok(())
}
