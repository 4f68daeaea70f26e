//! Fields that are as absent: a name hides the field, everything below it, and the same in the objects of lists.

use super::{SentName, Ties};
use crate::model::layout::{ENTRY_END, PATH_START};
use crate::model::{Event, Path, Value};
use std::borrow::Cow;

/// Hidden fields.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash)]
pub struct HiddenFields {
    names: Vec<SentName>,
}

impl HiddenFields {
    /// From dotted names; the name of a tie hides each of its spellings.
    pub fn new<'a>(names: impl IntoIterator<Item = &'a str>, ties: &Ties) -> Self {
        let tied = |name: &str| {
            let mut name = SentName::from(name);
            name.tie_up(ties);
            name
        };
        HiddenFields::of(names.into_iter().map(tied).collect())
    }

    /// One form for what hides the same.
    fn of(mut names: Vec<SentName>) -> Self {
        names.sort_by(|a, b| a.as_str().cmp(b.as_str()));
        names.dedup();
        let all = names.clone();
        names.retain(|name| !all.iter().any(|other| other != name && other.covers(name.as_str())));
        HiddenFields { names }
    }

    /// Whether nothing is hidden.
    pub fn is_empty(&self) -> bool {
        self.names.is_empty()
    }

    /// The names as they were given.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.names.iter().map(SentName::as_str)
    }

    /// What both hide.
    pub fn both(&self, other: &Self) -> Self {
        let within = |name: &&SentName, of: &Self| of.hides(name.as_str()) || of.names.contains(name);
        let mut names: Vec<SentName> = self.names.iter().filter(|name| within(name, other)).cloned().collect();
        names.extend(other.names.iter().filter(|name| within(name, self) && !self.names.contains(name)).cloned());
        HiddenFields::of(names)
    }

    /// What either hides.
    pub fn either(&self, other: &Self) -> Self {
        let more = other.names.iter().filter(|name| !self.names.contains(name));
        HiddenFields::of(self.names.iter().chain(more).cloned().collect())
    }

    /// Whether the field at the dotted path is hidden.
    pub fn hides(&self, dotted: &str) -> bool {
        // A tie covers its spellings alone, and what lies below one is hidden with it.
        let above = dotted.match_indices('.').filter_map(|(at, _)| dotted.get(..at)).chain([dotted]);
        self.names.iter().any(|name| above.clone().any(|dotted| name.covers(dotted)))
    }

    /// Whether a field below the dotted path may be hidden, though this one is not.
    pub fn reaches_below(&self, dotted: &str) -> bool {
        // Where the spellings of a tie stand is not known.
        self.names.iter().any(|name| name.is_tie() || super::matching::at_or_below(name.as_str(), dotted))
    }

    /// What is left of the value of the field at the dotted path.
    pub fn without(&self, dotted: &str, value: Value) -> Option<Value> {
        if self.hides(dotted) {
            return None;
        }
        if !self.reaches_below(dotted) {
            return Some(value);
        }
        Some(match value {
            // The places of a list have no names of their own.
            Value::List(list) => Value::List(list.into_iter().filter_map(|v| self.without(dotted, v)).collect()),
            Value::Object(fields) => {
                let left = |(name, value): (String, Value)| {
                    let value = self.without(&format!("{dotted}.{name}"), value)?;
                    Some((name, value))
                };
                Value::Object(fields.into_iter().filter_map(left).collect())
            }
            other => other,
        })
    }

    /// What is left of an object whose names are stored paths; nothing where no field is.
    pub fn without_overflowing(&self, fields: Value) -> Option<Value> {
        let Value::Object(fields) = fields else { return None };
        let left = |(path, value): (String, Value)| {
            let value = self.without(&Path::from_stored(&path).dotted(), value)?;
            Some((path, value))
        };
        let left: Vec<(String, Value)> = fields.into_iter().filter_map(left).collect();
        (!left.is_empty()).then_some(Value::Object(left))
    }

    /// What is left of a layout ([`crate::model::layout`]): where builtins were sent under hidden names, they are not given
    /// back as they were sent.
    pub fn without_laid<'l>(&self, layout: &'l str) -> Cow<'l, str> {
        let shown = |entry: &&str| {
            let path = entry.split_once(PATH_START).map_or("", |(_, path)| path);
            !self.hides(&Path::from_stored(path).dotted())
        };
        if layout.split(ENTRY_END).all(|entry| shown(&entry)) {
            return Cow::Borrowed(layout);
        }
        Cow::Owned(layout.split(ENTRY_END).filter(shown).collect::<Vec<_>>().join("\u{1e}"))
    }

    /// Takes them out of an event.
    pub fn strip(&self, event: &mut Event) {
        if self.is_empty() {
            return;
        }
        if let Cow::Owned(layout) = self.without_laid(&event.layout) {
            event.layout = layout;
        }
        let fields = std::mem::take(&mut event.fields);
        let left = |(path, value): (Path, Value)| {
            let value = self.without(&path.dotted(), value)?;
            Some((path, value))
        };
        event.fields = fields.into_iter().filter_map(left).collect();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn hidden(names: &[&str]) -> HiddenFields {
        HiddenFields::new(names.iter().copied(), &Ties::default())
    }

    #[test]
    fn a_name_hides_what_lies_below_it_and_in_lists() {
        let fields = hidden(&["recipient.phone", "parcels.weight"]);
        assert!(fields.hides("recipient.phone") && fields.hides("recipient.phone.mobile"));
        assert!(!fields.hides("recipient") && !fields.hides("recipient.phones"));
        let parcel = |weight| {
            let weight: Option<(String, Value)> = weight;
            let mut parcel = vec![("id".to_owned(), Value::Int(1))];
            parcel.extend(weight);
            Value::Object(parcel)
        };
        let list = Value::List(vec![parcel(Some(("weight".into(), Value::Int(3)))), parcel(None)]);
        let left = Value::List(vec![parcel(None), parcel(None)]);
        assert_eq!(fields.without("parcels", list), Some(left));
        let layout = "h=\u{1d}host\u{1e}m=\u{1d}recipient.phone".to_owned();
        let mut event = Event { layout, ..Event::default() };
        event.fields.push((Path::new(["recipient", "phone"]), Value::Int(1)));
        event.fields.push((Path::new(["recipient", "name"]), Value::Int(2)));
        fields.strip(&mut event);
        assert_eq!((event.fields.len(), event.layout.as_str()), (1, "h=\u{1d}host"));
    }

    #[test]
    fn a_tie_hides_each_spelling_and_what_lies_below() {
        let ties = Ties::new([super::super::Tie::new("phone", &["recipient.phone".into()])]);
        let fields = HiddenFields::new(["phone"], &ties);
        assert!(fields.hides("phone") && fields.hides("recipient.phone") && fields.hides("recipient.phone.mobile"));
        assert!(!fields.hides("recipient") && fields.reaches_below("recipient"));
    }

    #[test]
    fn both_hide_what_either_shows_nowhere() {
        let both = hidden(&["a.b", "c"]).both(&hidden(&["a", "d"]));
        assert!(both.hides("a.b") && !both.hides("a") && !both.hides("c") && !both.hides("d"));
        assert_eq!(hidden(&["b", "a", "a.c"]), hidden(&["a", "b"]));
        assert_eq!(hidden(&["a"]).both(&hidden(&["a"])), hidden(&["a"]));
        assert!(hidden(&["a"]).both(&HiddenFields::default()).is_empty());
        assert_eq!(hidden(&["a", "b"]).either(&hidden(&["b", "c"])), hidden(&["a", "b", "c"]));
    }
}
