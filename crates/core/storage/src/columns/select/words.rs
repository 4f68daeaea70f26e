//! Words in the message and in any text value. Most messages are decided by their template alone.

use super::super::sent::each_overflowing;
use super::super::texts::{Sought, candidates};
use super::super::{BuiltinColumn, ColumnKey, FieldType, Letters, Messages, Texts, field_value};
use super::sent::nested;
use super::verdicts::{Verdicts, asked_words, by_code, of_shared};
use super::{ALL, Column, NONE, PageRead, Rows, Values, set_passing};
use calvex_language::error::Result;
use calvex_language::model::template::{HOLE, MAX_HOLES, MAX_LITERAL_BYTES, holes};
use calvex_language::query::{WordsTest, contains_words, matching};

/// The rows in which the words stand.
pub(super) fn select(test: &WordsTest, page: &dyn PageRead) -> Result<Rows> {
    let mut rows = Rows::none(page.rows());
    let passes = |text: &str| contains_words(text, &test.words, test.prefix);
    // All of the words stand in one text.
    let letters = test.words.iter().fold(Letters::NONE, |all, word| all.with(Letters::of(word)));
    let any_shared =
        |texts: &Texts| of_shared(texts, &asked_words("words", test), |text| passes(text).into()).contains(&1);
    page.prefetch(&|index| is_searched(test, page, index));
    for (index, key) in page.keys().iter().enumerate() {
        if !is_searched(test, page, index) {
            continue;
        }
        let is_text = matches!(
            key,
            ColumnKey::Builtin(BuiltinColumn::Service | BuiltinColumn::Host) | ColumnKey::Field(_, FieldType::Text)
        );
        let column = if is_text { page.column_if(index, letters, &any_shared)? } else { page.column(index)? };
        let Some(column) = column else { continue };
        match (key, &column.values) {
            (_, Values::Messages(messages)) => in_messages(test, &column, messages, &mut rows)?,
            (ColumnKey::Field(_, kind @ FieldType::Decimal), values) => {
                by_value(test, *kind, &column, values, &mut rows)?;
            }
            (_, Values::Texts { dictionary, codes }) => {
                let own =
                    of_candidates(test, dictionary, vec![NONE; dictionary.ends.len()], |text| passes(text).into());
                let verdicts =
                    Verdicts::beside(own, dictionary, || asked_words("words", test), |text| passes(text).into());
                verdicts.mark(&mut rows, &column, codes);
            }
            (ColumnKey::Builtin(_), Values::Blobs { dictionary, codes }) => {
                let named = |id: &[u8]| matching::hex_is(test, id);
                by_code(&mut rows, &column, (dictionary, codes), || asked_words("hex", test), named);
            }
            (ColumnKey::Field(..), Values::Blobs { .. }) => {
                let words = || asked_words("within", test);
                nested(&column, &mut rows, words, |v| matching::words_in_value(test, v));
            }
            (ColumnKey::Field(_, kind), values) => by_number(test, *kind, &column, values, &mut rows)?,
            _ => {}
        }
    }
    each_overflowing(page, |row, _, value| {
        if matching::words_in_value(test, value) {
            rows.set(row);
        }
    })?;
    Ok(rows)
}

/// Whether the words may stand in column `index`.
fn is_searched(test: &WordsTest, page: &dyn PageRead, index: usize) -> bool {
    match page.keys().get(index) {
        Some(ColumnKey::Builtin(BuiltinColumn::Message | BuiltinColumn::Service | BuiltinColumn::Host)) => true,
        Some(ColumnKey::Builtin(BuiltinColumn::Trace | BuiltinColumn::Span | BuiltinColumn::Parent)) => {
            test.may_be_id()
        }
        Some(ColumnKey::Builtin(_) | ColumnKey::Field(_, FieldType::Null | FieldType::Bool)) | None => false,
        Some(ColumnKey::Field(_, FieldType::Int | FieldType::UInt | FieldType::Float)) => {
            test.number.is_some_and(|n| page.zone(index).is_none_or(|(lo, hi)| lo <= n.float && n.float <= hi))
        }
        Some(ColumnKey::Field(_, FieldType::Decimal)) => test.number.is_some(),
        Some(ColumnKey::Field(..)) => true,
    }
}

fn by_value(test: &WordsTest, kind: FieldType, column: &Column, values: &Values, rows: &mut Rows) -> Result<()> {
    (0..values.len().unwrap_or(0)).try_for_each(|n| by_one(test, kind, column, values, n, rows))
}

fn by_one(
    test: &WordsTest,
    kind: FieldType,
    column: &Column,
    values: &Values,
    value_index: usize,
    rows: &mut Rows,
) -> Result<()> {
    if matching::words_in_value(test, &field_value(kind, values, value_index)?) {
        rows.set(column.row(value_index));
    }
    Ok(())
}

/// As [`by_value`] for numbers, of which only those are taken apart that are the same as floats: equal ones are.
fn by_number(test: &WordsTest, kind: FieldType, column: &Column, values: &Values, rows: &mut Rows) -> Result<()> {
    let Some(number) = test.number else { return Ok(()) };
    let near = match (kind, values) {
        (FieldType::Int, Values::Ints(numbers)) => positions(numbers, |n| *n as f64 == number.float),
        (FieldType::UInt, Values::Ints(numbers)) => positions(numbers, |n| *n as u64 as f64 == number.float),
        (FieldType::Float, Values::Floats(numbers)) => positions(numbers, |n| *n == number.float),
        _ => return by_value(test, kind, column, values, rows),
    };
    near.into_iter().try_for_each(|n| by_one(test, kind, column, values, n, rows))
}

fn positions<T>(numbers: &[T], is_near: impl Fn(&T) -> bool) -> Vec<usize> {
    numbers.iter().enumerate().filter(|(_, n)| is_near(n)).map(|(value_index, _)| value_index).collect()
}

/// What a template says of its messages; as a byte, that of [`Verdicts`].
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum Verdict {
    /// None of them passes.
    None,
    /// All of them do.
    All,
    /// The variables decide.
    Ask,
}

fn in_messages(test: &WordsTest, column: &Column, messages: &Messages, rows: &mut Rows) -> Result<()> {
    let judge = |template: &str| judge(test, template) as u8;
    let own = of_candidates(test, &messages.templates, without_words(test, &messages.templates), judge);
    let verdicts = Verdicts::beside(own, &messages.templates, || asked_words("template", test), judge);
    let is_asked = |code: u32| verdicts.of_code(code) == Verdict::Ask as u8;
    if verdicts.contain(ALL) {
        set_passing(rows, column, &messages.codes, |code| verdicts.of_code(*code) == ALL);
    }
    if !verdicts.contain(Verdict::Ask as u8) {
        return Ok(());
    }
    // A variable is whole words, so one word stands in one of them or nowhere.
    if let [word] = test.words.as_slice() {
        let found = messages.holding(Sought::new(word, test.prefix), is_asked)?;
        found.into_iter().for_each(|value_index| rows.set(column.row(value_index)));
        return Ok(());
    }
    let mut message = String::new();
    for (value_index, _) in messages.codes.iter().enumerate().filter(|(_, code)| is_asked(**code)) {
        message.clear();
        messages.write(value_index, &mut message)?;
        if contains_words(&message, &test.words, test.prefix) {
            rows.set(column.row(value_index));
        }
    }
    Ok(())
}

/// What is said of the values that are not shared: `otherwise`, but of those in which the first word may stand, by `judge`.
fn of_candidates(test: &WordsTest, texts: &Texts, otherwise: Vec<u8>, judge: impl Fn(&str) -> u8) -> Vec<u8> {
    let mut own = otherwise;
    let all = || (0..texts.ends.len()).collect();
    for local in test.words.first().map_or_else(all, |word| candidates(&texts.joined, &texts.ends, word)) {
        if let Some(verdict) = own.get_mut(local) {
            *verdict = judge(texts.get(texts.shared_len() + local));
        }
    }
    own
}

/// What [`judge`] says of the templates that are not shared, if the words stand in none of them.
fn without_words(test: &WordsTest, templates: &Texts) -> Vec<u8> {
    let may_vary = test.prefix || test.words.iter().any(|word| varies(word));
    let mut holes = memchr::memchr_iter(HOLE as u8, templates.joined.as_bytes()).peekable();
    let mut from = 0;
    let verdict = |end: &u32| {
        let (end, begin) = (*end as usize, from);
        from = end;
        let mut count = 0;
        while holes.next_if(|at| *at < end).is_some() {
            count += 1;
        }
        let asks = count > 0 && (may_vary || is_rest(end - begin, count));
        if asks { Verdict::Ask as u8 } else { Verdict::None as u8 }
    };
    templates.ends.iter().map(verdict).collect()
}

/// A variable is made of whole words, so a word of the template is a word of each of its messages.
fn judge(test: &WordsTest, template: &str) -> Verdict {
    if contains_words(template, &test.words, test.prefix) {
        let within = template.split(HOLE).any(|literal| contains_words(literal, &test.words, test.prefix));
        return if within { Verdict::All } else { Verdict::Ask };
    }
    let holes = holes(template);
    let may_vary = || test.prefix || test.words.iter().any(|w| varies(w));
    if holes > 0 && (has_rest(template, holes) || may_vary()) { Verdict::Ask } else { Verdict::None }
}

/// Whether the last variable is the rest of a long message, with any words.
pub(super) fn has_rest(template: &str, holes: usize) -> bool {
    is_rest(template.len(), holes)
}

fn is_rest(template_bytes: usize, holes: usize) -> bool {
    holes > MAX_HOLES || template_bytes >= MAX_LITERAL_BYTES
}

/// Whether a word can be (part of) a variable by the rules of the cut.
fn varies(word: &str) -> bool {
    word.bytes().any(|b| b.is_ascii_digit()) || word.bytes().all(|b| b.is_ascii_hexdigit())
}
