//! The fixed fields of a key, and fields that rules stamp.

use calvex_language::model::{Draft, Event, Leaf, Path, PathTable, Value};

/// Where a sent value that a stamp displaced is kept, so that the change can be seen.
const DISPLACED: &str = "displaced";

/// Stamps the key's fixed fields. The key speaks for the operator, so it wins over what was sent; a differing sent
/// value is kept under `displaced`.
pub fn stamp<'a>(draft: &mut Draft<'a>, paths: &mut PathTable, fixed: &'a [(String, Value)]) {
    for (name, value) in fixed {
        let path = paths.child(None, name);
        let leaf = Leaf::of(value);
        if let Some(slot) = draft.fields.iter_mut().find(|(p, _)| *p == path) {
            if slot.1 != leaf {
                let sent = std::mem::replace(&mut slot.1, leaf);
                let displaced = paths.child(None, DISPLACED);
                draft.fields.push((paths.child(Some(displaced), name), sent));
            }
        } else {
            draft.fields.push((path, leaf));
        }
    }
}

/// Stamps one field of an event by the same rule; true where that changed it.
pub(crate) fn stamp_event(event: &mut Event, path: &Path, value: &Value) -> bool {
    match event.fields.iter_mut().find(|(p, _)| p == path) {
        Some((_, sent)) if sent == value => false,
        Some((_, sent)) => {
            let sent = std::mem::replace(sent, value.clone());
            let displaced = path.segments().fold(Path::root(DISPLACED), |at, segment| at.child(&segment));
            event.fields.retain(|(p, _)| *p != displaced);
            event.fields.push((displaced, sent));
            true
        }
        None => {
            event.fields.push((path.clone(), value.clone()));
            true
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::model::Path;

    #[test]
    fn the_key_wins_and_the_displaced_value_stays_visible() {
        let text = |t: &str| Value::Text(t.into());
        let mut paths = PathTable::default();
        let sent = text("dev");
        let fields = vec![(paths.child(None, "env"), Leaf::of(&sent))];
        let mut draft = Draft { fields, ..Draft::default() };
        let fixed = [("env".into(), text("night")), ("region".into(), text("north"))];
        stamp(&mut draft, &mut paths, &fixed);
        let event = draft.into_event(&paths);
        let expected = vec![
            (Path::root("env"), text("night")),
            (Path::new(["displaced", "env"]), text("dev")),
            (Path::root("region"), text("north")),
        ];
        assert_eq!(event.fields, expected);
    }
}
