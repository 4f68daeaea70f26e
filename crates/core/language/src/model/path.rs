//! A field's path: segments with their boundaries kept, found by the dotted form.

/// Stands between the segments in the stored form (ASCII unit separator).
const BOUNDARY: char = '\u{1f}';
/// Opens an escape in the stored form, so that any name can be a segment.
const ESCAPE: char = '\u{1b}';

/// A path as stored: segments joined by U+001F. `{"a.b":1}` and `{"a":{"b":1}}` differ here and agree in [`Path::dotted`].
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Default)]
pub struct Path(String);

impl Path {
    /// From the segments, outermost first.
    pub fn new<'a>(segments: impl IntoIterator<Item = &'a str>) -> Self {
        segments
            .into_iter()
            .fold(None, |path: Option<Path>, s| Some(path.map_or_else(|| Path::root(s), |p| p.child(s))))
            .unwrap_or_default()
    }

    /// A path of one segment.
    pub fn root(segment: &str) -> Self {
        let mut path = String::with_capacity(segment.len());
        push_segment(&mut path, segment);
        Path(path)
    }

    /// This path and one segment more.
    pub fn child(&self, segment: &str) -> Self {
        let mut path = String::with_capacity(self.0.len() + 1 + segment.len());
        path.push_str(&self.0);
        path.push(BOUNDARY);
        push_segment(&mut path, segment);
        Path(path)
    }

    /// From the stored form.
    pub fn from_stored(stored: &str) -> Self {
        Path(stored.to_owned())
    }

    /// The stored form.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The segments as sent.
    pub fn segments(&self) -> impl Iterator<Item = String> + '_ {
        self.0.split(BOUNDARY).map(|s| {
            if s.contains(ESCAPE) { s.replace("\u{1b}1", "\u{1f}").replace("\u{1b}0", "\u{1b}") } else { s.to_owned() }
        })
    }

    /// The form in which people and the query language write it.
    pub fn dotted(&self) -> String {
        if self.0.contains([BOUNDARY, ESCAPE]) { self.segments().collect::<Vec<_>>().join(".") } else { self.0.clone() }
    }

    /// Whether the dotted form equals `dotted`, without building it in the usual case.
    pub fn is(&self, dotted: &str) -> bool {
        if self.0.contains(ESCAPE) {
            return self.dotted() == dotted;
        }
        self.0.len() == dotted.len()
            && self.0.bytes().zip(dotted.bytes()).all(|(a, b)| a == b || (a == BOUNDARY as u8 && b == b'.'))
    }
}

fn push_segment(path: &mut String, segment: &str) {
    for c in segment.chars() {
        match c {
            ESCAPE => path.push_str("\u{1b}0"),
            BOUNDARY => path.push_str("\u{1b}1"),
            c => path.push(c),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn boundaries_are_kept_and_dotted_forms_agree() {
        let nested = Path::new(["slot", "bank"]);
        let flat = Path::new(["slot.bank"]);
        assert_ne!(nested, flat);
        assert_eq!(nested.dotted(), flat.dotted());
        assert!(nested.is("slot.bank") && flat.is("slot.bank") && !nested.is("slot.ban"));
    }

    #[test]
    fn any_name_survives() {
        for segments in [vec!["a\u{1f}b", "\u{1b}"], vec!["", ""], vec!["\u{1b}1", "x"], vec![""]] {
            let path = Path::new(segments.iter().copied());
            assert_eq!(Path::from_stored(path.as_str()).segments().collect::<Vec<_>>(), segments);
        }
    }
}
