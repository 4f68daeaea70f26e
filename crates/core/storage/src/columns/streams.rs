//! The variables of messages as bytes: those that follow the same word stand together, for they are of one nature
//! (`door 17`, `door 4`), whatever the templates around them.
//!
//! ```text
//! variables := 0 list                  all in the order of the messages
//!            | 1 list*                 one for each stream, in the order of their first use
//! ```
//!
//! The stream of a hole is known by the literal before it (see [`lead`]); both sides work it out from the templates in
//! the order in which the codes name them. Beyond [`MAX_STREAMS`] leads, holes share the first stream.

use super::dictionary::Texts;
use super::messages::Variables;
use super::texts::{self, Effort, List, Sought};
use calvex_language::model::template::{HOLE, join};
use calvex_language::query::is_word_char;
use hashbrown::HashMap;

/// Variables of one block at most.
const MAX_VARIABLES: usize = 1 << 21;
/// Streams of one block at most.
const MAX_STREAMS: usize = 256;
/// Bytes of the literal before a hole that are looked at.
const MAX_LEAD: usize = 16;

/// The last word of the literal before a hole, with the signs between the two; of a literal without a word its end.
fn lead(literal: &str) -> &str {
    let mut from = literal.len().saturating_sub(MAX_LEAD);
    while !literal.is_char_boundary(from) {
        from += 1;
    }
    let end = &literal[from..];
    let Some(last) = end.rfind(is_word_char) else { return end };
    let word =
        end[..last].rfind(|c| !is_word_char(c)).map_or(0, |at| at + end[at..].chars().next().map_or(1, char::len_utf8));
    &end[word..]
}

/// The leads of templates' holes, in their order, under numbers.
#[derive(Default)]
pub(super) struct Leads {
    numbers: HashMap<Box<str>, u32>,
    /// The numbers of all holes, those of one template behind another.
    of_holes: Vec<u32>,
    /// The end of each template's.
    ends: Vec<u32>,
}

impl Leads {
    /// Of every template of a dictionary.
    fn of(templates: &Texts) -> Self {
        let mut leads = Leads::default();
        for template in templates.iter() {
            each_lead(template, |lead| {
                let next = leads.numbers.len() as u32;
                leads.of_holes.push(match leads.numbers.get(lead) {
                    Some(number) => *number,
                    None => *leads.numbers.entry(lead.into()).or_insert(next),
                });
            });
            leads.ends.push(leads.of_holes.len() as u32);
        }
        leads
    }

    fn of_template(&self, code: usize) -> &[u32] {
        let end = |n: usize| self.ends.get(n).copied().unwrap_or(0) as usize;
        self.of_holes.get((if code == 0 { 0 } else { end(code - 1) })..end(code)).unwrap_or(&[])
    }
}

fn each_lead<'t>(template: &'t str, mut f: impl FnMut(&'t str)) {
    let mut from = 0;
    for at in memchr::memchr_iter(HOLE as u8, template.as_bytes()) {
        f(lead(&template[from..at]));
        from = at + 1;
    }
}

/// A stream, or where a template's begin, that is not yet known.
const UNKNOWN: u32 = u32::MAX;

/// The streams of each template's holes, by code; templates that no code names have none.
struct Plan {
    /// Where the streams of each template's holes stand in `holes`.
    spans: Vec<(u32, u32)>,
    holes: Vec<u32>,
    streams: usize,
}

impl Plan {
    fn of(templates: &Texts, codes: &[u32]) -> Plan {
        let none = Leads::default();
        let shared = templates.shared.as_ref().map_or(&none, |shared| shared.noted.leads(|| Leads::of(shared)));
        let mut own: HashMap<&str, u32> = HashMap::new();
        let mut of_leads = vec![UNKNOWN; shared.numbers.len()];
        let mut plan = Plan { spans: vec![(UNKNOWN, 0); templates.len()], holes: Vec::new(), streams: 0 };
        for code in codes {
            let code = *code as usize;
            if plan.spans.get(code).is_none_or(|span| span.0 != UNKNOWN) {
                continue;
            }
            let from = plan.holes.len() as u32;
            if code < templates.shared_len() {
                shared.of_template(code).iter().for_each(|number| plan.add(*number, &mut of_leads));
            } else {
                each_lead(templates.get(code), |lead| {
                    let number = shared.numbers.get(lead).or_else(|| own.get(lead)).copied().unwrap_or_else(|| {
                        of_leads.push(UNKNOWN);
                        let number = of_leads.len() as u32 - 1;
                        own.insert(lead, number);
                        number
                    });
                    plan.add(number, &mut of_leads);
                });
            }
            if let Some(span) = plan.spans.get_mut(code) {
                *span = (from, plan.holes.len() as u32);
            }
        }
        plan
    }

    /// Adds a hole of this lead.
    fn add(&mut self, lead: u32, of_leads: &mut [u32]) {
        let stream = match of_leads.get_mut(lead as usize) {
            Some(stream) if *stream == UNKNOWN && self.streams < MAX_STREAMS => {
                *stream = self.streams as u32;
                self.streams += 1;
                *stream
            }
            Some(stream) if *stream != UNKNOWN => *stream,
            _ => 0,
        };
        self.holes.push(stream);
    }

    fn holes(&self, code: u32) -> &[u32] {
        let span = self.spans.get(code as usize).filter(|span| span.0 != UNKNOWN);
        span.and_then(|(from, to)| self.holes.get(*from as usize..*to as usize)).unwrap_or(&[])
    }
}

/// Appends `variables`, those of each message in turn.
pub(super) fn pack<'a>(
    templates: &Texts,
    codes: &[u32],
    variables: impl Iterator<Item = &'a str>,
    effort: Effort,
    out: &mut Vec<u8>,
) {
    if effort == Effort::Light {
        out.push(0);
        return texts::encode(&variables.collect::<Vec<_>>(), effort, out);
    }
    let plan = Plan::of(templates, codes);
    let mut streams: Vec<Vec<&str>> = vec![Vec::new(); plan.streams];
    let mut variables = variables;
    for code in codes {
        for stream in plan.holes(*code) {
            if let Some(stream) = streams.get_mut(*stream as usize) {
                stream.extend(variables.next());
            }
        }
    }
    out.push(1);
    streams.iter().for_each(|stream| texts::encode(stream, Effort::Cut, out));
}

/// Reads what [`pack`] wrote where it fills `bytes` wholly.
pub(super) fn unpack(bytes: &[u8], templates: &Texts, codes: &[u32]) -> Option<Variables> {
    let mut at = 0;
    let variables = unpack_from(bytes, &mut at, templates, codes)?;
    (at == bytes.len()).then_some(variables)
}

/// The value_indexes of the messages of templates that `asked` names, in one of whose variables a word stands. What belongs to
/// which message is only found out where it stands anywhere.
pub(super) fn holding(
    bytes: &[u8],
    templates: &Texts,
    codes: &[u32],
    sought: Sought<'_>,
    asked: impl Fn(u32) -> bool,
) -> Option<Vec<usize>> {
    if *bytes.first()? != 1 {
        let variables = unpack(bytes, templates, codes)?;
        let holds = |value_index: &usize| {
            codes.get(*value_index).is_some_and(|code| asked(*code))
                && variables.of(*value_index).any(|variable| sought.stands_in(variable))
        };
        return Some((0..codes.len()).filter(holds).collect());
    }
    let (mut at, mut left) = (1, MAX_VARIABLES);
    let mut passing: Vec<Option<Vec<bool>>> = Vec::new();
    while at < bytes.len() {
        if passing.len() >= MAX_STREAMS {
            return None;
        }
        let mut from = at;
        passing.push(texts::passing(bytes, &mut at, left, sought)?);
        left = left.checked_sub(texts::count_of(bytes, &mut from)?)?;
    }
    if passing.iter().all(Option::is_none) {
        return Some(Vec::new());
    }
    let plan = Plan::of(templates, codes);
    if plan.streams != passing.len() {
        return None;
    }
    let mut found = Vec::new();
    let mut cursors = vec![0usize; plan.streams];
    for (value_index, code) in codes.iter().enumerate() {
        let mut holds = false;
        for stream in plan.holes(*code) {
            let (n, passing) = (cursors.get_mut(*stream as usize)?, passing.get(*stream as usize)?);
            holds |= passing.as_ref().is_some_and(|passing| passing.get(*n) == Some(&true));
            *n += 1;
        }
        if holds && asked(*code) {
            found.push(value_index);
        }
    }
    Some(found)
}

/// The messages at some value indexes, which ascend: of other messages no variable is written out, and a stream that holds
/// none of theirs is passed over.
pub(super) fn messages_at(
    bytes: &[u8],
    templates: &Texts,
    codes: &[u32],
    value_indexes: &[usize],
) -> Option<Vec<String>> {
    if *bytes.first()? != 1 {
        let variables = unpack(bytes, templates, codes)?;
        let text = |value_index: &usize| {
            let mut text = String::new();
            join(templates.get(*codes.get(*value_index)? as usize), variables.of(*value_index), &mut text);
            Some(text)
        };
        return value_indexes.iter().map(text).collect();
    }
    let plan = Plan::of(templates, codes);
    let mut ordinals: Vec<Vec<usize>> = vec![Vec::new(); plan.streams];
    let (mut cursors, mut from) = (vec![0usize; plan.streams], 0);
    for value_index in value_indexes {
        for stream in codes.get(from..*value_index)?.iter().flat_map(|code| plan.holes(*code)) {
            *cursors.get_mut(*stream as usize)? += 1;
        }
        for stream in plan.holes(*codes.get(*value_index)?) {
            let n = cursors.get_mut(*stream as usize)?;
            ordinals.get_mut(*stream as usize)?.push(*n);
            *n += 1;
        }
        from = value_index + 1;
    }
    let (mut at, mut picked) = (1, Vec::with_capacity(plan.streams));
    for ordinals in &ordinals {
        picked.push(match ordinals.is_empty() {
            true => texts::skip(bytes, &mut at, MAX_VARIABLES).map(|()| List::default())?,
            false => texts::open(bytes, &mut at, MAX_VARIABLES)?.pick(ordinals)?,
        });
    }
    if at != bytes.len() {
        return None;
    }
    let mut cursors = vec![0usize; plan.streams];
    let text = |value_index: &usize| {
        let code = *codes.get(*value_index)?;
        let mut variables = Vec::new();
        for stream in plan.holes(code) {
            let n = cursors.get_mut(*stream as usize)?;
            variables.push(picked.get(*stream as usize)?.get(*n));
            *n += 1;
        }
        let mut text = String::new();
        join(templates.get(code as usize), variables.into_iter(), &mut text);
        Some(text)
    };
    value_indexes.iter().map(text).collect()
}

/// Reads what [`pack`] wrote and moves `at` behind it.
pub(super) fn unpack_from(bytes: &[u8], at: &mut usize, templates: &Texts, codes: &[u32]) -> Option<Variables> {
    let form = *bytes.get(*at)?;
    *at += 1;
    let plan = Plan::of(templates, codes);
    let mut first = Vec::with_capacity(codes.len() + 1);
    let mut count = 0u32;
    for code in codes {
        first.push(count);
        count = count.checked_add(plan.holes(*code).len() as u32)?;
    }
    first.push(count);
    let most = Some(count as usize).filter(|n| *n <= MAX_VARIABLES)?;
    if form == 0 {
        let List { joined, ends } = texts::decode(bytes, at, most)?;
        return (ends.len() == count as usize).then_some(Variables { joined, ends, first });
    }
    if form != 1 {
        return None;
    }
    let streams: Vec<List> = (0..plan.streams).map(|_| texts::decode(bytes, at, most)).collect::<Option<_>>()?;
    let mut joined = String::with_capacity(streams.iter().map(|s| s.joined.len()).sum());
    let mut ends = Vec::with_capacity(most);
    let mut cursors = vec![(0usize, 0usize); plan.streams];
    for code in codes {
        for stream in plan.holes(*code) {
            let (n, from) = cursors.get_mut(*stream as usize)?;
            let list = streams.get(*stream as usize)?;
            let end = *list.ends.get(*n)? as usize;
            joined.push_str(list.joined.get(*from..end)?);
            ends.push(u32::try_from(joined.len()).ok()?);
            (*n, *from) = (*n + 1, end);
        }
    }
    let all = streams.iter().zip(&cursors).all(|(list, (n, _))| list.ends.len() == *n);
    all.then_some(Variables { joined, ends, first })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::columns::Interner;
    use calvex_language::model::template::split;
    use proptest::prelude::*;

    #[test]
    fn what_leads_to_a_hole() {
        for (literal, expected) in [
            ("at door ", "door "),
            ("lease LS-", "LS-"),
            (".", "."),
            ("", ""),
            ("before öffnet: ", "öffnet: "),
            (" — ", " — "),
        ] {
            assert_eq!(lead(literal), expected, "{literal}");
        }
    }

    proptest! {
        #[test]
        fn round_trip(messages in prop::collection::vec("(door|lease|é )?[ -]?[0-9]{1,4}( ms)?|.{0,20}", 0..60)) {
            let mut templates = Interner::<String>::default();
            let (mut codes, mut variables) = (Vec::new(), Vec::new());
            let mut template = String::new();
            for message in &messages {
                template.clear();
                split(message, &mut template, |v| variables.push(v));
                codes.push(templates.code(&template));
            }
            for effort in [Effort::Light, Effort::Full] {
                let mut bytes = Vec::new();
                pack(&templates.dictionary, &codes, variables.iter().copied(), effort, &mut bytes);
                let back = unpack(&bytes, &templates.dictionary, &codes).unwrap();
                let flat: Vec<&str> = (0..codes.len()).flat_map(|n| back.of(n)).collect();
                prop_assert_eq!(&flat, &variables);
                for word in ["1", "12", "door", "é", "ms", "x"].map(String::from) {
                    let sought = Sought::new(&word, true);
                    let found = holding(&bytes, &templates.dictionary, &codes, sought, |c| c % 2 == 0);
                    let plain = (0..codes.len()).filter(|n| codes[*n] % 2 == 0 && back.of(*n).any(|v| sought.stands_in(v)));
                    prop_assert_eq!(found.unwrap(), plain.collect::<Vec<_>>());
                }
                let texts = |indexes: &[usize]| messages_at(&bytes, &templates.dictionary, &codes, indexes);
                for step in 1..5 {
                    let some: Vec<usize> = (0..codes.len()).filter(|n| n * n % 7 % step == 0).collect();
                    let expected: Vec<String> = some.iter().map(|n| messages[*n].clone()).collect();
                    prop_assert_eq!(texts(&some).unwrap(), expected);
                }
                prop_assert!(texts(&[codes.len()]).is_none());
                for cut in 0..bytes.len() {
                    prop_assert!(unpack(&bytes[..cut], &templates.dictionary, &codes).is_none());
                }
            }
        }
    }
}
