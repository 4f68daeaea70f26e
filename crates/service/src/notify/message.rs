//! The messages of an alert: to each contact, by each of its ways, one CloudEvent (CloudEvents 1.0, structured JSON), frozen
//! when it is made and without secrets.

use calvex_answer::watch::{Call, Heard, Rule as Compiled, first_calls};
use calvex_language::domain::contact::{AlertMove, Contact, Notification, NotifyBy};
use calvex_language::domain::rule::{Alert, AlertNote, Closed, Rule};
use calvex_language::model::time::format_utc;
use calvex_node::state::Base;
use calvex_store::records::rules::Ending;
use serde_json::{Value, json};
use std::sync::Arc;

/// Groups that a message names.
const MAX_NAMED: usize = 20;
/// Notes that a message has, the latest.
const MAX_NOTES: usize = 3;
/// Raisings of a time in which nobody judged that a message lists.
const MAX_MEANWHILE: usize = 20;
/// Messages about one contact that cannot be reached, at most.
const MAX_OTHERS: usize = 20;

/// The contacts that may hear of a rule: those of its team, and those of no team.
pub fn hearers(rule: &Rule, contacts: &[Contact]) -> Vec<Contact> {
    contacts.iter().filter(|c| c.team.is_none() || c.team == rule.team_id).cloned().collect()
}

/// Whether a contact may hear what the rule of a team has read: its own contacts, and the rule's own ways. Nobody granted
/// anything to the others: they hear that the rule raised, and nothing of events.
fn hears_evidence(rule: &Rule, contact: &Contact) -> bool {
    rule.team_id.is_none() || contact.name.is_empty() || contact.team == rule.team_id
}

/// One move of an alert, as its messages are made of it.
#[derive(Clone, Copy)]
pub struct Notice<'a> {
    /// The rule.
    pub rule: &'a Rule,
    /// And what its document says.
    pub compiled: &'a Compiled,
    /// As it stands with the move.
    pub alert: &'a Alert,
    /// The move.
    pub what: AlertMove,
    /// Which of several such moves.
    pub round: u32,
    /// What people wrote down.
    pub notes: &'a [AlertNote],
    /// Raisings that came and went while nobody judged, this one included.
    pub meanwhile: &'a [(i64, i64)],
}

impl<'a> Notice<'a> {
    /// The first of its kind, without notes.
    pub fn new(rule: &'a Rule, compiled: &'a Compiled, alert: &'a Alert, what: AlertMove) -> Self {
        Notice { rule, compiled, alert, what, round: 0, notes: &[], meanwhile: &[] }
    }

    /// To whom the rule says, as hours have it now.
    pub fn at_first(&self, base: &Arc<Base>, contacts: &[Contact]) -> Vec<Notification> {
        let now_ns = (base.clock)();
        let own = Contact {
            webhook: self.rule.webhook.clone(),
            webhook_secret: self.rule.webhook_secret.clone(),
            mail: self.rule.mail.clone(),
            ..Contact::default()
        };
        let document = &self.compiled.document;
        let mut calls = vec![Call { contact: &own, due_ns: now_ns, instead_of: None }];
        calls.extend(first_calls(contacts, &document.notify, document.urgency, now_ns));
        self.to(base, &calls)
    }

    /// To these.
    pub fn to(&self, base: &Base, calls: &[Call]) -> Vec<Notification> {
        let mut rows: Vec<Notification> = Vec::new();
        for call in calls {
            let in_full = hears_evidence(self.rule, call.contact);
            let payload = self.payload(base, Some(call), in_full).to_string();
            for message in ways(call.contact, |by, target| Notification {
                alert_id: (self.alert.id > 0).then_some(self.alert.id),
                round: self.round,
                secret: call.contact.name.is_empty().then(|| call.contact.webhook_secret.clone()).flatten(),
                due_ns: call.due_ns,
                ..plain(base, call.contact, (by, target), self.what, &payload)
            }) {
                // Two contacts may share a way: nobody is notified twice.
                if !rows.iter().any(|known| known.by == message.by && known.target == message.target) {
                    rows.push(message);
                }
            }
        }
        rows
    }

    /// To everybody who was to be notified of the alert.
    pub fn to_all_of(&self, base: &Base, contacts: &[Contact], sent: &[Notification]) -> Vec<Notification> {
        let in_full = |name: &str| {
            let contact = contacts.iter().find(|contact| contact.name == name);
            name.is_empty() || self.rule.team_id.is_none() || contact.is_some_and(|c| hears_evidence(self.rule, c))
        };
        let round = sent.iter().filter(|m| m.what == self.what).map(|m| m.round + 1).max().unwrap_or(0);
        let now_ns = (base.clock)();
        let mut rows: Vec<Notification> = Vec::new();
        // Not to those who wait for their hours, and were not notified that it began.
        let waits = |m: &Notification| m.done_ns.is_none() && m.due_ns > now_ns;
        let heard = |m: &&Notification| m.dropped.is_none() && m.what == AlertMove::Raised && !waits(m);
        for known in sent.iter().filter(heard) {
            if !rows.iter().any(|row| row.by == known.by && row.contact == known.contact) {
                rows.push(Notification {
                    id: 0,
                    what: self.what,
                    round,
                    payload: self.payload(base, None, in_full(&known.contact)).to_string(),
                    made_ns: now_ns,
                    due_ns: now_ns,
                    tries: 0,
                    done_ns: None,
                    error: String::new(),
                    ..known.clone()
                });
            }
        }
        rows
    }

    /// The event, with what the rule has read or without; what goes to somebody in another's place is one of its own.
    fn payload(&self, base: &Base, call: Option<&Call>, in_full: bool) -> Value {
        let instead_of = call.and_then(|call| call.instead_of);
        let next = call.filter(|call| call.instead_of.is_some()).map(|call| format!(".{}", call.contact.name));
        let Notice { rule, compiled, alert, what, round, .. } = *self;
        let document = &compiled.document;
        let named = |g: &&calvex_language::domain::rule::AlertGroup| !g.name.is_empty() && !g.muted;
        let most = if in_full { MAX_NAMED } else { 0 };
        let groups: Vec<&str> = alert.groups.iter().filter(named).map(|g| g.name.as_str()).take(most).collect();
        let explanation = alert.explanation.as_deref().filter(|_| in_full);
        let explanation: Value = explanation.and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default();
        let console = base.settings.text("notify.console_url").trim_end_matches('/');
        let evidence_ns = alert.raised_ns - compiled.window_ns();
        // Rules are judged at whole seconds.
        let (from, raised) = (format_utc(evidence_ns, 0), format_utc(alert.raised_ns, 0));
        let to = format_utc(alert.ended_ns.unwrap_or_else(|| (base.clock)()), 0);
        let link = |path: &str, parts: &[(&str, &str)]| -> Option<String> {
            let url = reqwest::Url::parse_with_params(&format!("{console}{path}"), parts).ok()?;
            Some(url.to_string())
        };
        let query = compiled.filter().to_string();
        let notes: Vec<String> = self
            .notes
            .iter()
            .rev()
            .take(if in_full { MAX_NOTES } else { 0 })
            .map(|n| format!("{} by {}: {}", format_utc(n.at_ns, 0), n.by, n.text))
            .collect();
        let span = |(from, to): &(i64, i64)| json!({ "raised": format_utc(*from, 0), "ended": format_utc(*to, 0) });
        let again = if round > 0 { format!(".{round}") } else { String::new() };
        json!({
            "specversion": "1.0",
            "id": format!(
                "{}.{}.{}.{}{again}{}",
                rule.id, alert.revision, alert.raised_ns, what.name(), next.unwrap_or_default()
            ),
            "source": if console.is_empty() { "/calvex" } else { console },
            "type": format!("alert.{}", what.name()),
            "subject": rule.name,
            "time": format_utc((base.clock)(), 3),
            "datacontenttype": "application/json",
            "data": {
                "rule": rule.name,
                "sentence": document.sentence(),
                "urgency": document.urgency,
                "note": document.note,
                "runbook": document.runbook,
                "value": alert.peak,
                "unit": compiled.unit(),
                "bound": compiled.bound.number,
                "groups": groups,
                "group_count": alert.groups.iter().filter(|g| !g.muted).count(),
                "raised": raised,
                "ended": alert.ended_ns.map(|t| format_utc(t, 0)),
                "why_ended": alert.closed.map(Closed::name),
                "late": alert.late,
                "repeat": (what == AlertMove::Repeated).then_some(round),
                "instead_of": instead_of,
                "taken_by": alert.taken_by,
                "notes": notes,
                "meanwhile": self.meanwhile.iter().take(MAX_MEANWHILE).map(span).collect::<Vec<_>>(),
                "meanwhile_count": self.meanwhile.len(),
                "evidence_from": from,
                "evidence": link("/search", &[("q", query.as_str()), ("from", from.as_str()), ("to", to.as_str())]),
                "page": link("/alerts", &[("rule", rule.name.as_str()), ("raised", raised.as_str())]),
                "explanation": explanation,
                "console": console,
            },
        })
    }
}

/// A message by each way of a contact.
fn ways(contact: &Contact, row: impl Fn(NotifyBy, &str) -> Notification) -> Vec<Notification> {
    let webhook = contact.webhook.as_ref().map(|url| row(NotifyBy::Webhook, url));
    webhook.into_iter().chain(contact.mail.as_ref().map(|to| row(NotifyBy::Mail, to))).collect()
}

/// A message of no alert.
fn plain(
    base: &Base,
    contact: &Contact,
    (by, target): (NotifyBy, &str),
    what: AlertMove,
    payload: &str,
) -> Notification {
    let now_ns = (base.clock)();
    Notification {
        id: 0,
        alert_id: None,
        contact: contact.name.clone(),
        by,
        what,
        round: 0,
        target: target.to_owned(),
        secret: None,
        payload: payload.to_owned(),
        made_ns: now_ns,
        due_ns: now_ns,
        tries: 0,
        done_ns: None,
        dropped: None,
        error: String::new(),
    }
}

/// The content of a message of no alert.
fn content(base: &Base, (kind, id, subject): (&str, String, &str), sentence: String) -> String {
    let console = base.settings.text("notify.console_url");
    json!({
        "specversion": "1.0",
        "id": id,
        "source": if console.is_empty() { "/calvex" } else { console },
        "type": kind,
        "subject": subject,
        "time": format_utc((base.clock)(), 3),
        "datacontenttype": "application/json",
        "data": { "rule": subject, "sentence": sentence, "console": console },
    })
    .to_string()
}

/// The messages that show whether a contact can be reached, one for each of its ways. Those of two tests differ by `serial`.
pub fn test_messages(base: &Base, contact: &Contact, by: &str, serial: u64) -> Vec<Notification> {
    let said = format!("Nothing is wrong: {by} tries whether messages arrive.");
    let payload = content(base, ("contact.test", format!("test.{serial}"), &contact.name), said);
    let row = |by: NotifyBy, target: &str| Notification {
        id: serial,
        ..plain(base, contact, (by, target), AlertMove::Test, &payload)
    };
    ways(contact, row)
}

/// The messages by which a contact hears that Calvex works.
pub fn heartbeats(base: &Base, contact: &Contact) -> Vec<Notification> {
    let now_ns = (base.clock)();
    let said = format!("Calvex works; the next message of this kind comes within {} s.", contact.heartbeat_s);
    let payload = content(base, ("calvex.heartbeat", format!("heartbeat.{now_ns}"), &contact.name), said);
    let row = |by: NotifyBy, target: &str| Notification {
        id: u64::try_from(now_ns).unwrap_or(0),
        ..plain(base, contact, (by, target), AlertMove::Heartbeat, &payload)
    };
    ways(contact, row)
}

/// The message that comes once a contact may hear more, in place of those that are held back.
pub fn held_back(base: &Base, contact: &Contact, message: &Notification, due_ns: i64) -> Notification {
    let payload = held_back_content(base, contact, 1, due_ns);
    let target = (message.by, message.target.as_str());
    Notification { due_ns, ..plain(base, contact, target, AlertMove::HeldBack, &payload) }
}

/// What such a message says as it is sent.
pub fn held_back_content(base: &Base, contact: &Contact, held: i64, due_ns: i64) -> String {
    let most = contact.plan.hourly;
    let said = format!(
        "{held} messages were held back: {most} an hour are the most for this contact. The alerts stand in the console."
    );
    content(base, ("contact.held-back", format!("held-back.{}.{due_ns}", contact.name), &contact.name), said)
}

/// What the other contacts hear of one that cannot be reached.
pub fn unreachable(base: &Base, contacts: &[Contact], failing: &Contact, why: &str) -> Vec<Notification> {
    let now_ns = (base.clock)();
    let said = format!("Messages to the contact {} do not arrive: {why}", failing.name);
    let id = format!("unreachable.{}.{now_ns}", failing.name);
    let payload = content(base, ("contact.unreachable", id, &failing.name), said);
    // Those of its team, and those who look after the service.
    let near = |c: &&Contact| c.name != failing.name && (c.team.is_none() || c.team == failing.team);
    let others: Vec<String> = contacts.iter().filter(near).map(|c| c.name.clone()).collect();
    let calls = first_calls(contacts, &others, calvex_answer::watch::Urgency::Page, now_ns);
    let calls =
        calls.iter().filter(|call| call.contact.name != failing.name && call.contact.failing_since_ns.is_none());
    let row = |call: &Call| {
        ways(call.contact, |by, target| {
            let message = plain(base, call.contact, (by, target), AlertMove::Unreachable, &payload);
            Notification { due_ns: call.due_ns, ..message }
        })
    };
    calls.take(MAX_OTHERS).flat_map(row).collect()
}

/// What the contact of a lane's owner hears of somebody on call who reads the lane for an hour.
pub fn glass_broken(base: &Base, contact: &Contact, (lane, who, why): (&str, &str, &str)) -> Vec<Notification> {
    let now_ns = (base.clock)();
    let said =
        format!("{who} broke the glass and reads the lane {lane} for an hour: {why}. It can be ended on People.");
    let payload = content(base, ("lane.glass-broken", format!("glass.{lane}.{now_ns}"), lane), said);
    let row = |by: NotifyBy, target: &str| Notification {
        due_ns: now_ns,
        ..plain(base, contact, (by, target), AlertMove::GlassBroken, &payload)
    };
    ways(contact, row)
}

/// What each contact was to hear of an alert. What was held back counts too: whoever could not be notified took nothing, and
/// the next one is called.
pub fn heard(sent: &[(String, AlertMove, u32, i64)]) -> Vec<Heard> {
    let mut heard: Vec<Heard> = Vec::new();
    for (contact, what, round, due_ns) in sent {
        let repeats = if *what == AlertMove::Repeated { *round } else { 0 };
        match heard.iter_mut().find(|h| h.contact == *contact) {
            Some(known) => {
                known.first_ns = known.first_ns.min(*due_ns);
                known.last_ns = known.last_ns.max(*due_ns);
                known.repeats = known.repeats.max(repeats);
            }
            None => heard.push(Heard { contact: contact.clone(), first_ns: *due_ns, last_ns: *due_ns, repeats }),
        }
    }
    heard
}

/// The open alerts of a rule that is changed or removed, with the messages that they ended.
///
/// # Errors
/// Where the database fails.
pub async fn endings(
    base: &Arc<Base>,
    rule: &Rule,
    compiled: &Compiled,
    why: Closed,
) -> calvex_node::error::Result<Vec<Ending>> {
    let now_ns = (base.clock)();
    let open = base.store.alerts_since(rule.id, i64::MAX).await?;
    let contacts = base.store.contacts().await?;
    let mut ends = Vec::with_capacity(open.len());
    for alert in open {
        let sent = base.store.outbox_of(alert.id).await?;
        let alert = Alert { ended_ns: Some(now_ns.max(alert.raised_ns)), closed: Some(why), ..alert };
        let notice = Notice::new(rule, compiled, &alert, AlertMove::Ended);
        ends.push((alert.id, notice.to_all_of(base, &contacts, &sent)));
    }
    Ok(ends)
}
