//! `calvex search`.

use crate::client::Connection;
use crate::options::{Form, Link, OUTPUT, Range, address};
use crate::shown::{Shown, Zone};
use crate::{Ended, figures, output};
use anyhow::{Result, bail};
use calvex_answer::scan::Explanation;
use calvex_language::model::Value as Event;
use calvex_language::query::{Context, parse};
use calvex_wire::api::{HistogramAnswer, MeasureAnswer, RangeAnswer, SearchAnswer, SearchRequest};
use clap::Args;
use serde_json::Value;

/// Search events, newest first; with `measure` in the query, figures. Exits 0 when something was found, 1 when nothing.
#[derive(Args)]
pub struct Search {
    /// The query: words, comparisons, a range (docs/query-language.md)
    #[arg(add = crate::proposed::query())]
    query: Vec<String>,
    /// Oldest first
    #[arg(long)]
    oldest: bool,
    /// Events at most
    #[arg(long, short = 'n', default_value_t = 100)]
    limit: usize,
    /// Counts over time instead of events
    #[arg(long)]
    histogram: bool,
    /// Show on standard error how the answer came about
    #[arg(long)]
    explain: bool,
    #[command(flatten)]
    range: Range,
    #[command(flatten)]
    form: Form,
    /// What was sent, as it came, as NDJSON: every name and form as the sender wrote it
    #[arg(long, conflicts_with_all = ["text", "histogram", "link"], help_heading = OUTPUT)]
    sent: bool,
    #[command(flatten)]
    shown: Shown,
    #[command(flatten)]
    link: Link,
    #[command(flatten)]
    connection: Connection,
}

impl Search {
    /// A search that was saved.
    pub fn of(
        query: Vec<String>,
        range: Range,
        limit: usize,
        form: Form,
        shown: Shown,
        link: Link,
        connection: Connection,
    ) -> Self {
        let (oldest, histogram, explain, sent) = (false, false, false, false);
        Search { query, oldest, limit, histogram, explain, range, form, sent, shown, link, connection }
    }

    pub async fn run(self) -> Result<Ended> {
        let query = self.query.join(" ");
        if self.link.link {
            let (order, columns) = (self.oldest.then_some("oldest"), self.shown.columns.join(","));
            let (from, to) = (self.range.from.as_deref(), self.range.to.as_deref());
            let parameters = [("q", Some(query.as_str())), ("from", from), ("to", to)];
            let list = [("order", order), ("columns", Some(columns.as_str()))];
            output::line(&address(&self.connection.first()?, "search", &[&parameters[..], &list].concat()))?;
            return Ok(Ended::Well);
        }
        let client = self.connection.open().await?;
        let mut ask = SearchRequest {
            query,
            from: self.range.from.clone(),
            to: self.range.to.clone(),
            zone: self.shown.zone.zone().name(),
            sent: self.sent,
            order: Some(if self.oldest { "oldest" } else { "newest" }.to_owned()),
            ..SearchRequest::default()
        };
        let as_json = self.form.is_json();
        if self.histogram {
            ask.buckets = Some(40);
            let answer: HistogramAnswer = client.post("/api/histogram", &ask).await?;
            return show_histogram(&answer, as_json, &self.shown.zone.zone());
        }
        if parse(&ask.query, &Context::utc(0)).query.measure.is_some() {
            ask.order = None;
            let answer: MeasureAnswer = client.post("/api/measure", &ask).await?;
            answer.warnings.iter().for_each(|w| eprintln!("{w}"));
            if self.explain {
                eprintln!("{}", explanation(&answer.range, &answer.explain));
            }
            return figures::show(&answer, as_json);
        }
        let mut left = self.limit;
        let mut found = 0;
        let mut empty = None;
        while left > 0 {
            ask.limit = Some(left.min(1000));
            let answer: SearchAnswer = client.post("/api/search", &ask).await?;
            for warning in &answer.warnings {
                eprintln!("{warning}");
            }
            answer.notes.iter().for_each(|note| eprintln!("{note}"));
            if self.sent {
                output::ndjson(&sent_of(&answer.events))?;
            } else if as_json {
                output::ndjson(&answer.events)?;
            } else {
                answer.events.iter().try_for_each(|e| output::line(&self.shown.line(e)))?;
            }
            found += answer.events.len();
            left = left.saturating_sub(answer.events.len());
            if self.explain {
                eprintln!("{}", explanation(&answer.range, &answer.explain));
            }
            check_whole(&answer.explain)?;
            empty = empty.or(answer.empty);
            ask.cursor = answer.cursor;
            // A relative range must not move while its pages are read.
            (ask.from, ask.to) = (Some(answer.range.from), Some(answer.range.to));
            if ask.cursor.is_none() {
                break;
            }
        }
        if let Some(empty) = empty.filter(|_| found == 0) {
            empty.reasons.iter().for_each(|r| eprintln!("{r}"));
        }
        Ok(if found > 0 { Ended::Well } else { Ended::Nothing })
    }
}

/// An answer that lacks something is an error, reported after what there is: a script must not take it for the whole.
///
/// # Errors
/// What is missing, and why.
pub fn check_whole(explain: &Explanation) -> Result<()> {
    let losses: Vec<&str> = explain.stopped.iter().chain(&explain.left_out).map(String::as_str).collect();
    if losses.is_empty() { Ok(()) } else { bail!("the answer is incomplete: {}", losses.join("; ")) }
}

fn explanation(range: &RangeAnswer, e: &Explanation) -> String {
    format!(
        "{} to {}: {} of {} chunks read ({} skipped by time, {} by bloom, {} of these by bloom sets, {} not needed), {} pages scanned and {} skipped, {} rows looked at, {} of them in memory, {} segments read, {} KiB of them from the database, {:.1} ms",
        range.from,
        range.to,
        e.chunks_read,
        e.chunks,
        e.skipped_by_time,
        e.skipped_by_bloom,
        e.skipped_by_bloom_set,
        e.skipped_by_order,
        e.pages_scanned,
        e.pages_skipped,
        e.rows_looked_at,
        e.head_rows,
        e.segments_read,
        e.fetched_bytes / 1024,
        e.took_us as f64 / 1000.0
    )
}

/// What was sent, of each event.
fn sent_of(events: &[Event]) -> Vec<Event> {
    events.iter().filter_map(super::export::sent_of).collect()
}

/// A row a bucket: time, count, and a bar with the errors and warnings of it.
fn show_histogram(answer: &HistogramAnswer, as_json: bool, zone: &Zone) -> Result<Ended> {
    let from: i64 = answer.from_ns.parse().unwrap_or(0);
    let ended = if answer.total > 0 { Ended::Well } else { Ended::Nothing };
    let most = answer.buckets.iter().map(|b| b.iter().sum::<u64>()).max().unwrap_or(0).max(1);
    for (i, bucket) in answer.buckets.iter().enumerate() {
        let time = calvex_language::model::time::format_utc(from + i as i64 * answer.step_ns, 3);
        if as_json {
            let names = calvex_language::model::SEVERITY_NAMES;
            let mut row = serde_json::Map::from_iter([("time".to_owned(), Value::from(time))]);
            row.extend(names.iter().zip(bucket).map(|(n, c)| ((*n).to_owned(), Value::from(*c))));
            output::json_line(&Value::Object(row).to_string())?;
            continue;
        }
        let cells = |n: u64| (n as f64 / most as f64 * 60.0).round() as usize;
        let (bad, warn) = (bucket[4] + bucket[5], bucket[3]);
        let calm: u64 = bucket[..3].iter().sum();
        let red = owo_colors::Style::new().bright_red();
        let bar = output::styled(&"█".repeat(cells(bad).max(usize::from(bad > 0))), red)
            + &output::styled(&"▓".repeat(cells(warn)), owo_colors::Style::new().yellow())
            + &output::styled(&"░".repeat(cells(calm)), owo_colors::Style::new().bright_blue());
        let count = bucket.iter().sum::<u64>();
        output::line(&format!("{}  {count:>8}  {bar}", output::faint(&zone.short(&time))))?;
    }
    check_whole(&answer.explain)?;
    Ok(ended)
}
