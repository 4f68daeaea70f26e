//! Lists of texts as bytes: what dictionaries and the variables of messages are written as.
//!
//! ```text
//! list      := 0 lengths:ints bytes                                  plain
//!            | 1 patterned
//!            | 2 templates:list  codes:ints  variables (see streams)
//! patterned := patterns:varint pattern*  [which:ints where there are several]  values of each pattern
//! pattern   := 0                                                     any text
//!            | 1 prefix suffix width:u8                              a number between two texts
//!            | 2 upper:u8 groups:varint length:u8*                   hexadecimal groups joined by `-`
//! values    := any text:   0 list (plain) | 1 distinct:list (plain) codes:ints       after a count
//!            | number:     ints, each written with at least `width` digits
//!            | hexadecimal: two digits a byte, values one behind another
//! text      := length:varint bytes
//! ```
//!
//! How many texts there are stands before the list: `count:varint`.

mod letters;
mod read;
mod standing;

pub use letters::Letters;
pub(super) use read::{count_of, decode, letters, open, passing, skip};
pub use standing::Sought;
pub(super) use standing::candidates;

use super::dictionary::Interner;
use super::{ints, streams};
use calvex_language::model::put_varint;
use hashbrown::HashMap;

/// Texts of one list at most, and their bytes together.
const MAX_COUNT: usize = 1 << 22;
const MAX_BYTES: usize = 64 << 20;
/// Different patterns of one list at most; what fits none of them is any text.
const MAX_PATTERNS: usize = 64;
/// Longest text around a number.
const MAX_AFFIX: usize = 24;
/// Fewest digits of a hexadecimal pattern.
const MIN_HEX: usize = 8;

/// Texts joined, with the end of each.
#[derive(Debug, Clone, PartialEq, Default)]
pub(super) struct List {
    pub joined: String,
    pub ends: Vec<u32>,
}

impl List {
    pub fn get(&self, n: usize) -> &str {
        let start = if n == 0 { 0 } else { self.ends.get(n - 1).copied().unwrap_or(0) };
        self.joined.get(start as usize..self.ends.get(n).copied().unwrap_or(0) as usize).unwrap_or("")
    }

    fn push(&mut self, text: &str) -> Option<()> {
        self.joined.push_str(text);
        self.ends.push(u32::try_from(self.joined.len()).ok().filter(|n| *n as usize <= MAX_BYTES)?);
        Some(())
    }
}

/// How much work an encoding may be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Effort {
    /// For the journal: written by the hundred thousand a second, read back once at most.
    Light,
    /// For chunks: written once, kept and read often.
    Full,
    /// As full, for texts that were cut from templates: they are not cut once more.
    Cut,
}

#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
enum Pattern<'a> {
    Any,
    Number { prefix: &'a str, suffix: &'a str, width: usize },
    Hex { upper: bool, form: &'a str },
}

/// The pattern of a text by itself, and its number.
fn number_of(text: &str) -> Option<(&str, &str, &str)> {
    let bytes = text.as_bytes();
    let from = bytes.iter().position(u8::is_ascii_digit)?;
    let length = bytes.iter().skip(from).take_while(|b| b.is_ascii_digit()).count();
    let (prefix, digits, suffix) = (&text[..from], &text[from..from + length], &text[from + length..]);
    let one = !suffix.bytes().any(|b| b.is_ascii_digit());
    (one && length <= 18 && prefix.len() <= MAX_AFFIX && suffix.len() <= MAX_AFFIX).then_some((prefix, digits, suffix))
}

fn is_hex(text: &str) -> Option<bool> {
    let digits = text.bytes().filter(|b| *b != b'-').count();
    if digits < MIN_HEX || !digits.is_multiple_of(2) || text.len() > 255 {
        return None;
    }
    let lower = text.bytes().all(|b| matches!(b, b'0'..=b'9' | b'a'..=b'f' | b'-'));
    let upper = !lower && text.bytes().all(|b| matches!(b, b'0'..=b'9' | b'A'..=b'F' | b'-'));
    (lower || upper).then_some(upper)
}

/// Appends `list`, its count before it.
pub(super) fn encode(list: &[&str], effort: Effort, out: &mut Vec<u8>) {
    put_varint(out, list.len() as u64);
    if effort == Effort::Light {
        return encode_plain(list, out);
    }
    let patterns = patterns_of(list);
    let any = patterns.iter().filter(|(p, _)| *p == Pattern::Any).count();
    if any * 8 <= list.len() {
        out.push(1);
        return encode_patterned(list, &patterns, out);
    }
    if effort == Effort::Full
        && list.len() >= 16
        && let Some(bytes) = encode_templated(list)
    {
        out.push(2);
        return out.extend_from_slice(&bytes);
    }
    if any == list.len() {
        return encode_plain(list, out);
    }
    out.push(1);
    encode_patterned(list, &patterns, out);
}

fn encode_plain(list: &[&str], out: &mut Vec<u8>) {
    out.push(0);
    ints::encode(&list.iter().map(|t| t.len() as i64).collect::<Vec<_>>(), out);
    list.iter().for_each(|t| out.extend_from_slice(t.as_bytes()));
}

/// As templates and variables, where few templates serve many texts.
fn encode_templated(list: &[&str]) -> Option<Vec<u8>> {
    let mut templates = Interner::<String>::default();
    let mut codes = Vec::with_capacity(list.len());
    let mut variables = Vec::new();
    let mut template = String::new();
    for text in list {
        template.clear();
        calvex_language::model::template::split(text, &mut template, |v| variables.push(v));
        codes.push(templates.code(&template));
        if templates.len() > 16 + list.len() / 8 {
            return None;
        }
    }
    let mut out = Vec::new();
    let texts: Vec<&str> = templates.dictionary.iter().collect();
    put_varint(&mut out, texts.len() as u64);
    encode_plain(&texts, &mut out);
    ints::encode(&codes.iter().map(|c| i64::from(*c)).collect::<Vec<_>>(), &mut out);
    streams::pack(&templates.dictionary, &codes, variables.into_iter(), Effort::Full, &mut out);
    Some(out)
}

/// The pattern of each text, chosen with the others in view: `PX-12345` goes with `PX-00017`. Beside it, where that is a
/// number between two texts, the number.
fn patterns_of<'a>(list: &[&'a str]) -> Vec<(Pattern<'a>, i64)> {
    let mut padded: HashMap<(&str, &str), usize> = HashMap::new();
    for text in list {
        if let Some((prefix, digits, suffix)) = number_of(text)
            && digits.len() > 1
            && digits.starts_with('0')
        {
            padded.entry((prefix, suffix)).or_insert(digits.len());
        }
    }
    let mut known: Vec<Pattern> = Vec::new();
    let mut admit = |pattern: Pattern<'a>| {
        let same = |p: &&Pattern<'a>| match (p, &pattern) {
            (Pattern::Hex { upper: a, form: f }, Pattern::Hex { upper: b, form: g }) => a == b && same_form(f, g),
            (p, q) => *p == q,
        };
        if let Some(found) = known.iter().rev().find(same) {
            return *found;
        }
        if known.len() >= MAX_PATTERNS {
            return Pattern::Any;
        }
        known.push(pattern);
        pattern
    };
    let mut last: Option<Pattern> = None;
    list.iter()
        .map(|text| {
            let mut number = 0;
            let pattern = match number_of(text) {
                Some((prefix, digits, suffix)) => {
                    number = digits.bytes().fold(0, |n, digit| n * 10 + i64::from(digit - b'0'));
                    let zero = digits.len() > 1 && digits.starts_with('0');
                    let width = padded.get(&(prefix, suffix)).copied().unwrap_or(0);
                    match (zero, width) {
                        (true, width) if width != digits.len() => Pattern::Any,
                        (_, width) if width <= digits.len() => Pattern::Number { prefix, suffix, width },
                        _ => Pattern::Number { prefix, suffix, width: 0 },
                    }
                }
                None => is_hex(text).map_or(Pattern::Any, |upper| Pattern::Hex { upper, form: text }),
            };
            if pattern == Pattern::Any || Some(pattern) == last {
                return (pattern, number);
            }
            let admitted = admit(pattern);
            last = Some(admitted);
            (admitted, number)
        })
        .collect()
}

/// Whether two hexadecimal texts have their groups alike.
fn same_form(a: &str, b: &str) -> bool {
    a.len() == b.len() && a.bytes().zip(b.bytes()).all(|(a, b)| (a == b'-') == (b == b'-'))
}

fn put_text(text: &str, out: &mut Vec<u8>) {
    put_varint(out, text.len() as u64);
    out.extend_from_slice(text.as_bytes());
}

fn encode_patterned(list: &[&str], patterns: &[(Pattern, i64)], out: &mut Vec<u8>) {
    let mut codes: HashMap<Pattern, i64> = HashMap::new();
    let mut distinct: Vec<Pattern> = Vec::new();
    // Neighbours are mostly of one pattern, which need not be looked up.
    let mut last: Option<(Pattern, i64)> = None;
    let which: Vec<i64> = patterns
        .iter()
        .map(|(p, _)| match last {
            Some((same, code)) if same == *p => code,
            _ => {
                let code = *codes.entry(*p).or_insert_with(|| {
                    distinct.push(*p);
                    distinct.len() as i64 - 1
                });
                last = Some((*p, code));
                code
            }
        })
        .collect();
    put_varint(out, distinct.len() as u64);
    for pattern in &distinct {
        match pattern {
            Pattern::Any => out.push(0),
            Pattern::Number { prefix, suffix, width } => {
                out.push(1);
                put_text(prefix, out);
                put_text(suffix, out);
                out.push(*width as u8);
            }
            Pattern::Hex { upper, form } => {
                out.extend_from_slice(&[2, u8::from(*upper)]);
                let groups: Vec<u8> = form.split('-').map(|g| g.len() as u8).collect();
                put_varint(out, groups.len() as u64);
                out.extend_from_slice(&groups);
            }
        }
    }
    if distinct.len() > 1 {
        ints::encode(&which, out);
    }
    let mut members: Vec<Vec<(&str, i64)>> = vec![Vec::new(); distinct.len()];
    for ((text, (_, number)), code) in list.iter().zip(patterns).zip(which) {
        if let Some(members) = members.get_mut(code as usize) {
            members.push((text, *number));
        }
    }
    for (pattern, members) in distinct.iter().zip(members) {
        let texts = || members.iter().map(|(text, _)| *text);
        match pattern {
            Pattern::Any => encode_any(&texts().collect::<Vec<_>>(), out),
            Pattern::Number { .. } => ints::encode(&members.iter().map(|(_, n)| *n).collect::<Vec<_>>(), out),
            Pattern::Hex { .. } => {
                let nibble = |b: u8| (b as char).to_digit(16).unwrap_or(0) as u8;
                let digits: Vec<u8> = texts().flat_map(|t| t.bytes()).filter(|b| *b != b'-').map(nibble).collect();
                out.extend(digits.as_chunks::<2>().0.iter().map(|[high, low]| high << 4 | low));
            }
        }
    }
}

fn encode_any(list: &[&str], out: &mut Vec<u8>) {
    let mut interner = Interner::<String>::default();
    let codes: Vec<i64> = list.iter().map(|t| i64::from(interner.code(t))).collect();
    if interner.len() * 2 > list.len() {
        out.push(0);
        return encode_plain(list, out);
    }
    out.push(1);
    put_varint(out, interner.len() as u64);
    encode_plain(&interner.dictionary.iter().collect::<Vec<_>>(), out);
    ints::encode(&codes, out);
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn size(list: &[&str], effort: Effort) -> usize {
        let mut out = Vec::new();
        encode(list, effort, &mut out);
        let mut at = 0;
        let back = decode(&out, &mut at, list.len()).unwrap();
        assert_eq!(at, out.len());
        assert_eq!((0..list.len()).map(|n| back.get(n)).collect::<Vec<_>>(), list);
        assert_eq!(back.ends.len(), list.len());
        out.len()
    }

    #[test]
    fn patterns_pack_ids_and_numbers() {
        let owned: Vec<String> = (0..1000).map(|n| format!("PX-{:05}", n * 7919 % 90_000)).collect();
        let parcels: Vec<&str> = owned.iter().map(String::as_str).collect();
        assert!(size(&parcels, Effort::Full) < 1000 * 18 / 8, "17 bits a parcel");
        let owned: Vec<String> =
            (0..500u128).map(|n| format!("{:032x}", n * 0x1234_5678_9abc_def0_1357_9bdf)).collect();
        let traces: Vec<&str> = owned.iter().map(String::as_str).collect();
        assert!(size(&traces, Effort::Full) < 500 * 17, "two digits a byte");
        let owned: Vec<String> = (0..500).map(|n| format!("/parcels/{n}/doors/{}/open", n % 36)).collect();
        let routes: Vec<&str> = owned.iter().map(String::as_str).collect();
        assert!(size(&routes, Effort::Full) < 500 * 4, "one template: {}", size(&routes, Effort::Full));
    }

    proptest! {
        /// What is passed over holds no such word, and what follows it is found where it would be.
        #[test]
        fn only_lists_without_the_letters_are_passed_over(
            list in prop::collection::vec(
                prop_oneof!["[A-Z]{0,2}-?[0-9]{1,9}[a-z]{0,2}", "[0-9a-f]{8}", "[0-9A-F]{8}-[0-9A-F]{4}", "(K|İ)?[0-9]{2}"], 1..60,
            ),
            word in "[a-z]{1,3}[0-9]?|[a-zé]{1,2}",
        ) {
            let list: Vec<&str> = list.iter().map(String::as_str).collect();
            let mut bytes = Vec::new();
            encode(&list, Effort::Cut, &mut bytes);
            let mut at = 0;
            let held = letters(&bytes, &mut at, list.len()).unwrap();
            prop_assert_eq!(at, bytes.len());
            let stands = list.iter().any(|t| t.to_lowercase().contains(word.as_str()));
            prop_assert!(held.may_hold(Letters::of(&word)) || !stands, "{:?} in {:?}", word, list);
        }

        /// The texts in which a word stands, whatever they are kept as.
        #[test]
        fn a_word_is_found_in_what_is_kept(
            list in prop::collection::vec(
                prop_oneof!["[A-Z]{0,2}-?[0-9]{1,9}[a-z]{0,2}", "[0-9a-f]{8}", "[0-9A-F]{8}-[0-9A-F]{4}", "(K|İ)?[0-9]{2}", "a [a-z]{2}", "[ab]"], 1..60,
            ),
            word in "[a-z]{1,3}[0-9]?|[a-zé]{1,2}|[0-9]{1,3}", is_beginning: bool, is_full: bool,
        ) {
            let list: Vec<&str> = list.iter().map(String::as_str).collect();
            let (mut bytes, sought) = (Vec::new(), Sought::new(&word, is_beginning));
            encode(&list, if is_full { Effort::Full } else { Effort::Cut }, &mut bytes);
            let mut at = 0;
            let found = passing(&bytes, &mut at, list.len(), sought).unwrap();
            prop_assert_eq!(at, bytes.len());
            let plain: Vec<bool> = list.iter().map(|text| sought.stands_in(text)).collect();
            prop_assert_eq!(found.is_some(), plain.contains(&true), "{:?} in {:?}", word, list);
            prop_assert_eq!(found.unwrap_or(vec![false; list.len()]), plain);
        }

        #[test]
        fn round_trip(list in prop::collection::vec(
            prop_oneof!["[A-Z]{0,2}-?[0-9]{0,20}[a-z]{0,2}", "[0-9a-f]{8,12}(-[0-9a-f]{4}){0,2}", "[0-9A-F]{8}", ".{0,12}", "00?0?1", "door [0-9]{1,2} é"],
            0..80,
        )) {
            let list: Vec<&str> = list.iter().map(String::as_str).collect();
            size(&list, Effort::Full);
            size(&list, Effort::Light);
        }

        #[test]
        fn any_bytes_are_answered(bytes in any::<Vec<u8>>()) {
            let _ = decode(&bytes, &mut 0, 9000);
            let _ = letters(&bytes, &mut 0, 9000);
            for word in ["door", "12"] {
                let _ = passing(&bytes, &mut 0, 9000, Sought::new(&word.into(), true));
            }
        }
    }
}
