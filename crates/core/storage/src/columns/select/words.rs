//! Words in the message and in any text value. Most messages are decided by their template alone.

use super::super::sent::each_overflowing;
use super::super::{BuiltinColumn, ColumnKey, FieldType, Letters, Messages, Texts, field_value};
use super::sent::nested;
use super::verdicts::{Verdicts, asked_words, by_code, of_shared};
use super::{ALL, Column, NONE, PageRead, Rows, Values};
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
    for (index, key) in page.keys().iter().enumerate() {
        let searched = match key {
            ColumnKey::Builtin(own) => {
                matches!(
                    own,
                    BuiltinColumn::Message
                        | BuiltinColumn::Service
                        | BuiltinColumn::Host
                        | BuiltinColumn::Trace
                        | BuiltinColumn::Span
                        | BuiltinColumn::Parent
                )
            }
            ColumnKey::Field(_, FieldType::Null | FieldType::Bool) => false,
            ColumnKey::Field(_, FieldType::Int | FieldType::UInt | FieldType::Float) => {
                test.number.is_some_and(|n| page.zone(index).is_none_or(|(lo, hi)| lo <= n.float && n.float <= hi))
            }
            ColumnKey::Field(_, FieldType::Decimal) => test.number.is_some(),
            ColumnKey::Field(..) => true,
        };
        if !searched
            || matches!(key, ColumnKey::Builtin(BuiltinColumn::Trace | BuiltinColumn::Span | BuiltinColumn::Parent))
                && !test.may_be_id()
        {
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
                by_code(&mut rows, &column, (dictionary, codes), || asked_words("words", test), passes);
            }
            (ColumnKey::Builtin(_), Values::Blobs { dictionary, codes }) => {
                let named = |id: &[u8]| matching::hex_is(test, id);
                by_code(&mut rows, &column, (dictionary, codes), || asked_words("hex", test), named);
            }
            (ColumnKey::Field(..), Values::Blobs { .. }) => {
                let words = || asked_words("within", test);
                nested(&column, &mut rows, words, |v| matching::words_in_value(test, v));
            }
            (ColumnKey::Field(_, kind), values) => by_value(test, *kind, &column, values, &mut rows)?,
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

fn by_value(test: &WordsTest, kind: FieldType, column: &Column, values: &Values, rows: &mut Rows) -> Result<()> {
    for value_index in 0..values.len().unwrap_or(0) {
        if matching::words_in_value(test, &field_value(kind, values, value_index)?) {
            rows.set(column.row(value_index));
        }
    }
    Ok(())
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
    let verdicts =
        Verdicts::of(&messages.templates, || asked_words("template", test), |template| judge(test, template) as u8);
    let mut message = String::new();
    for (value_index, code) in messages.codes.iter().enumerate() {
        let holds = match verdicts.of_code(*code) {
            ALL => true,
            NONE => false,
            // One word is looked for below.
            _ if test.words.len() == 1 => false,
            _ => {
                message.clear();
                messages.write(value_index, &mut message)?;
                contains_words(&message, &test.words, test.prefix)
            }
        };
        if holds {
            rows.set(column.row(value_index));
        }
    }
    // A variable is whole words, so one word stands in one of them or nowhere.
    if let [word] = test.words.as_slice()
        && verdicts.contain(Verdict::Ask as u8)
    {
        let asked = |code: u32| verdicts.of_code(code) == Verdict::Ask as u8;
        // Folding changes the length of few letters, and never to less than a third.
        let shortest = if word.is_ascii() { word.len() } else { word.len() / 3 };
        let passes = |v: &str| v.len() >= shortest && contains_words(v, &test.words, test.prefix);
        messages.holding(word, asked, passes)?.into_iter().for_each(|value_index| rows.set(column.row(value_index)));
    }
    Ok(())
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
    holes > MAX_HOLES || template.len() >= MAX_LITERAL_BYTES
}

/// Whether a word can be (part of) a variable by the rules of the cut.
fn varies(word: &str) -> bool {
    word.bytes().any(|b| b.is_ascii_digit()) || word.bytes().all(|b| b.is_ascii_hexdigit())
}
