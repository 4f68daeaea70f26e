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
//! The tie `trace` is an event's own part; spellings added to it are read as trace ids when events come.

use crate::columns::{ColumnKey, FieldType, Own, PageRead, Values};
use crate::error::Result;
use crate::event::to_hex;
use crate::query::OwnPart;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::hash::BuildHasherDefault;
use std::sync::Arc;
use xxhash_rust::xxh3::xxh3_64;

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

    /// The tie of a name; not those that are an event's own part, which need no looking up.
    pub fn get(&self, name: &str) -> Option<Arc<Tie>> {
        self.ties.get(name).filter(|_| OwnPart::from_name(name).is_none()).cloned()
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
        self.ties.get(OwnPart::Trace.name()).is_some_and(|t| t.spells(dotted))
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

/// Least distinct values that a field must share with a tie to be proposed, and least share of its own.
const SHARED: usize = 5;
const SHARE: f64 = 0.1;
/// Values of one tie that are remembered.
const MAX_VALUES: usize = 500_000;

/// A field that seems to be a tie.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Proposal {
    /// Which tie.
    pub tie: String,
    /// The field, as the language names it.
    pub spelling: String,
    /// Its distinct values that are known ids of the tie.
    pub shared: usize,
    /// Its distinct values.
    pub distinct: usize,
    /// One of those shared.
    pub example: String,
}

type Hashes = HashSet<u64, BuildHasherDefault<crate::chunk::AsIs>>;

/// Looks at pages for fields whose values are known ids.
#[derive(Default)]
pub struct Proposer {
    /// By tie.
    known: HashMap<String, Hashes>,
    /// Text fields that are no tie: their values.
    others: BTreeMap<String, HashMap<u64, String>>,
}

impl Proposer {
    /// Takes the values of a page.
    ///
    /// # Errors
    /// Where the page cannot be read.
    pub fn take(&mut self, page: &dyn PageRead, ties: &Ties) -> Result<()> {
        for (index, key) in page.keys().iter().enumerate() {
            let (path, nested) = match key {
                ColumnKey::Own(Own::Trace) => {
                    let Some(column) = page.column(index)? else { continue };
                    let known = self.known.entry(OwnPart::Trace.name().to_owned()).or_default();
                    if let Values::Blobs { dictionary, .. } = &column.values {
                        let room = MAX_VALUES.saturating_sub(known.len());
                        known.extend(dictionary.iter().take(room).map(|id| xxh3_64(to_hex(id).as_bytes())));
                    }
                    continue;
                }
                ColumnKey::Field(path, FieldType::Text) => (path, false),
                ColumnKey::Field(path, FieldType::Nested) => (path, true),
                _ => continue,
            };
            let Some(column) = page.column(index)? else { continue };
            let mut texts = Vec::new();
            match &column.values {
                Values::Texts { dictionary, .. } if !nested => texts.extend(dictionary.iter().map(str::to_owned)),
                Values::Blobs { dictionary, .. } => {
                    // Headers come as lists of text.
                    for value in dictionary.iter().filter_map(crate::event::decode_value) {
                        if let crate::event::Value::List(list) = value {
                            texts.extend(list.iter().filter_map(|v| v.as_text()).map(str::to_owned));
                        }
                    }
                }
                _ => {}
            }
            let dotted = path.dotted();
            if let Some(tie) = ties.of_field(&dotted) {
                let known = self.known.entry(tie.name.clone()).or_default();
                let room = MAX_VALUES.saturating_sub(known.len());
                known.extend(texts.iter().take(room).map(|t| xxh3_64(t.as_bytes())));
            } else {
                let values = self.others.entry(dotted).or_default();
                for text in texts {
                    if values.len() < MAX_VALUES / 10 {
                        values.insert(xxh3_64(text.as_bytes()), text);
                    }
                }
            }
        }
        Ok(())
    }

    /// What was found, the surest first.
    pub fn proposals(&self) -> Vec<Proposal> {
        let mut out = Vec::new();
        for (field, values) in &self.others {
            let of_tie = |(tie, known): (&String, &Hashes)| {
                let mut shared = values.iter().filter(|(hash, _)| known.contains(hash)).map(|(_, text)| text);
                let example = shared.by_ref().min()?.clone();
                let shared = values.keys().filter(|hash| known.contains(hash)).count();
                let enough = shared >= SHARED && shared as f64 >= SHARE * values.len() as f64;
                enough.then(|| Proposal {
                    tie: tie.clone(),
                    spelling: field.clone(),
                    shared,
                    distinct: values.len(),
                    example,
                })
            };
            out.extend(
                self.known.iter().filter_map(of_tie).max_by_key(|p| (p.shared, std::cmp::Reverse(p.tie.clone()))),
            );
        }
        out.sort_by(|a, b| b.shared.cmp(&a.shared).then_with(|| a.spelling.cmp(&b.spelling)));
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::columns::build_page;
    use crate::event::{Event, Path, Value};
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
        let page = build_page(&events).unwrap();
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
            let rows: Vec<usize> = crate::columns::select(&filter, &page, "").unwrap().iter().collect();
            assert_eq!(rows, expected, "{query}");
            let plain: Vec<usize> = (0..events.len()).filter(|n| matches(&filter, &events[*n], "")).collect();
            assert_eq!(plain, expected, "{query}");
        }
    }

    #[test]
    fn fields_with_known_ids_are_proposed() {
        let events: Vec<Event> = (0..40u8)
            .map(|n| Event {
                trace: Some([n; 16]),
                fields: vec![
                    (Path::root("parcelId"), Value::Text(format!("PX-{n}"))),
                    (Path::root("ref"), Value::Text(format!("PX-{}", n * 2))),
                    (Path::root("chain"), Value::Text(to_hex(&[n / 2; 16]))),
                    (Path::root("note"), Value::Text(format!("{n} PX-1"))),
                    (Path::root("first"), Value::Text(format!("PX-{}", n % 4))),
                ],
                ..Event::default()
            })
            .collect();
        let mut proposer = Proposer::default();
        proposer.take(&build_page(&events).unwrap(), &ties()).unwrap();
        let told: Vec<_> =
            proposer.proposals().into_iter().map(|p| (p.tie, p.spelling, p.shared, p.distinct, p.example)).collect();
        let s = |t: &str| t.to_owned();
        assert_eq!(
            told,
            [(s("trace"), s("chain"), 20, 20, to_hex(&[0; 16])), (s("parcel"), s("ref"), 20, 40, s("PX-0"))]
        );
    }
}
