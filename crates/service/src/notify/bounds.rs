//! Which of the messages that are due are sent: not those that nobody needs any more, not more in an hour than a contact
//! takes, and a few a turn to each contact, so that one that hangs keeps no other waiting.

use super::message::{held_back, held_back_content};
use calvex_language::domain::contact::{AlertMove, Contact, Dropped, Notification, NotifyBy};
use calvex_node::error::Result;
use calvex_node::state::Base;
use std::collections::HashMap;

const SECOND_NS: i64 = 1_000_000_000;
const HOUR_NS: i64 = 3_600 * SECOND_NS;
/// Messages that go by one way to one contact in a turn; the others wait for the next.
const MOST_A_TURN: usize = 10;
/// To a contact that cannot be reached one goes, and the others wait for so long.
const UNREACHABLE_WAIT_NS: i64 = 30 * SECOND_NS;

/// What one turn of the outbox sends.
pub(super) struct Sending<'a> {
    base: &'a Base,
    contacts: &'a [Contact],
    /// When messages arrived within the last hour, and how many go out in this turn, by contact and way.
    sent: HashMap<(String, NotifyBy), Vec<i64>>,
    /// How many go in this turn, by contact (a way that a rule has of its own: by target) and way.
    this_turn: HashMap<(String, NotifyBy), usize>,
}

impl<'a> Sending<'a> {
    pub fn new(base: &'a Base, contacts: &'a [Contact]) -> Self {
        Sending { base, contacts, sent: HashMap::new(), this_turn: HashMap::new() }
    }

    /// The message, where it is to be sent now, with its contact; none of a way that a rule has of its own.
    pub async fn admit(&mut self, message: Notification) -> Result<Option<(Notification, Option<&'a Contact>)>> {
        let (base, now_ns) = (self.base, (self.base.clock)());
        if let Some(why) = self.needless(&message).await? {
            base.store.outbox_drop(message.id, why, now_ns, &[]).await?;
            return Ok(None);
        }
        if message.contact.is_empty() {
            let fits = self.has_room(&message, (&message.target, MOST_A_TURN), SECOND_NS).await?;
            return Ok(fits.then_some((message, None)));
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
        let (most, wait_ns) = match contact.failing_since_ns {
            Some(_) => (1, UNREACHABLE_WAIT_NS),
            None => (MOST_A_TURN, SECOND_NS),
        };
        if !self.has_room(&message, (&contact.name, most), wait_ns).await? {
            return Ok(None);
        }
        let key = (contact.name.clone(), message.by);
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

    /// Whether a message goes in this turn; one that does not waits, or those that do not would stand before all others.
    async fn has_room(&mut self, message: &Notification, (to, most): (&str, usize), wait_ns: i64) -> Result<bool> {
        let going = self.this_turn.entry((to.to_owned(), message.by)).or_default();
        *going += 1;
        if *going > most {
            self.base.store.outbox_later(message.id, (self.base.clock)() + wait_ns).await?;
            return Ok(false);
        }
        Ok(true)
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
