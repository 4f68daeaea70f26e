//! The messages of an alert: to each contact of the rule, by each of its ways, one CloudEvent (CloudEvents 1.0, structured
//! JSON), frozen when it is made and without secrets.

use crate::state::Base;
use calvex_answer::watch::Rule as Compiled;
use calvex_language::domain::rule::{Alert, AlertMove, Contact, Notification, NotifyBy, Rule};
use calvex_language::model::time::format_utc;
use serde_json::{Value, json};
use std::sync::Arc;

/// Groups that a message names.
const MAX_NAMED: usize = 20;

/// The notifications of one move of an alert, all with the same content.
pub fn messages(
    base: &Arc<Base>,
    rule: &Rule,
    compiled: &Compiled,
    contacts: &[Contact],
    alert: &Alert,
    what: AlertMove,
) -> Vec<Notification> {
    let payload = payload(base, rule, compiled, alert, what).to_string();
    let row = |by: NotifyBy, target: &str, secret: Option<String>| Notification {
        id: 0,
        alert_id: alert.id,
        by,
        what,
        target: target.to_owned(),
        secret,
        payload: payload.clone(),
        tries: 0,
        done_ns: None,
        error: String::new(),
    };
    let own = Contact {
        name: String::new(),
        webhook: rule.webhook.clone(),
        webhook_secret: rule.webhook_secret.clone(),
        mail: rule.mail.clone(),
    };
    let named = contacts.iter().filter(|contact| compiled.document.notify.contains(&contact.name));
    let mut rows: Vec<Notification> = Vec::new();
    for contact in std::iter::once(&own).chain(named) {
        let webhook = contact.webhook.as_ref().map(|url| row(NotifyBy::Webhook, url, contact.webhook_secret.clone()));
        let mail = contact.mail.as_ref().map(|to| row(NotifyBy::Mail, to, None));
        for message in webhook.into_iter().chain(mail) {
            // Two contacts may share a way: nobody is notified twice.
            if !rows.iter().any(|known| known.by == message.by && known.target == message.target) {
                rows.push(message);
            }
        }
    }
    rows
}

/// The messages that show whether a contact can be reached, one for each of its ways. Those of two tests differ by `serial`.
pub fn test_messages(base: &Arc<Base>, contact: &Contact, by: &str, serial: u64) -> Vec<Notification> {
    let console = base.settings.text("notify.console_url");
    let payload = json!({
        "specversion": "1.0",
        "id": format!("test.{serial}"),
        "source": if console.is_empty() { "/calvex" } else { console },
        "type": "contact.test",
        "subject": contact.name,
        "time": format_utc((base.clock)(), 3),
        "datacontenttype": "application/json",
        "data": {
            "rule": format!("the contact {}", contact.name),
            "sentence": format!("Nothing is wrong: {by} tries whether messages arrive."),
            "console": console,
        },
    })
    .to_string();
    let row = |by: NotifyBy, target: &String, secret: Option<String>| Notification {
        id: serial,
        alert_id: 0,
        by,
        what: AlertMove::Test,
        target: target.clone(),
        secret,
        payload: payload.clone(),
        tries: 0,
        done_ns: None,
        error: String::new(),
    };
    let webhook = contact.webhook.as_ref().map(|url| row(NotifyBy::Webhook, url, contact.webhook_secret.clone()));
    webhook.into_iter().chain(contact.mail.as_ref().map(|to| row(NotifyBy::Mail, to, None))).collect()
}

fn payload(base: &Base, rule: &Rule, compiled: &Compiled, alert: &Alert, what: AlertMove) -> Value {
    let document = &compiled.document;
    let groups: Vec<&str> =
        alert.groups.iter().map(|g| g.name.as_str()).filter(|name| !name.is_empty()).take(MAX_NAMED).collect();
    let explanation: Value =
        alert.explanation.as_deref().and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default();
    let console = base.settings.text("notify.console_url");
    json!({
        "specversion": "1.0",
        "id": format!("{}.{}.{}.{}", rule.id, alert.revision, alert.raised_ns, what.name()),
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
            "group_count": alert.groups.len(),
            "raised": format_utc(alert.raised_ns, 3),
            "ended": alert.ended_ns.map(|t| format_utc(t, 3)),
            "late": alert.late,
            "taken_by": alert.taken_by,
            "evidence_from": format_utc(alert.raised_ns - compiled.window_ns(), 3),
            "explanation": explanation,
            "console": console,
        },
    })
}
