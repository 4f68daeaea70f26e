//! Ties: kinds of ids that tie events together, with the spellings that mean them.
//!
//! A tie has a name (`request`, `parcel`) and spellings (`request_id`, `parcel.id`). In a query its name stands for every
//! spelling, so that `parcel=PX-48213` finds what one team sends as `parcelId` and another as `x-parcel-id`. Spellings are
//! looked up when a question is asked, not when an event comes: a spelling named today also finds what came yesterday, and
//! events stay as they were sent.
//!
//! Two spellings are one where they differ only in case, in `.`, `-` and `_`, in an `x-` before them, or in standing among
//! headers (`http.request.header.x-request-id`, the attribute of the OpenTelemetry conventions, is `request_id`).
//!
//! The tie `trace` is an event's builtin; spellings added to it are read as trace ids when events come.

use super::Builtin;
use std::collections::BTreeMap;
use std::sync::Arc;

/// One tie.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Tie {
    /// Its name.
    pub name: String,
    /// As they were given; the name is one too.
    pub spellings: Vec<String>,
    folded: Vec<String>,
}

impl Tie {
    /// With its spellings.
    pub fn new(name: &str, spellings: &[String]) -> Self {
        let mut folded: Vec<String> =
            std::iter::once(name).chain(spellings.iter().map(String::as_str)).map(fold).collect();
        folded.sort();
        folded.dedup();
        Tie { name: name.to_owned(), spellings: spellings.to_vec(), folded }
    }

    /// Whether the field at the dotted path is this tie.
    pub fn spells(&self, dotted: &str) -> bool {
        let name = core_of(dotted);
        self.folded.iter().any(|folded| folds_to(name, folded))
    }
}

/// Every tie, by name.
#[derive(Debug, Clone, Default)]
pub struct Ties {
    ties: BTreeMap<String, Arc<Tie>>,
}

impl Ties {
    /// Of these.
    pub fn new(ties: impl IntoIterator<Item = Tie>) -> Self {
        Ties { ties: ties.into_iter().map(|t| (t.name.clone(), Arc::new(t))).collect() }
    }

    /// The tie of a name; not those that are an event's builtin, which need no looking up.
    pub fn get(&self, name: &str) -> Option<Arc<Tie>> {
        self.ties.get(name).filter(|_| Builtin::from_name(name).is_none()).cloned()
    }

    /// All of them.
    pub fn iter(&self) -> impl Iterator<Item = &Arc<Tie>> {
        self.ties.values()
    }

    /// The tie that a field is.
    pub fn of_field(&self, dotted: &str) -> Option<&Arc<Tie>> {
        self.ties.values().find(|t| t.spells(dotted))
    }

    /// Whether a field is an added spelling of the trace id.
    pub fn is_trace(&self, dotted: &str) -> bool {
        self.ties.get(Builtin::Trace.name()).is_some_and(|t| t.spells(dotted))
    }
}

/// The name without what says that it is a header.
fn core_of(dotted: &str) -> &str {
    let header = ["http.request.header.", "http.response.header.", "headers.", "header."];
    let name = header.iter().find_map(|h| dotted.find(h).and_then(|at| dotted.get(at + h.len()..))).unwrap_or(dotted);
    let x = name.get(..2).is_some_and(|x| x.eq_ignore_ascii_case("x-") || x.eq_ignore_ascii_case("x_"));
    if x { name.get(2..).unwrap_or(name) } else { name }
}

fn is_break(c: char) -> bool {
    matches!(c, '.' | '-' | '_' | ' ')
}

fn fold(name: &str) -> String {
    core_of(name).chars().filter(|c| !is_break(*c)).flat_map(char::to_lowercase).collect()
}

fn folds_to(name: &str, folded: &str) -> bool {
    name.chars().filter(|c| !is_break(*c)).flat_map(char::to_lowercase).eq(folded.chars())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{Event, Path, Value};
    use crate::query::{matches, parse_filter};

    fn ties() -> Ties {
        let spelled = |name: &str, spellings: &[&str]| {
            Tie::new(name, &spellings.iter().map(|s| (*s).to_owned()).collect::<Vec<_>>())
        };
        Ties::new([
            spelled("parcel", &["parcel_id"]),
            spelled("request", &["request_id", "reqid"]),
            spelled("trace", &["op"]),
        ])
    }

    #[test]
    fn spellings_fold() {
        let ties = ties();
        let of = |field: &str| ties.of_field(field).map(|t| t.name.clone());
        for field in ["parcel", "parcelId", "PARCEL_ID", "parcel.id", "x-parcel-id", "X-Parcel", "headers.X-Parcel-Id"]
        {
            assert_eq!(of(field).as_deref(), Some("parcel"), "{field}");
        }
        for field in ["http.request.header.x-request-id", "reqId", "request.ID", "call.headers.request-id"] {
            assert_eq!(of(field).as_deref(), Some("request"), "{field}");
        }
        for field in ["parcels", "parcel.size", "id", "exrequest", "x"] {
            assert_eq!(of(field), None, "{field}");
        }
        assert!(ties.is_trace("OP") && !ties.is_trace("operator"));
    }

    #[test]
    fn a_tie_in_a_query_means_every_spelling() {
        let event = |path: &[&str], value: Value| Event {
            fields: vec![(Path::new(path.iter().copied()), value)],
            ..Event::default()
        };
        let text = |t: &str| Value::Text(t.into());
        let events = [
            event(&["parcel", "id"], text("PX-1")),
            event(&["parcelId"], text("PX-1")),
            event(&["http.request.header.x-parcel-id"], Value::List(vec![text("PX-1")])),
            event(&["parcel"], text("PX-2")),
            event(&["other"], text("PX-1")),
        ];
        for (query, expected) in [
            ("parcel=PX-1", vec![0, 1, 2]),
            ("parcel!=PX-1", vec![3]),
            ("has parcel", vec![0, 1, 2, 3]),
            ("not has parcel", vec![4]),
            ("parcel in (PX-1, PX-2)", vec![0, 1, 2, 3]),
            (".parcel=PX-1", vec![0, 1, 2]),
        ] {
            let mut filter = parse_filter(query).unwrap();
            let canonical = filter.to_string();
            filter.tie_up(&ties());
            assert_eq!(filter.to_string(), canonical, "its text stays");
            let plain: Vec<usize> = (0..events.len()).filter(|n| matches(&filter, &events[*n], "")).collect();
            assert_eq!(plain, expected, "{query}");
        }
    }
}
