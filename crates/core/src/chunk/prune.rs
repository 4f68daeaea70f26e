//! Whether a chunk can hold an event that a filter asks for, told from its directory alone. "No" is certain.

use super::keys;
use super::reader::Directory;
use crate::columns::{ColumnKey, FieldType, Own};
use crate::event::{parse_span, parse_trace};
use crate::query::{Field, Filter, Literal, Op, OwnPart, Test, WordsTest, matching};

/// False only where no event of the chunk passes.
pub fn may_match(filter: &Filter, directory: &Directory) -> bool {
    match filter {
        Filter::All | Filter::Not(_) => true,
        Filter::And(list) => list.iter().all(|f| may_match(f, directory)),
        Filter::Or(list) => list.iter().any(|f| may_match(f, directory)),
        Filter::Words(test) => may_hold_words(test, directory),
        Filter::Has(Field::Sent(name)) => has_column(name, directory),
        Filter::Has(Field::Own(_)) => true,
        Filter::Compare(Field::Own(part), test) => may_hold_own(*part, test, directory),
        Filter::Compare(Field::Sent(name), test) => has_column(name, directory) && may_hold_sent(name, test, directory),
    }
}

fn may_hold_words(test: &WordsTest, directory: &Directory) -> bool {
    let whole = if test.prefix { test.words.len() - 1 } else { test.words.len() };
    let worded = test.words.iter().take(whole).all(|w| directory.filter.may_hold(keys::word(w)));
    let hexed = || match test.words.as_slice() {
        [word] => hex_ids(word).is_some_and(|id| directory.filter.may_hold(keys::id(&id))),
        _ => false,
    };
    worded || test.number.is_some_and(|n| directory.filter.may_hold(keys::number(n))) || hexed()
}

fn hex_ids(text: &str) -> Option<Vec<u8>> {
    parse_trace(text).map(|id| id.to_vec()).or_else(|| parse_span(text).map(|id| id.to_vec()))
}

/// A column of this name, or below it, or a list that could hold it.
fn has_column(name: &str, directory: &Directory) -> bool {
    directory.keys.iter().any(|key| {
        let ColumnKey::Field(path, kind) = key else { return false };
        let dotted = path.dotted();
        matching::at_or_below(&dotted, name) || *kind == FieldType::Nested && matching::at_or_below(name, &dotted)
    })
}

/// The values one of which must be there, if the test is of that sort.
fn wanted(test: &Test) -> Option<&[Literal]> {
    match test {
        Test::Compare(Op::Eq, literal) => Some(std::slice::from_ref(literal)),
        Test::In(list) => Some(list),
        _ => None,
    }
}

fn may_hold_sent(name: &str, test: &Test, directory: &Directory) -> bool {
    let Some(literals) = wanted(test) else { return true };
    literals.iter().any(|l| {
        let is_bool = !l.quoted && (l.text == "true" || l.text == "false");
        is_bool
            || directory.filter.may_hold(keys::text_value(name, &l.text))
            || l.number.is_some_and(|n| directory.filter.may_hold(keys::number_value(name, n)))
    })
}

fn may_hold_own(part: OwnPart, test: &Test, directory: &Directory) -> bool {
    if part == OwnPart::Severity && !test.is_ne() {
        return directory.severities & test.severities() != 0;
    }
    let Some(literals) = wanted(test) else { return true };
    let any = |holds: &dyn Fn(&Literal) -> bool| literals.iter().any(holds);
    let text = |own| any(&|l| directory.filter.may_hold(keys::own_text(own, &l.text)));
    match part {
        OwnPart::Service => text(Own::Service),
        OwnPart::Host => text(Own::Host),
        OwnPart::Sender => text(Own::Sender),
        OwnPart::Trace | OwnPart::Span | OwnPart::Parent => {
            any(&|l| hex_ids(&l.text).is_some_and(|id| directory.filter.may_hold(keys::id(&id))))
        }
        _ => true,
    }
}
