//! The fields among the events found: which there are, their types, how many events have each. From the newest pages
//! that hold a match, as many as are asked for; the answer returns whether those were all.

use crate::scan::{Explanation, Scope};
use crate::scan::{PageAt, open_all, read_or_leave_out};
use calvex_language::error::Result;
use calvex_language::model::Path;
use calvex_language::query::{Filter, TimeRange};
use calvex_storage::columns::{BuiltinColumn, ColumnKey, FieldType, PageRead, Rows, overflow_fields};
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// Pages looked at side by side.
const WAVE: usize = 16;
/// Most paths that are returned.
const MAX_PATHS: usize = 5000;

/// A field among the events found.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SampledField {
    /// The types its values have.
    pub types: BTreeSet<&'static str>,
    /// Events that have it, of those looked at.
    pub having: u64,
}

/// The fields among the events found.
#[derive(Debug, Clone, Default)]
pub struct Sampled {
    /// Events looked at; each passes the filter.
    pub events: u64,
    /// Whether those are all that pass.
    pub whole: bool,
    /// By dotted path.
    pub fields: BTreeMap<String, SampledField>,
    /// How it came about.
    pub explain: Explanation,
}

/// Gathers the fields of the events that pass, from up to about `pages` pages that hold any.
pub fn sampled_fields(scope: &Scope, filter: &Filter, range: TimeRange, pages: usize) -> Sampled {
    let mut out = Sampled { explain: scope.explain(&range), whole: true, ..Sampled::default() };
    let mut all = newest_first(scope, filter, &range, &mut out.explain);
    let mut holding = 0;
    while !all.is_empty() {
        if holding >= pages {
            out.whole = false;
            break;
        }
        let wave: Vec<(Arc<str>, PageAt)> = all.drain(..WAVE.min(all.len())).collect();
        let reported = scope.map(wave.len(), &mut out.explain, |n| {
            let (lane, at) = &wave[n];
            read_or_leave_out(scope, filter, &range, (lane, at), |page, rows| {
                Ok((rows.count() as u64, if rows.is_empty() { BTreeMap::new() } else { fields_of(page, rows)? }))
            })
        });
        for ((events, fields), explain) in reported.into_iter().flatten() {
            out.explain.add(explain);
            out.events += events;
            holding += usize::from(events > 0);
            for (path, field) in fields {
                if out.fields.len() >= MAX_PATHS && !out.fields.contains_key(&path) {
                    out.whole = false;
                    continue;
                }
                let known = out.fields.entry(path).or_default();
                known.types.extend(field.types);
                known.having += field.having;
            }
        }
    }
    out
}

/// The pages that may hold a match, the newest first.
pub(super) fn newest_first(
    scope: &Scope,
    filter: &Filter,
    range: &TimeRange,
    explain: &mut Explanation,
) -> Vec<(Arc<str>, PageAt)> {
    let mut pages = open_all(scope, filter, range, explain);
    pages.sort_by_key(|(_, page)| Reverse(page.time_span().1));
    pages
}

/// The fields of these rows of a page.
fn fields_of(page: &dyn PageRead, rows: &Rows) -> Result<BTreeMap<String, SampledField>> {
    let mut out: BTreeMap<String, SampledField> = BTreeMap::new();
    // A path with values of several types has a column of each; an event has it in one of them.
    for (index, key) in page.keys().iter().enumerate() {
        match key {
            ColumnKey::Field(path, kind) => {
                let Some(column) = page.column(index)? else { continue };
                let having = match &column.present {
                    None => rows.count(),
                    Some(present) => present.iter().filter(|row| rows.has(**row as usize)).count(),
                };
                if having > 0 {
                    let field = out.entry(path.dotted()).or_default();
                    field.types.insert(kind.name());
                    field.having += having as u64;
                }
            }
            ColumnKey::Builtin(BuiltinColumn::Overflow) => {
                let Some(column) = page.column(index)? else { continue };
                for row in rows.iter() {
                    let Some(value_index) = column.value_index(row) else { continue };
                    for (path, value) in overflow_fields(&column.values, value_index)? {
                        let field = out.entry(Path::from_stored(&path).dotted()).or_default();
                        field.types.insert(FieldType::of(&value).name());
                        field.having += 1;
                    }
                }
            }
            ColumnKey::Builtin(_) => {}
        }
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{Shelf, head, scope};
    use calvex_language::model::{Event, Value};
    use calvex_language::query::parse_filter;

    #[test]
    fn only_of_the_events_found() {
        let event = |n: i64, fields: Vec<(&str, Value)>| Event {
            time_ns: n,
            fields: fields.into_iter().map(|(name, value)| (Path::new(name.split('.')), value)).collect(),
            ..Event::default()
        };
        let events: Vec<Event> = (0..40)
            .map(|n| match n % 4 {
                0 => event(n, vec![("slot.bank", Value::Text("BK-1".into())), ("n", Value::Int(n))]),
                1 => event(n, vec![("n", Value::Text("one".into()))]),
                _ => event(n, vec![("other", Value::Bool(true))]),
            })
            .collect();
        let events = crate::testing::numbered(events);
        let mut shelf = Shelf::default();
        let sealed = shelf.seal(&events, 4);
        let filter = parse_filter("has n").unwrap();
        for view in [head(&events), sealed.clone()] {
            let reported = sampled_fields(&scope(&view, &shelf), &filter, TimeRange::ALL, 1000);
            assert!(reported.whole);
            assert_eq!(reported.events, 20);
            let fields: Vec<_> = reported.fields.iter().map(|(p, f)| (p.as_str(), f.types.len(), f.having)).collect();
            assert_eq!(fields, [("n", 2, 20), ("slot.bank", 1, 10)]);
        }
        // A page for each event: the first wave holds enough, so the rest is not looked at.
        let pages = shelf.seal(&events, 1);
        let some = sampled_fields(&scope(&pages, &shelf), &Filter::All, TimeRange::ALL, 1);
        assert_eq!((some.whole, some.events), (false, WAVE as u64));
        let all = sampled_fields(&scope(&pages, &shelf), &Filter::All, TimeRange::ALL, events.len() + 1);
        assert_eq!((all.whole, all.events), (true, events.len() as u64));
    }
}
