//! Help for an empty answer: fields that no event has, and what may have been meant.

use super::sampled::sampled_fields;
use super::{Find, Order, find};
use crate::scan::{Extent, Location, Scope, all_of};
use calvex_language::model::Path;
use calvex_language::query::{Builtin, Field, Filter, TimeRange};
use calvex_storage::columns::{BuiltinColumn, ColumnKey, PageRead, overflow_fields};
use std::collections::BTreeSet;

/// Pages of filtered rows whose fields are named.
const NAMED_PAGES: usize = 32;

/// A field that nothing in range has.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct FieldHint {
    /// As the query names it.
    pub field: String,
    /// Near names that exist, nearest first.
    pub near: Vec<String>,
}

/// The sent fields that events of `range` have, dotted: all of them, but of extents whose rows are filtered those of the
/// newest pages, and those asked for that any row has.
pub fn field_names(scope: &Scope, range: &TimeRange, asked: &[&str]) -> BTreeSet<String> {
    let mut names = BTreeSet::new();
    let (filtered, whole): (Vec<&Extent>, Vec<&Extent>) = scope.touching(range).partition(|e| e.is_filtered());
    for extent in whole {
        names_of(extent, scope, &mut names);
    }
    let filtered: Vec<Extent> = filtered.into_iter().cloned().collect();
    if filtered.is_empty() {
        return names;
    }
    let scope = &Scope { view: &filtered, progress: None, ..*scope };
    names.extend(sampled_fields(scope, &Filter::All, *range, NAMED_PAGES).fields.into_keys());
    for name in asked {
        let has = Filter::Has(Field::Sent((*name).into()));
        let ask = Find { filter: &has, range: *range, order: Order::Newest, after: None, limit: 1 };
        if !names.contains(*name) && !find(scope, &ask).events.is_empty() {
            names.insert((*name).to_owned());
        }
    }
    names
}

fn names_of(extent: &Extent, scope: &Scope, names: &mut BTreeSet<String>) {
    let keys = |keys: &[ColumnKey], names: &mut BTreeSet<String>| {
        for key in keys {
            if let ColumnKey::Field(path, _) = key
                && !extent.hides(&path.dotted())
            {
                names.insert(path.dotted());
            }
        }
    };
    let overflows = match &extent.location {
        Location::Head(page) => {
            keys(page.keys(), names);
            true
        }
        Location::Chunk(id) => {
            let Ok(directory) = scope.source.directory(*id) else { return };
            keys(&directory.keys, names);
            directory.keys.contains(&ColumnKey::Builtin(BuiltinColumn::Overflow))
        }
    };
    // A page that cannot be read adds none.
    for page in all_of(extent, scope.source).unwrap_or_default().iter().filter(|_| overflows) {
        let _ = page.with(scope.source, |page| {
            beyond(page, names);
            Ok(())
        });
    }
}

/// Fields that have no column of their own.
fn beyond(page: &dyn PageRead, names: &mut BTreeSet<String>) {
    let Ok(Some(column)) = page.builtin(BuiltinColumn::Overflow) else { return };
    for value_index in 0..column.values.len().unwrap_or(0) {
        let fields = overflow_fields(&column.values, value_index).unwrap_or_default();
        names.extend(fields.into_iter().map(|(path, _)| Path::from_stored(&path).dotted()));
    }
}

/// Those of the fields `asked` for that none of `names` satisfies.
pub fn unknown_fields(mut asked: Vec<&str>, names: &BTreeSet<String>) -> Vec<FieldHint> {
    let known = |field: &str| {
        names.iter().any(|n| {
            calvex_language::query::matching::at_or_below(n, field)
                || calvex_language::query::matching::at_or_below(field, n)
        })
    };
    asked.sort_unstable();
    asked.dedup();
    asked.into_iter().filter(|f| !known(f)).map(|f| FieldHint { field: f.to_owned(), near: near(f, names) }).collect()
}

fn near(field: &str, names: &BTreeSet<String>) -> Vec<String> {
    let own = Builtin::ALL.iter().map(|(_, name)| (*name).to_owned());
    let mut scored: Vec<(usize, String)> = names
        .iter()
        .cloned()
        .chain(own)
        .map(|n| {
            // The last word alone is how people remember a nested field.
            let last = n.rsplit('.').next().unwrap_or(&n);
            (distance(field, &n).min(distance(field, last)), n)
        })
        .filter(|(d, _)| *d <= (field.chars().count() / 3).max(1))
        .collect();
    scored.sort();
    scored.into_iter().take(3).map(|(_, n)| n).collect()
}

/// Edits between two texts, a swap of neighbours counting once (optimal string alignment).
fn distance(a: &str, b: &str) -> usize {
    let (a, b): (Vec<char>, Vec<char>) = (a.chars().take(64).collect(), b.chars().take(64).collect());
    let mut rows = vec![vec![0; b.len() + 1]; a.len() + 1];
    for i in 0..=a.len() {
        for j in 0..=b.len() {
            rows[i][j] = if i == 0 || j == 0 {
                i + j
            } else {
                let swap = i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1];
                let step = rows[i - 1][j - 1] + usize::from(a[i - 1] != b[j - 1]);
                let best = step.min(rows[i - 1][j] + 1).min(rows[i][j - 1] + 1);
                if swap { best.min(rows[i - 2][j - 2] + 1) } else { best }
            };
        }
    }
    rows[a.len()][b.len()]
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::query::parse_filter;

    #[test]
    fn near_spellings() {
        let names = ["http.route", "http.status", "slot.bank"].map(String::from).into();
        let hint = |q: &str| unknown_fields(parse_filter(q).unwrap().sent_fields(), &names);
        assert_eq!(hint("htpp.route=x")[0].near, ["http.route"]);
        assert_eq!(hint("bnak=BK-017")[0].near, ["slot.bank"]);
        assert!(hint("http.route=x has http").is_empty());
        assert!(hint("entirely.else=1")[0].near.is_empty());
    }
}
