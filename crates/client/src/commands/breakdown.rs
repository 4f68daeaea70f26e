//! `calvex breakdown`: the top values of fields.

use super::search::check_whole;
use crate::client::Connection;
use crate::figures::bars;
use crate::options::{Form, Link, Range, address};
use crate::shown::ZoneArgs;
use crate::{Ended, output};
use anyhow::Result;
use calvex_wire::api::{BreakdownAnswer, BreakdownRequest, FieldAnswer, ValueCount};
use clap::Args;
use owo_colors::Style;
use serde_json::Value;

/// Cells of the longest bar.
const BAR: f64 = 30.0;

/// Top values of fields among the events found, with their shares. Exits 1 when no event has any of the fields.
#[derive(Args)]
pub struct Breakdown {
    /// service, severity, shape, slot.bank, a tie …
    #[arg(required = true, add = crate::proposed::field())]
    fields: Vec<String>,
    /// Which events
    #[arg(long, short = 'q', default_value = "", hide_default_value = true, add = crate::proposed::query())]
    query: String,
    /// Values of each field
    #[arg(long, short = 'n', default_value_t = 10)]
    top: usize,
    #[command(flatten)]
    range: Range,
    #[command(flatten)]
    form: Form,
    #[command(flatten)]
    zone: ZoneArgs,
    #[command(flatten)]
    link: Link,
    #[command(flatten)]
    connection: Connection,
}

impl Breakdown {
    pub async fn run(self) -> Result<Ended> {
        if self.link.link {
            let base = self.connection.first()?;
            let field = self.fields.first().map_or("", String::as_str);
            let (from, to) = (self.range.from.as_deref(), self.range.to.as_deref());
            let parameters = [("q", Some(self.query.as_str())), ("from", from), ("to", to)];
            let panel = [("fields", Some("1")), ("field", Some(field))];
            output::line(&address(&base, "search", &[&parameters[..], &panel].concat()))?;
            return Ok(Ended::Well);
        }
        let as_json = self.form.is_json();
        let ask = BreakdownRequest {
            query: self.query,
            from: self.range.from,
            to: self.range.to,
            zone: self.zone.zone().name(),
            fields: self.fields,
            top: Some(self.top),
        };
        let answer: BreakdownAnswer = self.connection.open().await?.post("/api/breakdown", &ask).await?;
        for field in &answer.fields {
            if as_json {
                for value in &field.top {
                    let row = serde_json::json!({ "field": field.field, "value": value.value, "template": value.template, "count": value.count });
                    output::json_line(&row.to_string())?;
                }
            } else {
                show(field, answer.events)?;
            }
        }
        check_whole(&answer.explain)?;
        Ok(if answer.fields.iter().any(|f| f.having > 0) { Ended::Well } else { Ended::Nothing })
    }
}

fn show(field: &FieldAnswer, events: u64) -> Result<()> {
    let share = |n: u64| n as f64 / events.max(1) as f64;
    let reported = format!(
        "{}  in {:.1} % of {events} events, {} values",
        field.field,
        share(field.having) * 100.0,
        field.distinct
    );
    output::line(&reported)?;
    let most = field.top.first().map_or(1, |v| v.count).max(1);
    let name = |v: &ValueCount| match (&v.template, &v.value) {
        (Some(template), _) => template.clone(),
        (None, Value::String(text)) => text.clone(),
        (None, value) => value.to_string(),
    };
    let widest = field.top.iter().map(|v| v.count.to_string().len()).max().unwrap_or(0);
    for value in &field.top {
        let cells = (value.count as f64 / most as f64 * BAR).round().max(1.0) as usize;
        let bar = output::styled(&format!("{:<30}", "█".repeat(cells)), Style::new().bright_blue());
        let share = share(value.count) * 100.0;
        output::line(&format!("  {:>widest$}  {share:>5.1} %  {bar}  {}", value.count, name(value)))?;
    }
    if let Some(spread) = &field.spread {
        let bars = bars(&spread.counts.iter().map(|n| *n as f64).collect::<Vec<f64>>());
        let percentiles: Vec<String> = spread.percentiles.iter().map(|(p, v)| format!("p{p} {v}")).collect();
        let scale = if spread.by_factor { ", bars by a factor" } else { "" };
        output::line(&format!("  {} {bars} {}  {}{scale}", spread.min, spread.max, percentiles.join("  ")))?;
    }
    if field.uncounted > 0 {
        output::line(&output::faint(&format!("  {} events have values beyond those counted", field.uncounted)))?;
    }
    output::line("")
}
