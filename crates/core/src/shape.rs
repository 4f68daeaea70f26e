//! Step 5, shape: what is done to an event on purpose before it is kept. So far: the fixed fields of the key.

use crate::event::{Draft, Leaf, PathTable, Value};

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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::Path;

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
