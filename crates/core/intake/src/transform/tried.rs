//! Rules tried on one event, to be shown step by step.

use super::act::text_of;
use super::{Doing, Fate, Ready, Transforms, mark};
use calvex_language::model::{Event, Value, answer_json};
use serde::{Deserialize, Serialize};

/// What the rules would make of an event.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Tried {
    /// The event before the first rule, as it would be answered.
    pub before: Value,
    /// Each rule in order.
    pub steps: Vec<TriedStep>,
    /// The event after the last; none where a rule set it aside.
    pub after: Option<Value>,
}

/// What one rule did.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct TriedStep {
    /// The rule.
    pub rule: String,
    /// Whether its filter held.
    pub held: bool,
    /// The event after it, where it changed it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<Value>,
    /// What else there is to say: where a pattern stopped fitting, that nothing was found, where the event goes.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
}

impl Transforms {
    /// Applies the rules to `event` and returns what each did; also its fate.
    pub fn try_on(&self, mut event: Event, lane_name: impl Fn(u32) -> String) -> (Tried, Event, Fate) {
        let reported = |event: &Event| without_origin(answer_json(event, ""));
        let mut tried = Tried { before: reported(&event), ..Tried::default() };
        let (mut fate, mut moved_by_service) = (Fate::Kept(None), false);
        for (n, rule) in self.rules.iter().enumerate() {
            let held = calvex_language::query::matches(&rule.filter, &event, "");
            let mut step = TriedStep { rule: rule.name.clone(), held, ..TriedStep::default() };
            if held {
                match &rule.act {
                    Doing::SetAside => {
                        step.note = "not stored: set aside".into();
                        tried.steps.push(step);
                        return (tried, event, Fate::SetAside(n));
                    }
                    Doing::Move(_) if rule.of_team && moved_by_service => {
                        step.note = "it stays where a rule of the service moved it".into();
                    }
                    Doing::Move(lane) => {
                        moved_by_service |= !rule.of_team;
                        step.note = format!("goes to lane {}", lane_name(*lane));
                        fate = Fate::Kept(Some(*lane));
                    }
                    act => {
                        let why = rule.why_not(&event);
                        if act.apply(&mut event) {
                            mark(&mut event, &rule.name);
                            step.after = Some(reported(&event));
                        } else {
                            step.note = why;
                        }
                    }
                }
            } else {
                step.note = "its filter does not hold".into();
            }
            tried.steps.push(step);
        }
        tried.after = Some(reported(&event));
        (tried, event, fate)
    }
}

impl Ready {
    /// Why the rule would leave this event as it is.
    fn why_not(&self, event: &Event) -> String {
        match &self.act {
            Doing::Cut(field, patterns) => {
                let Some(text) = text_of(event, field) else { return format!("it has no text in `{field}`") };
                match crate::line::cut_by(patterns, &text, event.arrived_ns) {
                    Err(Some((n, miss))) => {
                        let column = text.get(..miss.at).map_or(0, |t| t.chars().count()) + 1;
                        format!("pattern {} fits up to column {column}: {miss}", n + 1)
                    }
                    _ => "no pattern has a hole".into(),
                }
            }
            Doing::Mask(_) => "nothing to mask was found".into(),
            Doing::Rename(from, _) => format!("it has no field `{from}`"),
            Doing::Drop(fields) => format!("it has no field {}", fields.join(", ")),
            _ => "it changes nothing".into(),
        }
    }
}

/// An event that was never stored has no id.
fn without_origin(value: Value) -> Value {
    match value {
        Value::Object(entries) => {
            Value::Object(entries.into_iter().filter(|(name, _)| name != "id" && name != "lane").collect())
        }
        other => other,
    }
}
