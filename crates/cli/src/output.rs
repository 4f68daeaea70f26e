//! What is printed: tables, coloured lines, NDJSON; never with colours into a pipe or against `NO_COLOR`.

use comfy_table::{CellAlignment, ContentArrangement, Table, presets};
use owo_colors::{OwoColorize, Stream, Style};
use serde::Serialize;
use std::io::{self, Write};

/// Whether an error is only that the reader of our output has gone.
pub fn is_broken_pipe(e: &anyhow::Error) -> bool {
    e.chain().any(|c| c.downcast_ref::<io::Error>().is_some_and(|e| e.kind() == io::ErrorKind::BrokenPipe))
}

/// Prints a line.
pub fn line(text: &str) -> anyhow::Result<()> {
    let mut out = io::stdout().lock();
    out.write_all(text.as_bytes())?;
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
    items.iter().try_for_each(|item| line(&serde_json::to_string(item)?))
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
        table.add_row(row);
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
