//! Correlate: everything tied to one id, as a query. So far an id ties by trace, or by standing in an event as it is.

use calvex_language::model::{Event, parse_trace};
use calvex_language::query::{Builtin, Field, Filter, Literal, Op, Test, WordsTest, fold, words_of};
use std::collections::BTreeMap;

/// What a pasted id is taken as.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tie {
    /// A W3C trace id.
    Trace,
    /// Any other id: its words in a row in the message or a text value.
    Id,
}

/// The filter for a pasted id; `None` where it holds nothing to look for.
pub fn story_filter(id: &str) -> Option<(Tie, Filter)> {
    let id = id.trim();
    if parse_trace(id).is_some() {
        let literal = Literal { text: id.to_ascii_lowercase(), quoted: false, number: None };
        return Some((Tie::Trace, Filter::Compare(Field::Builtin(Builtin::Trace), Test::Compare(Op::Eq, literal))));
    }
    let words: Vec<String> = words_of(id).map(|w| fold(w).into_owned()).collect();
    let test = WordsTest { words, prefix: false, quoted: true, text: id.to_owned(), number: None };
    (!test.words.is_empty()).then_some((Tie::Id, Filter::Words(test)))
}

/// One service's share of a story.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct ServiceShare {
    /// Its name; empty where events have none.
    pub service: String,
    /// How many events.
    pub events: usize,
    /// Time of its first, nanoseconds.
    pub first_ns: i64,
}

/// The services of a story in the order of their first event (events in time order).
pub fn services_of<'a>(events: impl Iterator<Item = &'a Event>) -> Vec<ServiceShare> {
    let mut order: Vec<ServiceShare> = Vec::new();
    let mut at: BTreeMap<&str, usize> = BTreeMap::new();
    for event in events {
        let slot = *at.entry(event.service.as_str()).or_insert_with(|| {
            order.push(ServiceShare { service: event.service.clone(), events: 0, first_ns: event.time_ns });
            order.len() - 1
        });
        order[slot].events += 1;
    }
    order
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ids_are_told_apart() {
        let trace = "5B8AA5a2d2c872e8321cf37308d69df2";
        let (tie, filter) = story_filter(trace).unwrap();
        assert_eq!((tie, filter.to_string()), (Tie::Trace, format!("trace={}", trace.to_ascii_lowercase())));
        let (tie, filter) = story_filter(" PX-48213 ").unwrap();
        assert_eq!((tie, filter.to_string()), (Tie::Id, "\"PX-48213\"".to_owned()));
        assert!(story_filter(" -- ").is_none());
    }

    #[test]
    fn services_in_order_of_appearance() {
        let event = |service: &str, time_ns| Event { service: service.into(), time_ns, ..Event::default() };
        let events = [event("edge", 1), event("parcels", 2), event("edge", 3)];
        let shares = services_of(events.iter());
        assert_eq!(
            shares.iter().map(|s| (s.service.as_str(), s.events)).collect::<Vec<_>>(),
            [("edge", 2), ("parcels", 1)]
        );
    }
}
