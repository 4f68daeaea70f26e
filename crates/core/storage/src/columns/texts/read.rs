//! Lists of texts from their bytes, whole, or passed over where what is looked for cannot stand in them.

use super::letters::Letters;
use super::standing::Sought;
use super::{List, MAX_AFFIX, MAX_COUNT, MAX_PATTERNS};
use crate::columns::{Texts, ints, streams};
use calvex_language::model::take_varint;

/// Reads what [`encode`](super::encode) wrote, at most `max` texts, and moves `at` behind it.
pub(in crate::columns) fn decode(bytes: &[u8], at: &mut usize, max: usize) -> Option<List> {
    open(bytes, at, max)?.write(|_| true)
}

/// A list that was read and is not written out: each text costs its writing, and few may be wanted.
pub(in crate::columns) struct Unwritten<'a>(Kind<'a>);

enum Kind<'a> {
    Written(List),
    Patterned { patterns: Vec<Read<'a>>, which: Vec<i64> },
}

/// As [`decode`], without the texts.
pub(in crate::columns) fn open<'a>(bytes: &'a [u8], at: &mut usize, max: usize) -> Option<Unwritten<'a>> {
    let count = count_of(bytes, at).filter(|n| *n <= max)?;
    Some(Unwritten(match take_byte(bytes, at)? {
        0 => Kind::Written(decode_plain(bytes, at, count)?),
        1 => {
            let (patterns, which) = open_patterned(bytes, at, count)?;
            Kind::Patterned { patterns, which }
        }
        2 => Kind::Written(decode_templated(bytes, at, count)?),
        _ => return None,
    }))
}

impl Unwritten<'_> {
    /// How many texts.
    pub fn len(&self) -> usize {
        match &self.0 {
            Kind::Written(list) => list.ends.len(),
            Kind::Patterned { which, .. } => which.len(),
        }
    }

    /// The list; a text that is not wanted may be empty in it.
    pub fn write(self, wanted: impl Fn(usize) -> bool) -> Option<List> {
        let (patterns, which) = match self.0 {
            Kind::Written(list) => return Some(list),
            Kind::Patterned { patterns, which } => (patterns, which),
        };
        let mut cursors = vec![0usize; patterns.len()];
        let mut list = List::default();
        list.ends.reserve(which.len());
        for (text, w) in which.into_iter().enumerate() {
            let w = usize::try_from(w).ok()?;
            let n = cursors.get_mut(w)?;
            if wanted(text) {
                write_value(patterns.get(w)?, *n, &mut list)?;
            } else {
                list.push("")?;
            }
            *n += 1;
        }
        Some(list)
    }

    /// The texts of these ordinals alone, which ascend.
    pub fn pick(&self, ordinals: &[usize]) -> Option<List> {
        let mut picked = List::default();
        let (patterns, which) = match &self.0 {
            Kind::Written(list) => {
                let held = |n: &&usize| **n < list.ends.len();
                ordinals.iter().take_while(held).try_for_each(|n| picked.push(list.get(*n)))?;
                return (picked.ends.len() == ordinals.len()).then_some(picked);
            }
            Kind::Patterned { patterns, which } => (patterns, which),
        };
        let mut cursors = vec![0usize; patterns.len()];
        let mut from = 0;
        for ordinal in ordinals {
            for w in which.get(from..*ordinal)? {
                *cursors.get_mut(usize::try_from(*w).ok()?)? += 1;
            }
            let w = usize::try_from(*which.get(*ordinal)?).ok()?;
            let n = cursors.get_mut(w)?;
            write_value(patterns.get(w)?, *n, &mut picked)?;
            *n += 1;
            from = ordinal + 1;
        }
        Some(picked)
    }
}

/// Moves `at` behind a list of at most `max` texts, of which as little is unpacked as will do.
pub(in crate::columns) fn skip(bytes: &[u8], at: &mut usize, max: usize) -> Option<()> {
    let count = count_of(bytes, at).filter(|n| *n <= max)?;
    match take_byte(bytes, at)? {
        0 => skip_plain(bytes, at, count),
        1 => {
            let patterns = take_patterns(bytes, at)?;
            let (_, counts) = take_which(bytes, at, patterns.len(), count)?;
            patterns.iter().zip(counts).try_for_each(|(pattern, count)| match pattern {
                Read::Any(_) => skip_any(bytes, at, count),
                Read::Number { .. } => ints::skip(bytes, at, count),
                Read::Hex { groups, .. } => take_hex(bytes, at, groups, count).map(drop),
            })
        }
        2 => decode_templated(bytes, at, count).map(drop),
        _ => None,
    }
}

fn skip_plain(bytes: &[u8], at: &mut usize, count: usize) -> Option<()> {
    let mut length = 0usize;
    for one in ints::decode(bytes, at, count)? {
        length = length.checked_add(usize::try_from(one).ok()?)?;
    }
    *at = at.checked_add(length).filter(|end| *end <= bytes.len())?;
    Some(())
}

fn skip_any(bytes: &[u8], at: &mut usize, count: usize) -> Option<()> {
    match take_byte(bytes, at)? {
        0 if take_byte(bytes, at)? == 0 => skip_plain(bytes, at, count),
        1 => {
            let distinct = count_of(bytes, at).filter(|n| *n <= count)?;
            if take_byte(bytes, at)? != 0 {
                return None;
            }
            skip_plain(bytes, at, distinct)?;
            ints::skip(bytes, at, count)
        }
        _ => None,
    }
}

fn decode_templated(bytes: &[u8], at: &mut usize, count: usize) -> Option<List> {
    let templates = count_of(bytes, at).filter(|n| *n <= count)?;
    if take_byte(bytes, at)? != 0 {
        return None;
    }
    let templates = decode_plain(bytes, at, templates)?;
    let codes = ints::decode_codes(bytes, at, count, templates.ends.len())?;
    let templates = Texts { joined: templates.joined, ends: templates.ends, ..Texts::default() };
    let variables = streams::unpack_from(bytes, at, &templates, &codes)?;
    let mut list = List::default();
    for (n, code) in codes.iter().enumerate() {
        calvex_language::model::template::join(templates.get(*code as usize), variables.of(n), &mut list.joined);
        list.push("")?;
    }
    Some(list)
}

/// How many texts a list has, which stands before it.
pub(in crate::columns) fn count_of(bytes: &[u8], at: &mut usize) -> Option<usize> {
    usize::try_from(take_varint(bytes, at)?).ok().filter(|n| *n <= MAX_COUNT)
}

fn take_byte(bytes: &[u8], at: &mut usize) -> Option<u8> {
    let byte = *bytes.get(*at)?;
    *at += 1;
    Some(byte)
}

fn take_text<'a>(bytes: &'a [u8], at: &mut usize) -> Option<&'a str> {
    let length = usize::try_from(take_varint(bytes, at)?).ok().filter(|n| *n <= MAX_AFFIX)?;
    let taken = bytes.get(*at..at.checked_add(length)?)?;
    *at += length;
    std::str::from_utf8(taken).ok()
}

fn decode_plain(bytes: &[u8], at: &mut usize, count: usize) -> Option<List> {
    let mut end = 0u64;
    let mut ends = Vec::with_capacity(count.min(bytes.len() * 64));
    for length in ints::decode(bytes, at, count)? {
        end = end.checked_add(u64::try_from(length).ok()?)?;
        ends.push(u32::try_from(end).ok()?);
    }
    let taken = bytes.get(*at..at.checked_add(usize::try_from(end).ok()?)?)?;
    *at += taken.len();
    let joined = String::from_utf8(taken.to_vec()).ok()?;
    ends.iter().all(|e| joined.is_char_boundary(*e as usize)).then_some(List { joined, ends })
}

impl Read<'_> {
    /// The letters that its texts may have: of any text all.
    fn letters(&self) -> Letters {
        match self {
            Read::Any(_) => Letters::ALL,
            Read::Number { prefix, suffix, .. } => Letters::of(prefix).with(Letters::of(suffix)),
            Read::Hex { .. } => Letters::of("abcdef"),
        }
    }
}

/// Passes over a list, and returns the letters of its texts, or more; at most `max` texts.
pub(in crate::columns) fn letters(bytes: &[u8], at: &mut usize, max: usize) -> Option<Letters> {
    let count = count_of(bytes, at).filter(|n| *n <= max)?;
    match take_byte(bytes, at)? {
        0 => Some(Letters::of(&decode_plain(bytes, at, count)?.joined)),
        1 => {
            let patterns = take_patterns(bytes, at)?;
            let (_, counts) = take_which(bytes, at, patterns.len(), count)?;
            let mut all = Letters::NONE;
            for (pattern, count) in patterns.iter().zip(counts) {
                all = all.with(match pattern {
                    Read::Any(_) => Letters::of(&decode_any(bytes, at, count)?.joined),
                    _ => pattern.letters(),
                });
                match pattern {
                    Read::Any(_) => {}
                    Read::Number { .. } => ints::skip(bytes, at, count)?,
                    Read::Hex { groups, .. } => drop(take_hex(bytes, at, groups, count)?),
                }
            }
            Some(all)
        }
        // What templates and variables hold together is not worth taking apart.
        2 => Some(Letters::ALL),
        _ => None,
    }
}

/// In which texts of a list a word stands; `None` within where in none. Moves `at` behind the list, of which as little is
/// unpacked as will do; at most `max` texts.
pub(in crate::columns) fn passing(
    bytes: &[u8],
    at: &mut usize,
    max: usize,
    sought: Sought<'_>,
) -> Option<Option<Vec<bool>>> {
    let count = count_of(bytes, at).filter(|n| *n <= max)?;
    let list = match take_byte(bytes, at)? {
        0 => decode_plain(bytes, at, count)?,
        1 => return passing_patterned(bytes, at, count, sought),
        2 => decode_templated(bytes, at, count)?,
        _ => return None,
    };
    Some(sought.stands_in_each(&list.joined, &list.ends))
}

fn passing_patterned(bytes: &[u8], at: &mut usize, count: usize, sought: Sought<'_>) -> Option<Option<Vec<bool>>> {
    let patterns = take_patterns(bytes, at)?;
    let (which, counts) = take_which(bytes, at, patterns.len(), count)?;
    let letters = Letters::of(sought.word());
    let mut of_patterns = Vec::with_capacity(patterns.len());
    for (pattern, count) in patterns.into_iter().zip(counts) {
        let may_hold = pattern.letters().may_hold(letters);
        of_patterns.push(match pattern {
            Read::Any(_) => passing_any(bytes, at, count, sought)?,
            Read::Hex { groups, .. } if !may_hold => {
                take_hex(bytes, at, groups, count)?;
                None
            }
            Read::Number { .. } if !may_hold => {
                ints::skip(bytes, at, count)?;
                None
            }
            Read::Hex { upper, groups, .. } => {
                let taken = take_hex(bytes, at, groups, count)?;
                passing_written(&Read::Hex { upper, groups, bytes: taken }, count, sought)?
            }
            Read::Number { prefix, suffix, width, .. } => {
                let values = ints::decode(bytes, at, count)?;
                match sought.in_numbers(prefix, suffix, width) {
                    Some(stands) => some_of(values.iter().map(|n| u64::try_from(*n).is_ok_and(&stands)).collect()),
                    None => passing_written(&Read::Number { prefix, suffix, width, values }, count, sought)?,
                }
            }
        });
    }
    if of_patterns.iter().all(Option::is_none) {
        return Some(None);
    }
    let mut cursors = vec![0usize; of_patterns.len()];
    let mut passing = Vec::with_capacity(count);
    for w in which {
        let w = usize::try_from(w).ok()?;
        let (n, of_pattern) = (cursors.get_mut(w)?, of_patterns.get(w)?);
        passing.push(of_pattern.as_ref().is_some_and(|passing| passing.get(*n) == Some(&true)));
        *n += 1;
    }
    Some(Some(passing))
}

/// As [`passing`], of texts that only writing shows.
fn passing_written(pattern: &Read<'_>, count: usize, sought: Sought<'_>) -> Option<Option<Vec<bool>>> {
    let mut list = List::default();
    (0..count).try_for_each(|n| write_value(pattern, n, &mut list))?;
    Some(sought.stands_in_each(&list.joined, &list.ends))
}

/// As [`passing`], of any texts.
fn passing_any(bytes: &[u8], at: &mut usize, count: usize, sought: Sought<'_>) -> Option<Option<Vec<bool>>> {
    match take_byte(bytes, at)? {
        0 if take_byte(bytes, at)? == 0 => {
            let list = decode_plain(bytes, at, count)?;
            Some(sought.stands_in_each(&list.joined, &list.ends))
        }
        1 => {
            let distinct = count_of(bytes, at).filter(|n| *n <= count)?;
            if take_byte(bytes, at)? != 0 {
                return None;
            }
            let distinct = decode_plain(bytes, at, distinct)?;
            let Some(standing) = sought.stands_in_each(&distinct.joined, &distinct.ends) else {
                ints::skip(bytes, at, count)?;
                return Some(None);
            };
            let codes = ints::decode(bytes, at, count)?.into_iter();
            let passing = codes.map(|code| standing.get(usize::try_from(code).ok()?).copied());
            passing.collect::<Option<Vec<_>>>().map(some_of)
        }
        _ => None,
    }
}

fn some_of(passing: Vec<bool>) -> Option<Vec<bool>> {
    passing.contains(&true).then_some(passing)
}

enum Read<'a> {
    Any(List),
    Number { prefix: &'a str, suffix: &'a str, width: usize, values: Vec<i64> },
    Hex { upper: bool, groups: &'a [u8], bytes: &'a [u8] },
}

fn take_patterns<'a>(bytes: &'a [u8], at: &mut usize) -> Option<Vec<Read<'a>>> {
    let patterns = count_of(bytes, at)?;
    // The 65th stands for what fits none of the 64.
    if patterns > MAX_PATTERNS + 1 {
        return None;
    }
    let mut read = Vec::with_capacity(patterns);
    for _ in 0..patterns {
        read.push(match take_byte(bytes, at)? {
            0 => Read::Any(List::default()),
            1 => {
                let (prefix, suffix) = (take_text(bytes, at)?, take_text(bytes, at)?);
                let width = usize::from(take_byte(bytes, at).filter(|w| *w <= 18)?);
                Read::Number { prefix, suffix, width, values: Vec::new() }
            }
            2 => {
                let upper = take_byte(bytes, at)? == 1;
                let groups = count_of(bytes, at)?;
                let groups = bytes.get(*at..at.checked_add(groups)?)?;
                *at += groups.len();
                Read::Hex { upper, groups, bytes: &[] }
            }
            _ => return None,
        });
    }
    Some(read)
}

/// The pattern of each text, and how many texts each has.
fn take_which(bytes: &[u8], at: &mut usize, patterns: usize, count: usize) -> Option<(Vec<i64>, Vec<usize>)> {
    let which = if patterns > 1 { ints::decode(bytes, at, count)? } else { vec![0; count] };
    let mut counts = vec![0usize; patterns];
    for w in &which {
        *counts.get_mut(usize::try_from(*w).ok()?)? += 1;
    }
    Some((which, counts))
}

fn take_hex<'a>(bytes: &'a [u8], at: &mut usize, groups: &[u8], count: usize) -> Option<&'a [u8]> {
    let digits: usize = groups.iter().map(|g| usize::from(*g)).sum();
    let length = (digits / 2).checked_mul(count).filter(|_| digits > 0 && digits.is_multiple_of(2))?;
    let taken = bytes.get(*at..at.checked_add(length)?)?;
    *at += length;
    Some(taken)
}

/// The patterns with their values, and the pattern of each text.
fn open_patterned<'a>(bytes: &'a [u8], at: &mut usize, count: usize) -> Option<(Vec<Read<'a>>, Vec<i64>)> {
    let mut read = take_patterns(bytes, at)?;
    let (which, counts) = take_which(bytes, at, read.len(), count)?;
    for (pattern, count) in read.iter_mut().zip(counts) {
        match pattern {
            Read::Any(list) => *list = decode_any(bytes, at, count)?,
            Read::Number { values, .. } => *values = ints::decode(bytes, at, count)?,
            Read::Hex { groups, bytes: taken, .. } => *taken = take_hex(bytes, at, groups, count)?,
        }
    }
    Some((read, which))
}

fn write_value(pattern: &Read, n: usize, list: &mut List) -> Option<()> {
    match pattern {
        Read::Any(texts) => list.push(texts.get(n)),
        Read::Number { prefix, suffix, width, values } => {
            list.joined.push_str(prefix);
            let value = u64::try_from(*values.get(n)?).ok()?;
            put_decimal(value, *width, &mut list.joined);
            list.push(suffix)
        }
        Read::Hex { upper, groups, bytes } => {
            const LOWER: &[u8; 16] = b"0123456789abcdef";
            const UPPER: &[u8; 16] = b"0123456789ABCDEF";
            let alphabet = if *upper { UPPER } else { LOWER };
            let digits: usize = groups.iter().map(|g| usize::from(*g)).sum();
            let mut nibbles = bytes.get(n * digits / 2..(n + 1) * digits / 2)?.iter().flat_map(|b| [b >> 4, b & 15]);
            for (g, length) in groups.iter().enumerate() {
                if g > 0 {
                    list.joined.push('-');
                }
                for nibble in nibbles.by_ref().take(usize::from(*length)) {
                    list.joined.push(char::from(*alphabet.get(usize::from(nibble))?));
                }
            }
            list.push("")
        }
    }
}

/// Appends `value` with at least `width` digits.
fn put_decimal(mut value: u64, width: usize, out: &mut String) {
    let mut digits = [b'0'; 20];
    let mut count = 0;
    for digit in digits.iter_mut().rev() {
        *digit = b'0' + (value % 10) as u8;
        value /= 10;
        count += 1;
        if value == 0 {
            break;
        }
    }
    let shown = digits.get(digits.len() - count.max(width.min(20))..).unwrap_or(&digits);
    out.extend(shown.iter().map(|digit| char::from(*digit)));
}

fn decode_any(bytes: &[u8], at: &mut usize, count: usize) -> Option<List> {
    match take_byte(bytes, at)? {
        0 if take_byte(bytes, at)? == 0 => decode_plain(bytes, at, count),
        1 => {
            let distinct = count_of(bytes, at).filter(|n| *n <= count)?;
            if take_byte(bytes, at)? != 0 {
                return None;
            }
            let distinct = decode_plain(bytes, at, distinct)?;
            let mut list = List::default();
            for code in ints::decode(bytes, at, count)? {
                let code = usize::try_from(code).ok().filter(|c| *c < distinct.ends.len())?;
                list.push(distinct.get(code))?;
            }
            Some(list)
        }
        _ => None,
    }
}
