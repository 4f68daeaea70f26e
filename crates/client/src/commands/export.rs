//! `calvex export`: everything a query finds, to a file or standard output, as NDJSON or CSV (RFC 4180).

use super::search::check_whole;
use crate::Ended;
use crate::client::{Client, Connection};
use crate::options::Range;
use crate::shown::{ZoneArgs, field_text, value_text};
use anyhow::{Context, Result, bail};
use calvex_language::model::Value as Exact;
use calvex_language::model::parse_value;
use calvex_language::query::{Context as Reading, parse};
use calvex_wire::api::{ExportEnd, MeasureAnswer, SearchRequest};
use clap::Args;
use indicatif::{ProgressBar, ProgressStyle};
use serde_json::Value;
use std::io::{BufWriter, Write};
use std::path::PathBuf;

/// The columns of a CSV of events where none are named.
const COLUMNS: &str = "time,severity,service,host,message,trace";

/// Write every event a query finds, the oldest first, or the figures of a `measure`. Exits 1 when there is nothing.
#[derive(Args)]
pub struct Export {
    /// The query (docs/query-language.md)
    #[arg(add = crate::proposed::query())]
    query: Vec<String>,
    /// What was sent, as it came, instead of events
    #[arg(long, conflicts_with = "csv")]
    sent: bool,
    /// As CSV instead of NDJSON
    #[arg(long)]
    csv: bool,
    /// The columns of a CSV of events: builtins and fields, joined by commas
    #[arg(long, default_value = COLUMNS, requires = "csv", value_delimiter = ',')]
    columns: Vec<String>,
    /// Leave cells of a CSV as they are, also those that a table program would run as a formula; otherwise these begin
    /// with an apostrophe
    #[arg(long, requires = "csv")]
    formulas: bool,
    /// Where to; standard output if not given
    #[arg(long, short = 'o', value_name = "FILE")]
    output: Option<PathBuf>,
    /// Events at most; reported on standard error where it cuts something off
    #[arg(long, default_value_t = 10_000_000)]
    limit: usize,
    #[command(flatten)]
    range: Range,
    #[command(flatten)]
    zone: ZoneArgs,
    #[command(flatten)]
    connection: Connection,
}

/// Where rows go.
enum Sink {
    Ndjson(Box<dyn Write + Send>),
    Csv(Box<csv::Writer<Box<dyn Write + Send>>>),
}

impl Export {
    pub async fn run(self) -> Result<Ended> {
        let client = self.connection.open().await?;
        let out: Box<dyn Write + Send> = match &self.output {
            Some(path) => {
                let file = std::fs::File::create(path).with_context(|| format!("cannot write {}", path.display()))?;
                Box::new(BufWriter::new(file))
            }
            None => Box::new(BufWriter::new(std::io::stdout())),
        };
        let sink = if self.csv { Sink::Csv(Box::new(csv::Writer::from_writer(out))) } else { Sink::Ndjson(out) };
        let ask = SearchRequest {
            query: self.query.join(" "),
            from: self.range.from.clone(),
            to: self.range.to.clone(),
            zone: self.zone.zone().name(),
            sent: self.sent,
            ..SearchRequest::default()
        };
        match parse(&ask.query, &Reading::utc(0)).query.measure {
            Some(_) => figures(&client, &ask, sink, self.formulas).await,
            None => self.events(&client, ask, sink).await,
        }
    }

    async fn events(&self, client: &Client, mut ask: SearchRequest, mut sink: Sink) -> Result<Ended> {
        ask.limit = Some(self.limit);
        let bar = ProgressBar::new_spinner();
        let style = ProgressStyle::with_template("{spinner} {human_pos} events, {per_sec}");
        bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_spinner()));
        if let Sink::Csv(csv) = &mut sink {
            csv.write_record(&self.columns)?;
        }
        let mut answer = client.stream("/api/export", &ask).await?;
        // The last line is the account, so one whole line is always held back.
        let mut held = Vec::new();
        while let Some(piece) = answer.chunk().await? {
            held.extend_from_slice(&piece);
            let lines = memchr::memrchr(b'\n', held.get(..held.len().saturating_sub(1)).unwrap_or_default());
            let Some(end) = lines.map(|at| at + 1) else { continue };
            let whole = held.get(..end).unwrap_or_default();
            bar.inc(memchr::memchr_iter(b'\n', whole).count() as u64);
            self.write(whole, &mut sink)?;
            held.drain(..end);
        }
        let account = match serde_json::from_slice(&held).context("the export broke off; begin it again")? {
            ExportEnd::Account(account) => account,
            ExportEnd::Problem(problem) => bail!("{}", problem.detail),
        };
        sink.finish()?;
        bar.finish_and_clear();
        check_whole(&account.explain)?;
        if account.more {
            eprintln!(
                "calvex export: there are more than {} events; raise --limit, or narrow the range",
                account.events
            );
        }
        Ok(if account.events > 0 { Ended::Well } else { Ended::Nothing })
    }

    /// Writes whole lines.
    fn write(&self, lines: &[u8], sink: &mut Sink) -> Result<()> {
        match sink {
            Sink::Ndjson(out) if self.sent => {
                for line in lines.split(|b| *b == b'\n').filter(|l| !l.is_empty()) {
                    let event = parse_value(std::str::from_utf8(line)?)?;
                    let sent = sent_of(&event).context("the service answered without what was sent; it is older")?;
                    serde_json::to_writer(&mut *out, &sent)?;
                    out.write_all(b"\n")?;
                }
            }
            Sink::Ndjson(out) => out.write_all(lines)?,
            Sink::Csv(csv) => {
                for line in lines.split(|b| *b == b'\n').filter(|l| !l.is_empty()) {
                    // Read as exactly as it was kept: a number may have more digits than a double.
                    let event = parse_value(std::str::from_utf8(line)?)?;
                    let cell = |column: &String| defused(field_text(&event, column), self.formulas);
                    csv.write_record(self.columns.iter().map(cell))?;
                }
            }
        }
        Ok(())
    }
}

/// What was sent, of an event that was answered with it.
pub(super) fn sent_of(event: &Exact) -> Option<Exact> {
    let Exact::Object(parts) = event else { return None };
    parts.iter().find(|(name, _)| name == "sent").map(|(_, sent)| sent.clone())
}

/// A cell that a table program would take for a formula begins with `'` instead, unless `formulas` may be.
fn defused(cell: String, formulas: bool) -> String {
    let formula = !formulas && cell.starts_with(['=', '+', '-', '@', '\t', '\r']) && cell.parse::<f64>().is_err();
    if formula { format!("'{cell}") } else { cell }
}

impl Sink {
    fn finish(self) -> Result<()> {
        match self {
            Sink::Ndjson(mut out) => out.flush()?,
            Sink::Csv(mut csv) => csv.flush()?,
        }
        Ok(())
    }
}

async fn figures(client: &Client, ask: &SearchRequest, mut sink: Sink, formulas: bool) -> Result<Ended> {
    let answer: MeasureAnswer = client.post("/api/measure", ask).await?;
    let stepped = !answer.steps.is_empty();
    let names = answer.per.iter().cloned().chain(answer.aggregates.iter().map(|a| a.name.clone()));
    let head: Vec<String> = stepped.then(|| "from".to_owned()).into_iter().chain(names).collect();
    if let Sink::Csv(csv) = &mut sink {
        csv.write_record(&head)?;
    }
    let mut rows = 0;
    for group in &answer.groups {
        let steps: Vec<(Option<&str>, &Vec<Value>)> = if stepped {
            answer.steps.iter().map(|s| Some(s.from.as_str())).zip(&group.steps).collect()
        } else {
            vec![(None, &group.total)]
        };
        for (from, cells) in steps {
            let values =
                from.map(Value::from).into_iter().chain(group.values.iter().cloned()).chain(cells.iter().cloned());
            match &mut sink {
                Sink::Ndjson(out) => {
                    let row: serde_json::Map<String, Value> = head.iter().cloned().zip(values).collect();
                    serde_json::to_writer(&mut *out, &row)?;
                    out.write_all(b"\n")?;
                }
                Sink::Csv(csv) => csv.write_record(values.map(|v| defused(value_text(&v), formulas)))?,
            }
            rows += 1;
        }
    }
    sink.finish()?;
    if let Some(limited) = &answer.limited {
        eprintln!("calvex export: {limited}");
    }
    check_whole(&answer.explain)?;
    Ok(if rows > 0 { Ended::Well } else { Ended::Nothing })
}
