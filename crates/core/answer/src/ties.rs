//! Fields that seem to be ties: whose values are known ids of one.

use calvex_language::error::Result;
use calvex_language::model::{Value, decode_value, to_hex};
use calvex_language::query::{Builtin, Ties};
use calvex_storage::columns::{BuiltinColumn, ColumnKey, FieldType, PageRead, Values};
use std::collections::{BTreeMap, HashMap, HashSet};
use std::hash::BuildHasherDefault;
use xxhash_rust::xxh3::xxh3_64;

/// Least distinct values that a field must share with a tie to be proposed, and least share of its own.
const SHARED: usize = 5;
const SHARE: f64 = 0.1;
/// Values of one tie that are remembered.
const MAX_VALUES: usize = 500_000;

/// A field that seems to be a tie.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[cfg_attr(feature = "schema", schemars(rename = "TieProposal"))]
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

type Hashes = HashSet<u64, BuildHasherDefault<calvex_storage::chunk::IdentityHasher>>;

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
                ColumnKey::Builtin(BuiltinColumn::Trace) => {
                    let Some(column) = page.column(index)? else { continue };
                    let known = self.known.entry(Builtin::Trace.name().to_owned()).or_default();
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
                    for value in dictionary.iter().filter_map(decode_value) {
                        if let Value::List(list) = value {
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
    use calvex_language::model::{Event, Path};
    use calvex_language::query::Tie;
    use calvex_storage::columns::build_page;

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
        let reported: Vec<_> =
            proposer.proposals().into_iter().map(|p| (p.tie, p.spelling, p.shared, p.distinct, p.example)).collect();
        let s = |t: &str| t.to_owned();
        assert_eq!(
            reported,
            [(s("trace"), s("chain"), 20, 20, to_hex(&[0; 16])), (s("parcel"), s("ref"), 20, 40, s("PX-0"))]
        );
    }
}
