//! Where in a document's text a mistake stands.

use super::document::DocumentMistake;

/// Line and column, from 1, of a byte.
pub(super) fn line_and_column(text: &str, at: usize) -> (usize, usize) {
    let head = text.get(..at).unwrap_or(text);
    let line = head.matches('\n').count() + 1;
    let column = head.rsplit('\n').next().unwrap_or("").chars().count() + 1;
    (line, column)
}

/// Gives each mistake the place of its field: of the field's value, and within it where the mistake has a column.
pub(super) fn placed(text: &str, mut mistakes: Vec<DocumentMistake>) -> Vec<DocumentMistake> {
    for mistake in &mut mistakes {
        let within = mistake.column.saturating_sub(1);
        mistake.column = 0;
        if let Some(at) = value_at(text, &mistake.field) {
            let (line, column) = line_and_column(text, at);
            (mistake.line, mistake.column) = (line, column + within);
        }
    }
    mistakes
}

/// The byte at which the value of a field begins, behind its quote.
fn value_at(text: &str, field: &str) -> Option<usize> {
    let (table, key) = field.split_once('.').map_or(("", field), |(table, key)| (table, key));
    if key.is_empty() {
        return None;
    }
    let json = text.trim_start().starts_with('{');
    let from = match (table, json) {
        ("", _) => 0,
        (_, true) => text.find(&format!("\"{table}\""))?,
        // A table of its own, or one written in a line.
        (_, false) => text.find(&format!("[{table}]")).or_else(|| key_at(text, 0, table))?,
    };
    let at = if json {
        text.get(from..)?.find(&format!("\"{key}\"")).map(|at| from + at)?
    } else {
        key_at(text, from, key)?
    };
    let behind = text.get(at..)?.find([':', '=']).map(|offset| at + offset + 1)?;
    let blanks = text.get(behind..)?.bytes().take_while(|b| *b == b' ').count();
    let quote = text.get(behind + blanks..)?.starts_with(['"', '\'']);
    Some(behind + blanks + usize::from(quote))
}

/// The byte at which a key of TOML stands at the beginning of a line, or behind `{` or `,` of a table in a line.
fn key_at(text: &str, from: usize, key: &str) -> Option<usize> {
    let mut at = from;
    loop {
        at += text.get(at..)?.find(key)?;
        let before = text.get(..at)?.trim_end_matches([' ', '\t']);
        let behind = text.get(at + key.len()..)?.trim_start_matches([' ', '\t']);
        if (before.is_empty() || before.ends_with(['\n', '{', ','])) && behind.starts_with('=') {
            return Some(at);
        }
        at += key.len();
    }
}
