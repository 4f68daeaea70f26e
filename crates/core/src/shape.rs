//! Step 5, shape: what is done to an event on purpose before it is kept. So far: the fixed fields of the key.

use crate::event::{Event, Path, Value};

/// Where a sent value that a stamp displaced is kept, so that the change can be seen.
const DISPLACED: &str = "displaced";

/// Stamps the key's fixed fields. The key speaks for the operator, so it wins over what was sent; a differing sent
/// value is kept under `displaced`.
pub fn stamp(event: &mut Event, fixed: &[(String, Value)]) {
    for (name, value) in fixed {
        let path = Path::root(name);
        if let Some(slot) = event.fields.iter_mut().find(|(p, _)| *p == path) {
            if slot.1 != *value {
                let sent = std::mem::replace(&mut slot.1, value.clone());
                event.fields.push((Path::new([DISPLACED, name]), sent));
            }
        } else {
            event.fields.push((path, value.clone()));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_key_wins_and_the_displaced_value_stays_visible() {
        let text = |t: &str| Value::Text(t.into());
        let mut event = Event { fields: vec![(Path::root("env"), text("dev"))], ..Event::default() };
        stamp(&mut event, &[("env".into(), text("night")), ("region".into(), text("north"))]);
        let expected = vec![
            (Path::root("env"), text("night")),
            (Path::new(["displaced", "env"]), text("dev")),
            (Path::root("region"), text("north")),
        ];
        assert_eq!(event.fields, expected);
    }
}
