//! The rules of the demo: one of each form and some thresholds more, and the contacts that they notify. Thresholds are written for a demo
//! of the usual size; others are in proportion.

use super::USUAL_EVENTS;
use calvex_wire::api::ContactListed;
use toml::{Table, Value};

/// The contacts that pages and tickets notify.
const ON_CALL: &str = "on call";
const OFFICE: &str = "office";

/// The contacts: those who come next before those who name them.
pub(super) fn contacts(hook_url: &str) -> [ContactListed; 4] {
    let mail =
        |name: &str, to: &str| ContactListed { name: name.into(), mail: Some(to.into()), ..ContactListed::default() };
    let webhook = Some(hook_url.to_owned());
    [
        mail("team lead", "lead@fennmark.test"),
        ContactListed {
            webhook: webhook.clone(),
            next: Some("team lead".into()),
            after: "10m".into(),
            repeat: "1h".into(),
            ..mail(ON_CALL, "oncall@fennmark.test")
        },
        ContactListed {
            hours: "mon-fri 08:00-17:00".into(),
            zone: "UTC".into(),
            ..mail(OFFICE, "office@fennmark.test")
        },
        // Notices when Calvex itself is dead.
        ContactListed { name: "watcher".into(), webhook, heartbeat: "5m".into(), ..ContactListed::default() },
    ]
}

const DOCUMENTS: [&str; 11] = [
    r#"
name = "leases run out"
for = "1m"
late = "2d"
note = "Doors stay shut while this lasts. The lease is set in the access service."
[threshold]
events = 'service=slots "ran out"'
over = "5m"
above = 20
"#,
    r#"
name = "edge fails"
late = "2d"
note = "Recipients and couriers see an error page."
[threshold]
events = "service=edge severity>=error"
over = "10m"
above = 50
"#,
    r#"
name = "billing fails"
late = "2d"
[threshold]
events = "service in (billing, notify) severity>=error"
over = "5m"
above = 10
"#,
    r#"
name = "doors opened by operators"
urgency = "ticket"
[threshold]
events = "door.override"
over = "1h"
above = 100000
"#,
    r#"
name = "many drop-offs fail"
for = "2m"
[share]
events = "service=edge kind=span"
of = "status=error"
over = "10m"
above = 0.2
"#,
    // Rehearsing it shows that nights are quieter than it thinks.
    r#"
name = "a service is silent"
urgency = "ticket"
note = "Rehearse it: at night it wakes people for nothing."
[silence]
per = ["service"]
times = 5
"#,
    r#"
name = "a message nobody knows at billing"
urgency = "ticket"
[first-seen]
events = "service=billing severity>=warn"
what = "shape"
"#,
    r#"
name = "drop-offs are not as usual"
urgency = "ticket"
for = "10m"
[deviation]
events = "service=edge kind=span"
over = "15m"
above = 8
least = 60
like = "day"
"#,
    r#"
name = "edge answers well"
[objective]
all = "service=edge kind=span"
good = "not status=error"
percent = 98
period = "30d"
"#,
    r#"
name = "leases that are never confirmed"
urgency = "ticket"
[unfinished]
begins = 'service=slots "on door"'
ends = "service=slots confirmed"
tie = "lease.id"
within = "10m"
above = 20
"#,
    r#"
name = "a new kind of failure"
urgency = "ticket"
[error-group]
events = "severity>=error"
"#,
];

/// The documents for a demo of so many events, and whether each looks back over what comes late by days.
pub(super) fn documents(events: u64) -> impl Iterator<Item = (String, bool)> {
    let document = move |text: &&str| sized(text, events).unwrap_or_else(|| (*text).to_owned());
    DOCUMENTS.iter().map(move |text| (document(text), text.contains("late = ")))
}

/// A document that notifies, with counts in proportion to the demo's size.
fn sized(text: &str, events: u64) -> Option<String> {
    let mut document: Table = text.parse().ok()?;
    let is_ticket = document.get("urgency").and_then(Value::as_str) == Some("ticket");
    document.insert("notify".into(), Value::Array(vec![if is_ticket { OFFICE } else { ON_CALL }.into()]));
    for form in ["threshold", "unfinished"] {
        if let Some(above) = document.get_mut(form).and_then(|form| form.get_mut("above")) {
            let usual = above.as_integer().unwrap_or(0).max(0) as u64;
            let sized = (usual.saturating_mul(events) / USUAL_EVENTS).max(2);
            *above = Value::Integer(i64::try_from(sized).unwrap_or(i64::MAX));
        }
    }
    toml::to_string(&document).ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_answer::watch::RuleDocument;
    use calvex_language::query::Ties;

    #[test]
    fn every_document_is_a_rule_and_every_form_is_there() {
        let read =
            |text: String| RuleDocument::read(&text, &Ties::default()).unwrap_or_else(|e| panic!("{text}: {e:?}"));
        let rules: Vec<_> = documents(40_000).map(|(text, _)| read(text)).collect();
        let forms: std::collections::BTreeSet<&str> = rules.iter().map(|rule| rule.document.form_name()).collect();
        assert_eq!(forms.len(), 8);
        let names = contacts("http://hook.test/").map(|contact| contact.name);
        assert!(rules.iter().all(|rule| rule.document.notify.iter().all(|name| names.contains(name))));
        assert_eq!(rules[0].bound.number, 2.0, "20 of ten times as many");
    }
}
