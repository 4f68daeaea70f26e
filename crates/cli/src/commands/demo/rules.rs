//! The rules of the demo: one of each form and some thresholds more, for a contact on call. Thresholds are written for a demo
//! of the usual size; others are in proportion.

use super::USUAL_EVENTS;
use toml::{Table, Value};

/// The contact that they notify.
pub(super) const ON_CALL: &str = "on call";

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
    document.insert("notify".into(), Value::Array(vec![ON_CALL.into()]));
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
        assert!(rules.iter().all(|rule| rule.document.notify == [ON_CALL]));
        assert_eq!(rules[0].bound.number, 2.0, "20 of ten times as many");
    }
}
