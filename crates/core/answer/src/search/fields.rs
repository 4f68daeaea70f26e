//! The catalogue of a lane's fields: every path with its types, when it was first and last seen, roughly how many values
//! it takes, and a few of them. Worked out from directories of chunks and pages of heads when it is asked for: what is no
//! longer kept is no longer in it, and nothing has to be kept beside.
//!
//! Types and times come from every chunk of the range, the times as exact as its pages. Values are counted in the newest
//! pages only, up to [`SAMPLED_PAGES`]: a rough number, but never of nothing.

use crate::measure::Distinct;
use crate::scan::{Extent, Location, Scope, all_of};
use calvex_language::error::Result;
use calvex_language::model::Path;
use calvex_language::model::mask::mask;
use calvex_language::query::TimeRange;
use calvex_storage::columns::{BuiltinColumn, ColumnKey, FieldType, PageRead, Values, overflow_fields};
use std::collections::BTreeMap;
use xxhash_rust::xxh3::xxh3_64;

/// Pages whose values are counted.
const SAMPLED_PAGES: usize = 32;
/// Pages of a lane that are looked at for these, where many hold nothing that may be read.
const LOOKED_AT_PAGES: usize = 512;
/// Most paths that are listed of one lane.
const MAX_PATHS: usize = 20_000;
/// Values shown of a field, and how long each.
const EXAMPLES: usize = 3;
const EXAMPLE_CHARS: usize = 60;

/// A field of a lane.
#[derive(Debug, Clone, Default)]
pub struct FieldSeen {
    /// The types it has, each with the time it was last seen as such, nanoseconds; null is left out where it has others.
    pub types: BTreeMap<&'static str, i64>,
    /// The start of the page it was first seen in, nanoseconds.
    pub first_ns: i64,
    /// The end of the page it was last seen in, nanoseconds.
    pub last_ns: i64,
    /// Distinct values in the pages sampled.
    pub distinct: Distinct,
    /// Events that have it in the pages sampled.
    pub events: u64,
    /// Some of them, secrets covered.
    pub examples: Vec<String>,
}

impl FieldSeen {
    /// Whether it comes as values that do not compare with one another.
    pub fn conflicting(&self) -> bool {
        let kinds = self.types.keys().map(|t| if *t == "integer" { "number" } else { *t }).filter(|t| *t != "null");
        kinds.collect::<std::collections::BTreeSet<_>>().len() > 1
    }

    fn seen(&mut self, kind: FieldType, first_ns: i64, last_ns: i64) {
        if self.types.is_empty() {
            (self.first_ns, self.last_ns) = (first_ns, last_ns);
        }
        self.first_ns = self.first_ns.min(first_ns);
        self.last_ns = self.last_ns.max(last_ns);
        let last = self.types.entry(kind.name()).or_insert(last_ns);
        *last = (*last).max(last_ns);
    }

    fn value(&mut self, text: &str) {
        self.distinct.add(xxh3_64(text.as_bytes()));
        if self.examples.len() < EXAMPLES && !text.is_empty() {
            let short: String = mask(text).chars().take(EXAMPLE_CHARS).collect();
            if !self.examples.contains(&short) {
                self.examples.push(short);
            }
        }
    }
}

/// The events of a lane's pages that were sampled, and its fields by dotted path.
pub type LaneFields = (u64, BTreeMap<String, FieldSeen>);

/// Shows the newest pages of the scope's lanes within `range` to `each`, up to [`SAMPLED_PAGES`] of each lane.
///
/// # Errors
/// Where a page cannot be read, or `each` fails.
pub fn newest_pages(scope: &Scope, range: &TimeRange, mut each: impl FnMut(&dyn PageRead) -> Result<()>) -> Result<()> {
    let mut shown: BTreeMap<&str, Sampled> = BTreeMap::new();
    for extent in newest(scope, range) {
        sample(scope, extent, shown.entry(&extent.lane).or_default(), &mut each)?;
    }
    Ok(())
}

fn newest<'a>(scope: &Scope<'a>, range: &TimeRange) -> Vec<&'a Extent> {
    let mut extents: Vec<_> = scope.touching(range).collect();
    extents.sort_by_key(|s| std::cmp::Reverse(s.time_max));
    extents
}

/// Pages of a lane that were shown, and those looked at for it.
#[derive(Default)]
struct Sampled {
    shown: usize,
    looked_at: usize,
}

/// Shows the newest pages of an extent that have rows, while the lane has shown fewer than [`SAMPLED_PAGES`].
fn sample(
    scope: &Scope,
    extent: &Extent,
    sampled: &mut Sampled,
    mut each: impl FnMut(&dyn PageRead) -> Result<()>,
) -> Result<()> {
    let Ok(pages) = all_of(extent, scope.source) else { return Ok(()) };
    for page in pages.iter().rev() {
        let enough = sampled.shown >= SAMPLED_PAGES || sampled.looked_at >= LOOKED_AT_PAGES;
        if enough || (scope.stop)().is_some() {
            break;
        }
        sampled.looked_at += 1;
        page.with(scope.source, |page| {
            if page.rows() > 0 {
                sampled.shown += 1;
                each(page)?;
            }
            Ok(())
        })?;
    }
    Ok(())
}

/// The fields of the scope's lanes within `range`, by lane and dotted path, and the events of the pages sampled. Of extents
/// whose rows are filtered, types and times are those of the sampled pages too.
///
/// # Errors
/// Where a page cannot be read.
pub fn fields(scope: &Scope, range: &TimeRange) -> Result<BTreeMap<String, LaneFields>> {
    let mut out: BTreeMap<String, LaneFields> = BTreeMap::new();
    let mut sampled: BTreeMap<&str, Sampled> = BTreeMap::new();
    for extent in newest(scope, range) {
        if (scope.stop)().is_some() {
            break;
        }
        let (events, fields) = out.entry(extent.lane.to_string()).or_default();
        let shown = |dotted: &str| !extent.hides(dotted);
        match &extent.location {
            _ if extent.is_filtered() => {}
            Location::Head(page) => columns(page.keys(), page.time_span(), fields, |_| true, shown),
            Location::Chunk(id) => {
                let Ok(directory) = scope.source.directory(*id) else { continue };
                for (n, span) in directory.pages.iter().enumerate() {
                    let times = (span.time_min, span.time_max);
                    if range.touches(times.0, times.1) {
                        columns(&directory.keys, times, fields, |column| directory.block(column, n).is_some(), shown);
                    }
                }
            }
        }
        sample(scope, extent, sampled.entry(&extent.lane).or_default(), |page| {
            if extent.is_filtered() {
                columns(page.keys(), page.time_span(), fields, |n| matches!(page.column(n), Ok(Some(_))), |_| true);
            }
            *events += page.rows() as u64;
            values(page, fields)
        })?;
    }
    Ok(out)
}

fn columns(
    keys: &[ColumnKey],
    (first_ns, last_ns): (i64, i64),
    fields: &mut BTreeMap<String, FieldSeen>,
    there: impl Fn(usize) -> bool,
    shown: impl Fn(&str) -> bool,
) {
    for (index, key) in keys.iter().enumerate() {
        if let ColumnKey::Field(path, kind) = key
            && there(index)
        {
            let dotted = path.dotted();
            if shown(&dotted)
                && let Some(field) = slot(fields, dotted)
            {
                field.seen(*kind, first_ns, last_ns);
            }
        }
    }
}

fn slot(fields: &mut BTreeMap<String, FieldSeen>, dotted: String) -> Option<&mut FieldSeen> {
    if fields.len() >= MAX_PATHS && !fields.contains_key(&dotted) {
        return None;
    }
    Some(fields.entry(dotted).or_default())
}

/// Counts the values of a page.
fn values(page: &dyn PageRead, fields: &mut BTreeMap<String, FieldSeen>) -> Result<()> {
    let span = page.time_span();
    for (index, key) in page.keys().iter().enumerate() {
        let (path, kind) = match key {
            ColumnKey::Field(path, kind) => (path, *kind),
            ColumnKey::Builtin(BuiltinColumn::Overflow) => {
                let Some(column) = page.column(index)? else { continue };
                for value_index in 0..column.values.len().unwrap_or(0) {
                    for (path, value) in overflow_fields(&column.values, value_index)? {
                        if let Some(field) = slot(fields, Path::from_stored(&path).dotted()) {
                            field.seen(FieldType::of(&value), span.0, span.1);
                            field.events += 1;
                            field.value(&serde_json::to_string(&value).unwrap_or_default());
                        }
                    }
                }
                continue;
            }
            ColumnKey::Builtin(_) => continue,
        };
        let Some(column) = page.column(index)? else { continue };
        let Some(field) = slot(fields, path.dotted()) else { continue };
        field.events += column.present.as_ref().map_or(page.rows(), |rows| rows.len()) as u64;
        match &column.values {
            Values::Texts { dictionary, .. } => dictionary.iter().for_each(|text| field.value(text)),
            Values::Ints(numbers) if kind == FieldType::Int => {
                numbers.iter().for_each(|n| field.value(&n.to_string()));
            }
            Values::Nulls => {}
            values => {
                for value_index in 0..values.len().unwrap_or(0) {
                    let value = calvex_storage::columns::field_value(kind, values, value_index)?;
                    field.value(&serde_json::to_string(&value).unwrap_or_default());
                }
            }
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{Shelf, head, scope};
    use calvex_language::model::{Event, Value};

    #[test]
    fn from_heads_and_chunks_alike() {
        let event = |time_ns: i64, fields: Vec<(&str, Value)>| Event {
            time_ns,
            fields: fields.into_iter().map(|(name, value)| (Path::new(name.split('.')), value)).collect(),
            ..Event::default()
        };
        let text = |t: &str| Value::Text(t.into());
        let events = crate::testing::numbered(vec![
            event(10, vec![("slot.bank", text("BK-1")), ("n", Value::Int(1))]),
            event(20, vec![("slot.bank", text("BK-2")), ("n", text("one")), ("mail", text("tore@fennmark.example"))]),
            event(
                30,
                vec![("slot.bank", text("BK-1")), ("n", Value::Null), ("list", Value::List(vec![Value::Int(1)]))],
            ),
        ]);
        let mut shelf = Shelf::default();
        let sealed = shelf.seal(&events, 2);
        for view in [head(&events), sealed] {
            let all = fields(&scope(&view, &shelf), &TimeRange { from_ns: i64::MIN, to_ns: i64::MAX }).unwrap();
            let (sampled, found) = &all["main"];
            assert_eq!(*sampled, 3);
            let reported: Vec<_> = found
                .iter()
                .map(|(path, f)| {
                    let types: Vec<&str> = f.types.keys().copied().collect();
                    (
                        path.as_str(),
                        types.join("+"),
                        f.conflicting(),
                        f.events,
                        f.distinct.count(),
                        f.examples.join(" "),
                    )
                })
                .collect();
            let s = |t: &str| t.to_owned();
            assert_eq!(
                reported,
                [
                    ("list", s("list"), false, 1, 1, s("[1]")),
                    ("mail", s("text"), false, 1, 1, s("•••")),
                    ("n", s("integer+null+text"), true, 3, 2, reported[2].5.clone()),
                    ("slot.bank", s("text"), false, 3, 2, reported[3].5.clone()),
                ]
            );
            assert_eq!((found["slot.bank"].first_ns, found["slot.bank"].last_ns), (10, 30));
        }
    }
}
