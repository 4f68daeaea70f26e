//! `calvex shapes`: the events found, folded by shape.

use super::search::check_whole;
use crate::client::Connection;
use crate::figures::bars;
use crate::options::{Form, Link, Range, address};
use crate::shown::ZoneArgs;
use crate::{Ended, output};
use anyhow::{Result, bail};
use calvex_language::query::{Context, parse};
use calvex_wire::api::{MeasureAnswer, SearchRequest};
use clap::Args;
use serde_json::{Value, json};

/// Points of the trend.
const POINTS: i64 = 24;

/// The shapes of the messages found: how many events each, their trend over the range, first and last.
#[derive(Args)]
pub struct Shapes {
    /// Which events
    #[arg(add = crate::proposed::query())]
    query: Vec<String>,
    /// Shapes at most
    #[arg(long, short = 'n', default_value_t = 20)]
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

impl Shapes {
    pub async fn run(self) -> Result<Ended> {
        let query = self.query.join(" ");
        let parsed = parse(&query, &Context::utc(0)).query;
        if parsed.measure.is_some() || parsed.over.is_some() {
            bail!("`calvex shapes` takes a filter alone; give the range with --from and --to");
        }
        if self.link.link {
            let base = self.connection.first()?;
            let (from, to) = (self.range.from.as_deref(), self.range.to.as_deref());
            let parameters = [("q", Some(query.as_str())), ("from", from), ("to", to), ("view", Some("shapes"))];
            output::line(&address(&base, "search", &parameters))?;
            return Ok(Ended::Well);
        }
        let (zone, as_json) = (self.zone.zone(), self.form.is_json());
        let client = self.connection.open().await?;
        let ask = |measure: String, from: Option<String>, to: Option<String>| SearchRequest {
            query: format!("{query} measure {measure}"),
            from,
            to,
            zone: zone.name(),
            ..SearchRequest::default()
        };
        let figures = format!("count as n, min(time) as first, max(time) as last per shape top {}", self.top);
        let reported: MeasureAnswer =
            client.post("/api/measure", &ask(figures, self.range.from.clone(), self.range.to.clone())).await?;
        check_whole(&reported.explain)?;
        let ns = |t: &str| calvex_language::model::time::parse_time(t).unwrap_or(0);
        // The trend over the range as it was understood, so that "now" is one moment for both.
        let step_s = ((ns(&reported.range.to) - ns(&reported.range.from)) / POINTS / 1_000_000_000).max(1);
        let trend = format!("count as n per shape every {step_s}s top {}", self.top);
        let (from, to) = (reported.range.from.clone(), reported.range.to.clone());
        let trend: MeasureAnswer = client.post("/api/measure", &ask(trend, Some(from), Some(to))).await?;
        let trend_of = |shape: &Value| -> Vec<f64> {
            let group = trend.groups.iter().find(|g| g.values.first() == Some(shape));
            group.map(|g| g.steps.iter().filter_map(|s| s.first()?.as_f64()).collect()).unwrap_or_default()
        };
        let mut rows = Vec::new();
        for group in &reported.groups {
            let Some(shape @ Value::String(id)) = group.values.first() else { continue };
            let template = reported.shapes.get(id).map_or("", String::as_str);
            let figure = |n: usize| group.total.get(n).and_then(Value::as_f64).unwrap_or(0.0);
            let time = |n: usize| calvex_language::model::time::format_utc(figure(n) as i64, 3);
            if as_json {
                let row = json!({ "shape": id, "template": template, "count": figure(0) as u64, "first": time(1), "last": time(2), "trend": trend_of(shape) });
                output::json_line(&row.to_string())?;
                continue;
            }
            let clock = |n: usize| zone.short(&time(n));
            rows.push(vec![
                format!("{}", figure(0) as u64),
                bars(&trend_of(shape)),
                clock(1),
                clock(2),
                id.clone(),
                template.to_owned(),
            ]);
        }
        let found = reported.groups.iter().any(|g| g.values.first().is_some_and(Value::is_string));
        if !as_json && found {
            output::table(&["events", "trend", "first", "last", "shape", "message"], rows)?;
        }
        Ok(if found { Ended::Well } else { Ended::Nothing })
    }
}
