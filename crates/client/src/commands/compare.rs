//! `calvex compare`: what differs between two sets of events.

use super::search::check_whole;
use crate::client::Connection;
use crate::options::{Form, Link, Range, address};
use crate::shown::ZoneArgs;
use crate::{Ended, output};
use anyhow::Result;
use calvex_answer::compare::{Change, Finding, FindingKind};
use calvex_answer::story::duration_text;
use calvex_wire::api::{CompareAnswer, CompareRequest};
use clap::Args;
use owo_colors::Style;

/// Cells of a whole bar on either side of the axis.
const BAR: usize = 20;

/// What differs between the events of a range and those before it, the best explanation first. Exits 1 where nothing does.
#[derive(Args)]
pub struct Compare {
    /// Which events
    #[arg(add = crate::proposed::query())]
    query: Vec<String>,
    /// Start of the baseline; the range of the same length just before if not given
    #[arg(long, value_name = "TIME", help_heading = "Range")]
    before_from: Option<String>,
    /// End of the baseline
    #[arg(long, value_name = "TIME", requires = "before_from", help_heading = "Range")]
    before_to: Option<String>,
    /// Compare with these events, of the same range
    #[arg(long, value_name = "QUERY", conflicts_with_all = ["before_from", "before_to"], help_heading = "Range")]
    before_query: Option<String>,
    /// The same time so much earlier is the baseline: 1d, 7d
    #[arg(long, value_name = "DURATION", conflicts_with_all = ["before_from", "before_to"], help_heading = "Range")]
    earlier: Option<String>,
    /// Compare all spans and events of the traces that the queries find, the newest 500 of each
    #[arg(long)]
    whole_traces: bool,
    /// Findings at most
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

impl Compare {
    pub async fn run(self) -> Result<Ended> {
        let query = self.query.join(" ");
        if self.link.link {
            let parameters = [
                ("q", Some(query.as_str())),
                ("from", self.range.from.as_deref()),
                ("to", self.range.to.as_deref()),
                ("before_from", self.before_from.as_deref()),
                ("before_to", self.before_to.as_deref()),
                ("before_q", self.before_query.as_deref()),
                ("earlier", self.earlier.as_deref()),
                ("whole", self.whole_traces.then_some("1")),
            ];
            output::line(&address(&self.connection.first()?, "compare", &parameters))?;
            return Ok(Ended::Well);
        }
        let zone = self.zone.zone();
        let ask = CompareRequest {
            query,
            from: self.range.from,
            to: self.range.to,
            before_from: self.before_from,
            before_to: self.before_to,
            before_query: self.before_query,
            earlier: self.earlier,
            whole_traces: self.whole_traces,
            zone: zone.name(),
        };
        let answer: CompareAnswer = self.connection.open().await?.post("/api/compare", &ask).await?;
        let differs = answer.findings.iter().any(|finding| finding.kind != FindingKind::Mark);
        if self.form.is_json() {
            output::ndjson(&answer.findings)?;
        } else {
            output::line(&output::plain(&answer.headline))?;
            for (name, side) in [("baseline", &answer.baseline), ("current", &answer.current)] {
                let (from, to) = (zone.short(&side.range.from), zone.short(&side.range.to));
                let what = if side.query.is_empty() { "every event" } else { &side.query };
                let count = format!("{} events, {} requests", side.count.events, side.count.units);
                output::line(&output::faint(&format!("{name:<9} {from} to {to}  {count}  {what}")))?;
            }
            if let Some(share) = answer.sampled {
                output::line(&output::faint(&format!("from {:.0} % of the pages", share * 100.0)))?;
            }
            if answer.findings.is_empty() {
                output::line("Nothing stands out.")?;
            }
            let marks = answer.findings.iter().filter(|f| f.kind == FindingKind::Mark);
            let others = answer.findings.iter().filter(|f| f.kind != FindingKind::Mark);
            for finding in others.take(self.top).chain(marks) {
                output::line(&line(finding, &zone))?;
            }
        }
        check_whole(&answer.explain)?;
        Ok(if differs { Ended::Well } else { Ended::Nothing })
    }
}

/// One finding: its share in both sets as bars on either side of an axis, and what it is.
fn line(finding: &Finding, zone: &crate::shown::Zone) -> String {
    if finding.kind == FindingKind::Mark {
        let at = finding.at.as_deref().map_or_else(String::new, |at| zone.short(at));
        return format!("{:>w$} │ {:<w$}  mark {at}  {}", "", "", output::plain(&finding.value), w = BAR);
    }
    let most = finding.baseline.max(finding.current).max(1e-12);
    // Shares are drawn as they are, anything else against the larger of the two.
    let scale = if matches!(finding.kind, FindingKind::Shape | FindingKind::Number) { most } else { 1.0 };
    let cells = |n: f64| ((n / scale * BAR as f64).round() as usize).max(usize::from(n > 0.0)).min(BAR);
    let (left, right) = (cells(finding.baseline), cells(finding.current));
    let style = match finding.change {
        Change::New | Change::More | Change::Higher => Style::new().bright_red(),
        _ => Style::new().bright_blue(),
    };
    let bars = format!(
        "{}{}│{}{}",
        " ".repeat(BAR - left),
        output::faint(&"█".repeat(left)),
        output::styled(&"█".repeat(right), style),
        " ".repeat(BAR - right)
    );
    let amount = |n: f64| match finding.kind {
        FindingKind::Shape => format!("{n:.3}"),
        FindingKind::Number if finding.field == "took" => duration_text(n as i64),
        FindingKind::Number => format!("{n:.1}"),
        _ => format!("{:.1} %", n * 100.0),
    };
    let change = match finding.change {
        Change::New => "new",
        Change::Gone => "gone",
        Change::More => "more",
        Change::Fewer => "fewer",
        Change::Higher => "higher",
        Change::Lower => "lower",
        Change::Made => "made",
    };
    let what = match &finding.template {
        Some(template) => format!("shape {template}"),
        None if finding.value.is_empty() => {
            let percent = finding.percent.map_or_else(String::new, |p| format!("p{p:.0} of "));
            format!("{percent}{}", finding.field)
        }
        None => finding.query.clone(),
    };
    let also = if finding.also.is_empty() { String::new() } else { format!("  also {}", finding.also.join(", ")) };
    format!(
        "{bars} {change:<6} {:>3.0} %  {} → {}  {}",
        finding.explained * 100.0,
        amount(finding.baseline),
        amount(finding.current),
        output::plain(&(what + &also)),
    )
}
