//! The elements of an array, found without reading them.

/// The first `most` elements of the JSON array that is the whole of `bytes`, and how many it has. Whether each element is
/// JSON, or text at all, is for its reader to decide.
///
/// # Errors
/// The byte at which brackets and quotes do not close, or behind which more follows.
pub fn elements(bytes: &[u8], most: usize) -> Result<(Vec<&[u8]>, usize), usize> {
    let (mut out, mut count, mut depth, mut from, mut at) = (Vec::new(), 0, 0usize, 1, 1);
    let mut keep = |element, count: &mut usize| {
        *count += 1;
        if *count <= most {
            out.push(element);
        }
    };
    if bytes.first() != Some(&b'[') {
        return Err(0);
    }
    let element = |from: usize, at: usize| bytes.get(from..at).unwrap_or_default().trim_ascii();
    while let Some(byte) = bytes.get(at) {
        match byte {
            b'"' => at = end_of_string(bytes, at + 1).ok_or(at)?,
            b'[' | b'{' => depth += 1,
            b']' if depth == 0 => {
                let last = element(from, at);
                // Between a comma and the end there must be something; the reader reports that there is not.
                if !last.is_empty() || count > 0 {
                    keep(last, &mut count);
                }
                return if at + 1 == bytes.len() { Ok((out, count)) } else { Err(at + 1) };
            }
            b']' | b'}' => depth = depth.checked_sub(1).ok_or(at)?,
            b',' if depth == 0 => {
                keep(element(from, at), &mut count);
                from = at + 1;
            }
            _ => {}
        }
        at += 1;
    }
    Err(bytes.len())
}

/// The place of the quote that ends the string which goes on at `at`.
fn end_of_string(bytes: &[u8], mut at: usize) -> Option<usize> {
    loop {
        at += memchr::memchr2(b'"', b'\\', bytes.get(at..)?)?;
        if bytes.get(at) == Some(&b'"') {
            return Some(at);
        }
        at += 2;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn as_a_library_reads_it(list in prop::collection::vec(prop_oneof![
            Just(serde_json::json!({"a": "] , \" [", "b": [1, {"c": []}]})), any::<i64>().prop_map(Into::into),
            ".{0,8}".prop_map(Into::into),
        ], 0..6)) {
            let text = serde_json::to_string(&list).unwrap();
            let read: Vec<serde_json::Value> =
                elements(text.as_bytes(), 100).unwrap().0.into_iter().map(|e| serde_json::from_slice(e).unwrap()).collect();
            let (first, count) = elements(text.as_bytes(), 2).unwrap();
            prop_assert_eq!((first.len(), count), (list.len().min(2), list.len()));
            prop_assert_eq!(read, list);
        }

        #[test]
        fn a_broken_one_says_where(cut in 1usize..12) {
            let whole = r#"[{"a":1},"x]"#;
            let cut = cut.min(whole.len());
            prop_assert!(elements(&whole.as_bytes()[..cut], 9).is_err_and(|at| at <= cut));
        }

        #[test]
        fn any_text_is_answered(text in "[\\[\\]{},\"\\\\ a1é]{0,30}") {
            let _ = elements(text.as_bytes(), 3);
        }
    }
}
