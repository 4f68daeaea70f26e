//! Where a rule's events come from: the services that its filter requires. While these are silent the rule is blind.

use super::compile::{Form, Rule};
use super::document::{RuleDocument, Silence};
use super::strips::Strips;
use calvex_language::query::{Builtin, Field, Filter, Ties};

/// How many usual gaps make its senders silent.
const TIMES: f64 = 5.0;

impl Rule {
    /// The filter of the services that the rule hears from; none where its very form waits for silence, or nothing that
    /// comes is what raises it.
    pub fn sources(&self) -> Option<Filter> {
        match &self.form {
            Form::Silence { .. } | Form::Unfinished { .. } => None,
            _ if self.bound.is_passed(self.empty_value()) => None,
            _ => Some(services_of(self.filter()).unwrap_or(Filter::All)),
        }
    }
}

/// The part of a filter that names services, where every event that passes must be of one of them.
fn services_of(filter: &Filter) -> Option<Filter> {
    match filter {
        Filter::Compare(Field::Builtin(Builtin::Service), test) if !test.is_ne() => Some(filter.clone()),
        Filter::And(list) => list.iter().find_map(services_of),
        Filter::Or(list) if !list.is_empty() => {
            list.iter().map(services_of).collect::<Option<Vec<_>>>().map(Filter::Or)
        }
        _ => None,
    }
}

/// The rule that is raised while these sources are silent.
pub fn source_rule(sources: &Filter) -> Option<Rule> {
    let silence = Silence { events: sources.to_string(), times: Some(TIMES), ..Silence::default() };
    let document = RuleDocument { name: "sources".into(), silence: Some(silence), ..RuleDocument::default() };
    document.compile(&Ties::default()).ok()
}

/// Since when the sources have been silent at the last moment; `first_ns` is the first.
pub fn silent_since(rule: &Rule, strips: &Strips, (first_ns, step_ns): (i64, i64)) -> Option<i64> {
    let values = &strips.strips.first()?.values;
    let silent = values.iter().rev().take_while(|value| rule.bound.is_passed(**value)).count();
    (silent > 0).then(|| first_ns + (values.len() - silent) as i64 * step_ns)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::watch::Strip;

    fn sources(form: &str) -> Option<String> {
        let text = format!("name = 'x'\n{form}");
        let rule = RuleDocument::read(&text, &Ties::default()).unwrap_or_else(|e| panic!("{text}: {e:?}"));
        rule.sources().map(|filter| filter.to_string())
    }

    #[test]
    fn a_rule_hears_from_the_services_that_it_requires() {
        let threshold = |events: &str| format!("[threshold]\nevents = '{events}'\nover = '5m'\nabove = 3");
        let table = [
            (threshold("service=slots refused"), Some("service=slots")),
            (threshold("service in (slots, edge) zone=north"), Some("service in (slots, edge)")),
            (threshold("service=slots or service=edge refused"), Some("service=slots or service=edge")),
            (threshold("service=slots or refused"), Some("")),
            (threshold("service!=slots"), Some("")),
            (threshold("not service=slots"), Some("")),
            // Nothing that comes is what raises these.
            ("[threshold]\nevents = 'service=slots'\nover = '5m'\nbelow = 3".to_owned(), None),
            ("[silence]\nper = ['service']".to_owned(), None),
            (
                "[threshold]\nmeasure='mean(n)'\nevents = 'service=slots'\nover = '5m'\nbelow = 3".to_owned(),
                Some("service=slots"),
            ),
        ];
        for (form, expected) in table {
            assert_eq!(sources(&form).as_deref(), expected, "{form}");
        }
    }

    #[test]
    fn silence_counts_from_its_first_moment() {
        let rule = source_rule(&Filter::All).unwrap();
        let of = |values: &[f64]| {
            let strip = Strip { group: Vec::new(), values: values.to_vec(), usual: Vec::new() };
            silent_since(&rule, &Strips { strips: vec![strip], ..Strips::default() }, (100, 10))
        };
        assert_eq!(of(&[0.0, 6.0, 7.0]), Some(110));
        assert_eq!(of(&[9.0, 0.0]), None);
        assert_eq!(of(&[f64::NAN, f64::NAN]), None);
        assert_eq!(of(&[5.0, 5.1]), Some(110));
    }
}
