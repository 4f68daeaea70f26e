//! What somebody gets who may read a part: whatever is asked, it is the answer over the events that the slow evaluator
//! leaves, from everywhere an event can stand.

use crate::compare::{Side, compare};
use crate::errors::{ErrorsAsk, errors};
use crate::measure::{MeasureAsk, Steps, measure};
use crate::scan::{Extent, Scope};
use crate::search::{
    Export, Find, Order, breakdown, earliest_ns, export, field_names, fields as listed_fields, find, histogram,
    sampled_fields,
};
use crate::testing::{Shelf, any_event, any_query, head, numbered, scope};
use calvex_language::model::{Event, Path, Value};
use calvex_language::query::{Builtin, Context, Field, Filter, HiddenFields, Ties, TimeRange, parse};
use calvex_storage::columns::{Restriction, together};
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::sync::Arc;

fn filter_of(text: &str) -> Filter {
    parse(text, &Context::utc(0)).query.filter
}

/// The extents of a view as somebody sees them who may read this of it.
fn restricted(view: &[Extent], restrictions: &[Restriction]) -> Vec<Extent> {
    let layers: Vec<Arc<Restriction>> = restrictions.iter().cloned().map(Arc::new).collect();
    let seen = |extent: &Extent| -> Vec<Extent> {
        layers.iter().map(|layer| Extent { restriction: Some(layer.clone()), ..extent.clone() }).collect()
    };
    if layers.is_empty() { view.to_vec() } else { view.iter().flat_map(seen).collect() }
}

/// Everything that is answered, as text, without how it came about.
fn all_answers(scope: &Scope, filter: &Filter, range: TimeRange) -> BTreeMap<&'static str, String> {
    let mut out = BTreeMap::new();
    let ask = Find { filter, range, order: Order::Newest, after: None, limit: 1000 };
    let mut found = find(scope, &ask).events;
    found.iter_mut().for_each(|(event, _)| event.fields.sort_by(|(a, _), (b, _)| a.cmp(b)));
    let fields: Vec<Field> = found
        .iter()
        .flat_map(|(event, _)| event.fields.iter().map(|(path, _)| Field::Sent(path.dotted().into())))
        .chain([Builtin::Service, Builtin::Shape, Builtin::ErrorGroup, Builtin::Trace].map(Field::Builtin))
        .take(12)
        .collect();
    out.insert("found", format!("{found:?}"));
    out.insert("counted", format!("{:?}", histogram(scope, filter, range, range.from_ns, 7).buckets));
    out.insert("breakdown", format!("{:?}", breakdown(scope, filter, range, &fields, 10).fields));
    let sampled = sampled_fields(scope, filter, range, 1000);
    out.insert("fields found", format!("{} {:?}", sampled.events, sampled.fields));
    out.insert("names", format!("{:?}", field_names(scope, &TimeRange::ALL, &[])));
    // Both are of whole pages. Which of the pages' ends are the first and last is left out.
    let listed = listed_fields(scope, &TimeRange::ALL).unwrap();
    let listed = listed.into_iter().filter(|(_, (events, _))| *events > 0).map(|(lane, (events, fields))| {
        let seen = fields.into_iter().map(|(name, f)| (name, f.types.into_keys().collect::<Vec<_>>(), f.events));
        (lane, events, seen.collect::<Vec<_>>())
    });
    out.insert("catalogue", format!("{:?}", listed.collect::<Vec<_>>()));
    for text in ["count per service, shape", "count, p50(n), last(n) per n top 5", "max(n), distinct(n)"] {
        let parsed = parse(&format!("measure {text}"), &Context::utc(0));
        assert_eq!(parsed.mistakes, [], "{text}");
        let asked = parsed.query.measure.unwrap();
        let steps = Steps::None;
        out.insert(text, format!("{:?}", measure(scope, &MeasureAsk { filter, range, measure: &asked, steps }).groups));
    }
    out.insert("errors", format!("{:?}", errors(scope, &ErrorsAsk { filter, range, top: 20, points: 4 }).groups));
    let side = |filter, range| Side { filter, range, whole: false };
    let compared = compare(scope, &side(&Filter::All, range), &side(filter, range));
    out.insert("compared", format!("{:?}", (compared.baseline, compared.current, compared.findings)));
    let mut lines = Vec::new();
    export(scope, &Export { filter, range, limit: 1000, sent: true }, |more| {
        lines.extend(more);
        true
    });
    out.insert("exported", String::from_utf8(lines).unwrap());
    out.insert("earliest", earliest_ns(scope).to_string());
    out
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1000))]
    #[test]
    fn an_answer_over_a_part_is_the_answer_over_what_is_left(
        // No more than the pages that the catalogue samples: each event may stand in a page of its own.
        events in prop::collection::vec(any_event(), 1..=32),
        text in any_query(),
        grants in prop::collection::vec((any_query(), prop::collection::vec(any::<prop::sample::Index>(), 0..3)), 1..4),
        from in -1i64..30,
        len in 1i64..40,
        which in 0usize..3,
    ) {
        let events = numbered(events);
        let names: Vec<String> = events.iter().flat_map(|e| e.fields.iter().map(|(path, _)| path.dotted())).collect();
        let named = |n: &prop::sample::Index| if names.is_empty() { "n" } else { names[n.index(names.len())].as_str() };
        let grant = |(rows, hidden): &(String, Vec<prop::sample::Index>)| {
            (filter_of(rows), HiddenFields::new(hidden.iter().map(named), &Ties::default()))
        };
        let restrictions = together(&"main".into(), grants.iter().map(grant).collect());
        let seen = |event: &Event| match restrictions.as_slice() {
            [] => Some(event.clone()),
            layers => layers.iter().find_map(|layer| layer.event(event.clone())),
        };
        let left: Vec<Event> = events.iter().filter_map(seen).collect();
        let filter = filter_of(&text);
        let range = TimeRange { from_ns: from, to_ns: from + len };
        let mut shelf = Shelf::default();
        let views = shelf.views(&events);
        let expected = all_answers(&scope(&head(&left), &shelf), &filter, range);
        for (name, view) in views.into_iter().skip(which).step_by(3) {
            let view = restricted(&view, &restrictions);
            let got = all_answers(&scope(&view, &shelf), &filter, range);
            for (what, expected) in &expected {
                prop_assert_eq!(&got[what], expected, "{} of {}, {}, {:?}", what, text, name, restrictions);
            }
        }
    }
}

/// The rule of each row: a field is hidden unless a grant that admits the row shows it.
#[test]
fn a_grant_shows_its_fields_in_its_rows_alone() {
    let event = |service: &str| Event {
        service: service.into(),
        fields: vec![(Path::new(["recipient", "phone"]), Value::Int(7))],
        ..Event::default()
    };
    let hidden = |names: &[&str]| HiddenFields::new(names.iter().copied(), &Ties::default());
    let layers = together(
        &"main".into(),
        vec![(Filter::All, hidden(&["recipient.phone"])), (filter_of("service=slots"), hidden(&[]))],
    );
    let shown = |service: &str| {
        let left: Vec<Event> = layers.iter().filter_map(|layer| layer.event(event(service))).collect();
        assert_eq!(left.len(), 1, "{service} is in one layer");
        left[0].fields.len()
    };
    assert_eq!((shown("slots"), shown("access")), (1, 0));
    assert!(together(&"main".into(), vec![(Filter::All, hidden(&[])), (filter_of("a"), hidden(&["b"]))]).is_empty());
    // Whoever has no grant reads nothing.
    let none = together(&"main".into(), Vec::new());
    assert!(none.iter().all(|layer| layer.event(event("slots")).is_none()) && !none.is_empty());
}
