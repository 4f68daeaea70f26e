//! The score as text: for a terminal that is wide enough with columns and bars in box characters, else as a list; and as
//! Markdown for a ticket.

use super::{ArrowKind, Bar, Outcome, Row, RowKind, Score};
use calvex_language::model::Event;

/// Narrowest terminal that columns are drawn in, and least characters of the messages beside them.
const LEAST_MESSAGE: usize = 40;
/// Rows of a Markdown list at most.
const MAX_LISTED: usize = 60;

/// A duration as people read it: `85 µs`, `9.4 ms`, `31.2 s`, `4 m 10 s`, `3 h 20 m`, `5 d 2 h`.
pub fn duration_text(ns: i64) -> String {
    let ns = ns.max(0);
    let digits = |value: f64| if value < 10.0 { format!("{value:.1}") } else { format!("{value:.0}") };
    match ns {
        0..1_000_000 => format!("{} µs", digits(ns as f64 / 1e3)),
        1_000_000..1_000_000_000 => format!("{} ms", digits(ns as f64 / 1e6)),
        1_000_000_000..120_000_000_000 => format!("{:.1} s", ns as f64 / 1e9),
        120_000_000_000..7_200_000_000_000 => format!("{} m {} s", ns / 60_000_000_000, ns / 1_000_000_000 % 60),
        7_200_000_000_000..172_800_000_000_000 => {
            format!("{} h {} m", ns / 3_600_000_000_000, ns / 60_000_000_000 % 60)
        }
        _ => format!("{} d {} h", ns / 86_400_000_000_000, ns / 3_600_000_000_000 % 24),
    }
}

/// A sign for a severity, not by colour alone.
fn sign(event: &Event) -> char {
    match event.severity.0 {
        21.. => '◆',
        17.. => '■',
        13.. => '▲',
        9.. => '●',
        _ => '○',
    }
}

impl Score {
    /// Lines for a terminal of `width` characters; `row` writes what stands beside a row, given the room it has.
    pub fn lines(&self, events: &[&Event], width: usize) -> Vec<String> {
        let drawing: usize = self.columns.iter().map(|column| column.slots.clamp(1, 4) + 1).sum();
        let drawn = 10 + drawing + LEAST_MESSAGE <= width;
        let mut lines = vec![self.headline.clone(), self.facts()];
        lines.extend(self.remarks());
        if drawn && !self.columns.is_empty() {
            let names = self.columns.iter().enumerate().map(|(n, column)| format!("{}={}", letter(n), named(column)));
            lines.push(names.collect::<Vec<_>>().join("  "));
        }
        for (n, row) in self.rows.iter().enumerate() {
            if let Some(fold) = row.fold_ns {
                let rest = if drawn { "┄".repeat(drawing) } else { "┄┄┄".to_owned() };
                lines.push(format!("{:>9} {rest} {} pass", "", duration_text(fold)));
            }
            if !drawn && row.kind == RowKind::End {
                continue;
            }
            let bars = if drawn { self.cells(n, row, drawing, events) } else { String::new() };
            let line = format!("{:>9} {bars} {}", offset(row.at_ns), self.beside(row, events));
            let mut cut: String = line.trim_end().chars().take(width).collect();
            if cut.chars().count() < line.trim_end().chars().count() {
                cut.pop();
                cut.push('…');
            }
            lines.push(cut);
        }
        if self.not_drawn > 0 {
            lines.push(format!("{} more spans and events are not drawn", self.not_drawn));
        }
        lines
    }

    /// For a ticket: the headline, what is known beside it, a link, and the rows as a list.
    pub fn markdown(&self, events: &[&Event], link: &str) -> String {
        let plain = |text: &str| -> String {
            text.chars().flat_map(|c| "\\`*_[]<>#|".contains(c).then_some('\\').into_iter().chain([c])).collect()
        };
        let mut out = format!("**{}**\n\n{}\n\n[Open the story]({link})\n\n", plain(&self.headline), self.facts());
        for remark in self.remarks() {
            out += &format!("> {}\n\n", plain(&remark));
        }
        let listed = self.rows.iter().filter(|row| row.kind != RowKind::End);
        for row in listed.clone().take(MAX_LISTED) {
            let event = events.get(row.event);
            let service = event.map_or("", |event| event.service.as_str());
            let what = plain(&self.beside_without_service(row, events));
            out += &format!("- `{}` **{}** {what}\n", offset(row.at_ns), plain(service));
        }
        let more = listed.count().saturating_sub(MAX_LISTED) + self.not_drawn;
        if more > 0 {
            out += &format!("- … {more} more\n");
        }
        out
    }

    /// How much there is, and where the time went.
    fn facts(&self) -> String {
        let spans: usize = self.bars.iter().map(|bar| bar.bundle.as_ref().map_or(1, |b| b.count)).sum();
        let events = self.rows.iter().filter(|row| row.kind == RowKind::Event).count();
        let services: usize = self.columns.iter().map(|column| column.services.len()).sum();
        let mut facts = format!("{services} services, {spans} spans, {events} events");
        let path: Vec<String> = self
            .critical_path
            .iter()
            .filter(|part| part.share >= 0.05)
            .take(3)
            .map(|part| format!("{} {:.0} %", part.service, part.share * 100.0))
            .collect();
        if !path.is_empty() {
            facts += &format!("; the time went to {}", path.join(", "));
        }
        facts
    }

    /// What a reader must know of the drawing.
    pub(super) fn remarks(&self) -> Vec<String> {
        let remark = |offset: &super::ClockOffset| {
            let by = duration_text(offset.behind_ns.saturating_abs());
            match (offset.contradicts, offset.behind_ns > 0) {
                (true, _) => format!("the clock of {} contradicts itself; its times are shown as sent", offset.host),
                (false, true) => format!("{} is at least {by} behind, corrected here", offset.host),
                (false, false) => format!("{} is at least {by} ahead, corrected here", offset.host),
            }
        };
        self.clock_offsets.iter().map(remark).collect()
    }

    fn cells(&self, at: usize, row: &Row, drawing: usize, events: &[&Event]) -> String {
        let mut cells = vec![' '; drawing];
        let mut from = Vec::with_capacity(self.columns.len());
        let mut next = 0;
        for column in &self.columns {
            from.push(next);
            if let Some(cell) = cells.get_mut(next) {
                *cell = '┊';
            }
            next += column.slots.clamp(1, 4) + 1;
        }
        let cell = |bar: &Bar| from.get(bar.column).map(|from| from + bar.slot.min(3));
        for bar in self.bars.iter().filter(|bar| (bar.from_row..=bar.to_row).contains(&at)) {
            let Some(cell) = cell(bar).and_then(|cell| cells.get_mut(cell)) else { continue };
            let (begins, ends) = (bar.from_row == at, bar.to_row == at);
            *cell = match (begins, ends, bar.outcome) {
                (true, true, _) => '╸',
                (true, false, _) => '┳',
                (false, true, Outcome::Failed) => '╳',
                (false, true, _) => '┻',
                (false, false, Outcome::Failed) => '║',
                (false, false, _) => '┃',
            };
        }
        for arrow in self.arrows.iter().filter(|arrow| arrow.row == at) {
            let (a, b) = (from.get(arrow.from).copied().unwrap_or(0), from.get(arrow.to).copied().unwrap_or(0));
            let line = if arrow.kind == ArrowKind::Link { '╌' } else { '─' };
            for cell in cells.get_mut(a.min(b) + 1..a.max(b)).into_iter().flatten() {
                if matches!(*cell, ' ' | '┊') {
                    *cell = line;
                }
            }
        }
        if row.kind == RowKind::Event {
            let bar = row.bar.and_then(|bar| self.bars.get(bar)).filter(|bar| bar.column == row.column);
            let place = bar.and_then(cell).or_else(|| from.get(row.column).copied());
            if let (Some(cell), Some(event)) = (place.and_then(|place| cells.get_mut(place)), events.get(row.event)) {
                *cell = sign(event);
            }
        }
        cells.into_iter().collect()
    }

    fn beside(&self, row: &Row, events: &[&Event]) -> String {
        let service = events.get(row.event).map_or("", |event| event.service.as_str());
        format!("{service:<12} {}", self.beside_without_service(row, events))
    }

    fn beside_without_service(&self, row: &Row, events: &[&Event]) -> String {
        let Some(event) = events.get(row.event) else { return String::new() };
        let wrong = if self.first_wrong == Some(row.event) { "  ← first wrong" } else { "" };
        let bar = row.bar.and_then(|bar| self.bars.get(bar));
        match (row.kind, bar) {
            (RowKind::Start, Some(bar)) => {
                let took = bar.took_ns.map_or_else(|| "not ended".to_owned(), duration_text);
                let failed = if bar.outcome == Outcome::Failed { ", failed" } else { "" };
                let missing = if bar.parent_missing { ", its parent is missing" } else { "" };
                match &bar.bundle {
                    Some(b) => format!(
                        "{} × {}, {} together, slowest {}{}",
                        b.count,
                        bar.operation,
                        duration_text(b.total_ns),
                        duration_text(b.slowest_ns),
                        if b.failed > 0 { format!(", {} failed", b.failed) } else { String::new() }
                    ),
                    None => format!("{} ({took}{failed}{missing}){wrong}", bar.operation),
                }
            }
            (RowKind::End, Some(bar)) if bar.outcome == Outcome::Failed => format!("{} failed", bar.operation),
            (RowKind::End, _) => String::new(),
            _ => {
                let message: String = event.message.lines().next().unwrap_or("").to_owned();
                format!("{} {message}{wrong}", sign(event))
            }
        }
    }
}

fn offset(at_ns: i64) -> String {
    if at_ns == 0 { "0".to_owned() } else { format!("+{}", duration_text(at_ns)) }
}

fn letter(n: usize) -> char {
    char::from(b'a' + (n % 26) as u8)
}

fn named(column: &super::ColumnOf) -> String {
    match column.services.as_slice() {
        [one] if one.is_empty() => "(no service)".to_owned(),
        [one] => one.clone(),
        several => format!("{} others", several.len()),
    }
}
