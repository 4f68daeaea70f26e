//! Which of the messages that are due are sent: not those that nobody needs any more, not more in an hour than a contact
//! takes, and to a contact that cannot be reached one at a time.

use super::message::{held_back, held_back_content};
use crate::error::Result;
use crate::state::Base;
use calvex_language::domain::contact::{AlertMove, Contact, Dropped, Notification, NotifyBy};
use std::collections::{HashMap, HashSet};

const HOUR_NS: i64 = 3_600_000_000_000;

/// What one turn of the outbox sends.
pub(super) struct Plan<'a> {
    base: &'a Base,
    contacts: &'a [Contact],
    /// When messages arrived within the last hour, and how many go out in this turn, by contact and way.
    sent: HashMap<(String, NotifyBy), Vec<i64>>,
    /// Contacts that cannot be reached, and are tried in this turn already.
    tried: HashSet<(String, NotifyBy)>,
}

impl<'a> Plan<'a> {
    pub fn new(base: &'a Base, contacts: &'a [Contact]) -> Self {
        Plan { base, contacts, sent: HashMap::new(), tried: HashSet::new() }
    }

    /// The message, where it is to be sent now, with its contact; none of a way that a rule has of its own.
    pub async fn admit(&mut self, message: Notification) -> Result<Option<(Notification, Option<&'a Contact>)>> {
        let (base, now_ns) = (self.base, (self.base.clock)());
        if let Some(why) = self.needless(&message).await? {
            base.store.outbox_drop(message.id, why, now_ns, &[]).await?;
            return Ok(None);
        }
        if message.contact.is_empty() {
            return Ok(Some((message, None)));
        }
        let contact = self.contacts.iter().find(|contact| contact.name == message.contact);
        let way = |c: &&Contact| match message.by {
            NotifyBy::Webhook => c.webhook.is_some(),
            NotifyBy::Mail => c.mail.is_some(),
        };
        let Some(contact) = contact.filter(way) else {
            base.store.outbox_drop(message.id, Dropped::NoWay, now_ns, &[]).await?;
            return Ok(None);
        };
        let key = (contact.name.clone(), message.by);
        if contact.failing_since_ns.is_some() && !self.tried.insert(key.clone()) {
            return Ok(None);
        }
        if message.what == AlertMove::HeldBack {
            return self.counted(message, contact).await;
        }
        if !self.sent.contains_key(&key) {
            let sent = base.store.sent_since(&contact.name, message.by, now_ns - HOUR_NS).await?;
            self.sent.insert(key.clone(), sent);
        }
        let sent = self.sent.entry(key).or_default();
        if sent.len() >= contact.plan.hourly as usize && message.tries == 0 {
            let again_ns = sent.first().copied().unwrap_or(now_ns) + HOUR_NS;
            let waits = base.store.waits(&contact.name, message.by, AlertMove::HeldBack).await?;
            let instead = (!waits).then(|| held_back(base, contact, &message, again_ns));
            base.store.outbox_drop(message.id, Dropped::HeldBack, now_ns, instead.as_slice()).await?;
            return Ok(None);
        }
        sent.push(now_ns);
        Ok(Some((message, Some(contact))))
    }

    /// The message that says how many were held back: counted as it is sent first.
    async fn counted(
        &self,
        mut message: Notification,
        contact: &'a Contact,
    ) -> Result<Option<(Notification, Option<&'a Contact>)>> {
        if message.tries == 0 {
            let from_ns = message.due_ns - HOUR_NS;
            let held = self.base.store.held_since(&contact.name, message.by, from_ns).await?;
            message.payload = held_back_content(self.base, contact, held, message.due_ns);
            self.base.store.outbox_freeze(message.id, &message.payload).await?;
        }
        Ok(Some((message, Some(contact))))
    }

    /// Why a message of an alert is of no use any more. One that was tried goes on: it may have arrived.
    async fn needless(&self, message: &Notification) -> Result<Option<Dropped>> {
        let Some(id) = message.alert_id.filter(|_| message.tries == 0) else { return Ok(None) };
        let store = &self.base.store;
        if matches!(message.what, AlertMove::Ended | AlertMove::Withdrawn) {
            // Whoever was not notified that it began is not notified that it ended.
            let same = |m: &&Notification| m.contact == message.contact && m.by == message.by && m.id < message.id;
            let sent = store.outbox_of(id).await?;
            let is_known = sent.iter().filter(same).any(|m| m.dropped.is_none());
            return Ok((!is_known).then_some(Dropped::Over));
        }
        // One that waited for hours, or comes again, is of what is raised still and what nobody took.
        if message.due_ns <= message.made_ns && message.what != AlertMove::Repeated {
            return Ok(None);
        }
        let Some(alert) = store.alert(id).await? else { return Ok(None) };
        Ok(match (alert.ended_ns, alert.taken_by) {
            (Some(_), _) => Some(Dropped::Over),
            (None, Some(_)) => Some(Dropped::Taken),
            _ => None,
        })
    }
}
