//! Mutes of a part of a rule: a filter over the fields that the rule judges apart.

use crate::measure::GroupValue;
use calvex_language::model::Value;
use calvex_language::query::{Field, Filter, Num, parse_filter};

/// Reads the filter of a mute; an empty one is of every group.
///
/// # Errors
/// What is wrong, with the cure.
pub fn mute_filter(text: &str, per: &[Field]) -> Result<Filter, String> {
    if text.trim().is_empty() {
        return Ok(Filter::All);
    }
    let filter = parse_filter(text).map_err(|mistakes| {
        mistakes.first().map_or_else(String::new, |m| format!("column {}: {}; {}", m.column, m.message, m.cure))
    })?;
    let names: Vec<String> = per.iter().map(name_of).collect();
    let cure = match names.as_slice() {
        [] => "it judges everything as one; mute all of it".to_owned(),
        names => format!("it judges {} apart", names.join(", ")),
    };
    match foreign(&filter, per) {
        Some(what) => Err(format!("the rule has no groups by {what}: {cure}")),
        None => Ok(filter),
    }
}

fn name_of(field: &Field) -> String {
    match field {
        Field::Builtin(builtin) => builtin.name().to_owned(),
        Field::Sent(name) => name.as_str().to_owned(),
    }
}

/// The first thing that a filter asks and groups do not have.
fn foreign(filter: &Filter, per: &[Field]) -> Option<String> {
    match filter {
        Filter::All => None,
        Filter::And(list) | Filter::Or(list) => list.iter().find_map(|f| foreign(f, per)),
        Filter::Not(inner) => foreign(inner, per),
        Filter::Words(_) => Some("words".into()),
        Filter::Compare(field, _) | Filter::Has(field) => {
            (!per.contains(field)).then(|| format!("`{}`", name_of(field)))
        }
    }
}

/// Whether a mute's filter is of a group.
pub fn mutes_group(filter: &Filter, per: &[Field], group: &[GroupValue]) -> bool {
    let value = |field: &Field| per.iter().position(|known| known == field).and_then(|n| group.get(n));
    match filter {
        Filter::All => true,
        Filter::And(list) => list.iter().all(|f| mutes_group(f, per, group)),
        Filter::Or(list) => list.iter().any(|f| mutes_group(f, per, group)),
        Filter::Not(inner) => !mutes_group(inner, per, group),
        Filter::Words(_) => false,
        Filter::Has(field) => value(field).is_some_and(|value| *value != GroupValue::Missing),
        Filter::Compare(field, test) => match value(field) {
            None | Some(GroupValue::Missing) => false,
            Some(GroupValue::Null) => test.value(&Value::Null) != test.is_ne(),
            Some(GroupValue::Bool(b)) => test.bool(*b) != test.is_ne(),
            Some(GroupValue::Whole(n)) => test.number(Num::int(*n)) != test.is_ne(),
            Some(GroupValue::Float(bits)) => test.number(Num::float(f64::from_bits(*bits))) != test.is_ne(),
            Some(GroupValue::Text(text) | GroupValue::Shape(text)) => test.text(text) != test.is_ne(),
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::query::Builtin;

    #[test]
    fn a_mute_picks_groups_by_their_values() {
        let per = [Field::Builtin(Builtin::Service), Field::Sent("door.bank".into())];
        let group = |service: &str, bank: i128| [GroupValue::Text(service.into()), GroupValue::Whole(bank)];
        let table = [
            ("", "slots", 7, true),
            ("service=slots", "slots", 7, true),
            ("service=slots", "edge", 7, false),
            ("service!=slots", "edge", 7, true),
            ("service in (edge, slots) door.bank>=7", "slots", 7, true),
            ("door.bank=7 or service=edge", "slots", 8, false),
            ("not door.bank=7", "slots", 8, true),
        ];
        for (text, service, bank, expected) in table {
            let filter = mute_filter(text, &per).unwrap();
            assert_eq!(mutes_group(&filter, &per, &group(service, bank)), expected, "{text} {service} {bank}");
        }
        let absent = [GroupValue::Missing, GroupValue::Null];
        assert!(!mutes_group(&mute_filter("service!=slots", &per).unwrap(), &per, &absent));
    }

    #[test]
    fn a_mute_that_can_pick_nothing_is_refused() {
        let per = [Field::Builtin(Builtin::Service)];
        for (text, why) in [("zone=north", "`zone`"), ("service=edge failed", "words"), ("service=", "column")] {
            let refused = mute_filter(text, &per).unwrap_err();
            assert!(refused.contains(why), "{text}: {refused}");
        }
        assert!(mute_filter("zone=north", &[]).unwrap_err().contains("mute all of it"));
    }
}
