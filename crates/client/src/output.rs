//! What is printed: tables, coloured lines, NDJSON; never with colours into a pipe or against `NO_COLOR`.

use comfy_table::{CellAlignment, ContentArrangement, Table, presets};
use owo_colors::{OwoColorize, Stream, Style};
use serde::Serialize;
use std::borrow::Cow;
use std::io::{self, Write};

/// Whether an error is only that the reader of our output has gone.
pub fn is_broken_pipe(e: &anyhow::Error) -> bool {
    e.chain().any(|cause| {
        // The writer of CSV keeps the error inside its own and names it as no cause.
        let inner = cause.downcast_ref::<csv::Error>().and_then(|e| match e.kind() {
            csv::ErrorKind::Io(e) => Some(e),
            _ => None,
        });
        inner.or_else(|| cause.downcast_ref::<io::Error>()).is_some_and(|e| e.kind() == io::ErrorKind::BrokenPipe)
    })
}

/// Text from outside, with every sign that could drive a terminal replaced by one that shows it: control characters of
/// both sets (ISO 6429), which begin colours, titles and the clipboard, and marks that turn the direction of reading.
pub fn plain(text: &str) -> Cow<'_, str> {
    let drives = |c: char| c.is_control() || matches!(c, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
    if !text.contains(drives) {
        return Cow::Borrowed(text);
    }
    let shown = |c: char| match c {
        '\t' => ' ',
        // The pictures of the control characters stand in their order.
        '\0'..='\u{1f}' => char::from_u32(0x2400 + c as u32).unwrap_or('\u{fffd}'),
        '\u{7f}' => '\u{2421}',
        c if drives(c) => '\u{fffd}',
        c => c,
    };
    Cow::Owned(text.chars().map(shown).collect())
}

/// A line that may be styled: our own styles stay (`ESC [ digits m`), any other control character is shown instead.
fn guarded(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find('\u{1b}') {
        let (before, from) = rest.split_at(at);
        out.push_str(&plain(before));
        let inner = from.strip_prefix("\u{1b}[").map_or("", |f| f);
        let length = inner.bytes().take_while(|b| b.is_ascii_digit() || *b == b';').count();
        let style = inner.as_bytes().get(length) == Some(&b'm');
        let taken = if style { 2 + length + 1 } else { 1 };
        let (sequence, behind) = from.split_at(taken);
        if style {
            out.push_str(sequence)
        } else {
            out.push_str(&plain(sequence))
        }
        rest = behind;
    }
    out.push_str(&plain(rest));
    out
}

/// Prints a line, or several where the text has line ends.
pub fn line(text: &str) -> anyhow::Result<()> {
    let mut out = io::stdout().lock();
    for line in text.split('\n') {
        out.write_all(guarded(line).as_bytes())?;
        out.write_all(b"\n")?;
    }
    Ok(())
}

/// Prints a line of JSON. What JSON leaves as it is but a terminal would act on is written as an escape of JSON, which
/// means the same.
pub fn json_line(text: &str) -> anyhow::Result<()> {
    let mut out = io::stdout().lock();
    let drives = |c: &char| matches!(c, '\u{7f}'..='\u{9f}');
    if text.chars().any(|c| drives(&c)) {
        let escaped = |c: char| if drives(&c) { format!("\\u{:04x}", c as u32) } else { c.to_string() };
        out.write_all(text.chars().map(escaped).collect::<String>().as_bytes())?;
    } else {
        out.write_all(text.as_bytes())?;
    }
    out.write_all(b"\n")?;
    Ok(())
}

/// A line as wide as the terminal: cut there, or with `wrap` gone on below; as it is where there is no terminal.
pub fn fitted(text: &str, wrap: bool) -> String {
    let Some((_, width)) = console::Term::stdout().size_checked() else { return text.to_owned() };
    if wrap { text.to_owned() } else { console::truncate_str(text, usize::from(width), "…").into_owned() }
}

/// Prints each as one line of JSON.
pub fn ndjson<T: Serialize>(items: &[T]) -> anyhow::Result<()> {
    items.iter().try_for_each(|item| json_line(&serde_json::to_string(item)?))
}

/// Text in a style where standard output shows styles.
pub fn styled(text: &str, style: Style) -> String {
    text.if_supports_color(Stream::Stdout, |t| t.style(style)).to_string()
}

/// Text that stands back.
pub fn faint(text: &str) -> String {
    styled(text, Style::new().dimmed())
}

/// A severity by sign and word, padded so that columns stand.
pub fn severity(name: &str) -> String {
    let (sign, style) = match name {
        "fatal" => ("◆", Style::new().bright_red().bold()),
        "error" => ("■", Style::new().bright_red()),
        "warn" => ("▲", Style::new().yellow()),
        "info" => ("●", Style::new().bright_blue()),
        _ => ("○", Style::new().dimmed()),
    };
    styled(&format!("{sign} {name:<5}"), style)
}

/// A table without lines; the head stands back.
pub fn table(head: &[&str], rows: Vec<Vec<String>>) -> anyhow::Result<()> {
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
    table.set_header(head.to_vec());
    let number = |cell: &String| cell == "–" || cell.parse::<f64>().is_ok();
    let numeric: Vec<usize> = (0..head.len())
        .filter(|n| {
            let mut cells = rows.iter().filter_map(|row| row.get(*n));
            cells.clone().any(|cell| cell.parse::<f64>().is_ok()) && cells.all(number)
        })
        .collect();
    rows.into_iter().for_each(|row| {
        table.add_row(row.iter().map(|cell| plain(cell)));
    });
    // Figures stand under one another by their last digit, and so do their heads.
    for n in numeric {
        if let Some(column) = table.column_mut(n) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    let text = table.to_string();
    // Styled once it is laid out: the signs of a style would count as width.
    let mut lines = text.lines().map(str::trim_end);
    lines.next().map_or(Ok(()), |head| line(&faint(head)))?;
    lines.try_for_each(line)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_reader_that_has_gone_is_known_whatever_wrote() {
        struct Gone;
        impl Write for Gone {
            fn write(&mut self, _: &[u8]) -> io::Result<usize> {
                Err(io::ErrorKind::BrokenPipe.into())
            }
            fn flush(&mut self) -> io::Result<()> {
                Ok(())
            }
        }
        let mut csv = csv::Writer::from_writer(Gone);
        let written = csv.write_record(["door"]).and_then(|()| Ok(csv.flush()?));
        assert!(is_broken_pipe(&written.unwrap_err().into()));
        assert!(is_broken_pipe(&anyhow::Error::from(io::Error::from(io::ErrorKind::BrokenPipe)).context("a file")));
        assert!(!is_broken_pipe(&io::Error::other("the disk is full").into()));
    }

    #[test]
    fn nothing_from_outside_drives_the_terminal() {
        let hostile = "a\u{1b}[31mred\u{1b}]0;title\u{7}\u{1b}]52;c;Zm9v\u{7}\u{9b}2Jb\u{7f}\r\u{202e}x";
        let shown = plain(hostile);
        assert!(!shown.chars().any(|c| c.is_control() || c == '\u{202e}'), "{shown:?}");
        assert!(shown.starts_with("a\u{241b}[31mred\u{241b}]0;title\u{2407}"), "{shown:?}");
        assert!(matches!(plain("door 17 ÄÖ 📦"), Cow::Borrowed(_)));
        // Of a line only our own styles are let through.
        let line = guarded(&format!("\u{1b}[31;1m{}\u{1b}[0m \u{1b}]0;t\u{7}\u{1b}[2J\u{1b}", plain(hostile)));
        let left: Vec<&str> = line.split('\u{1b}').skip(1).collect();
        assert_eq!(left.len(), 2, "{line:?}");
        assert!(left[0].starts_with("[31;1m") && left[1].starts_with("[0m"), "{line:?}");
    }
}
