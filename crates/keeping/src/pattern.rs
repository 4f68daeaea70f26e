//! `calvex pattern`: line patterns tried on lines, and proposed from them. Works without a service.

use anyhow::{Context, Result, bail};
use calvex_client::now_ns;
use calvex_client::options::Form;
use calvex_client::options::patterns_of;
use calvex_client::{Ended, output};
use calvex_intake::line::{cut_by, learn};
use clap::{Args, Subcommand};
use owo_colors::Style;
use serde_json::json;
use std::io::{BufRead, BufReader, Read};

/// Lines read at most.
const MAX_LINES: usize = 100_000;
/// Lines shown that no pattern fits.
const MAX_MISSES: usize = 10;

/// Line patterns: plain text cut into fields.
#[derive(Args)]
pub struct Pattern {
    #[command(subcommand)]
    act: PatternAct,
}

#[derive(Subcommand)]
enum PatternAct {
    /// Try patterns on the lines of a file: what they give, and where lines stop fitting
    Try {
        /// A pattern such as '{time} {severity} {word logger}: {rest message}'; the first that fits is taken
        #[arg(short, long = "pattern", value_name = "PATTERN", required = true)]
        patterns: Vec<String>,
        /// The file; - for standard input
        file: String,
        #[command(flatten)]
        form: Form,
    },
    /// Propose patterns for the lines of a file
    Learn {
        /// The file; - for standard input
        file: String,
        #[command(flatten)]
        form: Form,
    },
}

fn lines_of(file: &str) -> Result<Vec<String>> {
    let reader: Box<dyn Read> = match file {
        "-" => Box::new(std::io::stdin()),
        path => Box::new(std::fs::File::open(path).with_context(|| format!("cannot read {path}"))?),
    };
    let mut lines = Vec::new();
    for line in BufReader::new(reader).split(b'\n').take(MAX_LINES) {
        let line = line.with_context(|| format!("cannot read {file}"))?;
        let line = String::from_utf8_lossy(&line).trim_end_matches('\r').to_owned();
        if !line.is_empty() {
            lines.push(line);
        }
    }
    Ok(lines)
}

impl Pattern {
    pub fn run(self) -> Result<Ended> {
        match self.act {
            PatternAct::Try { patterns, file, form } => tried(&patterns, &lines_of(&file)?, form.is_json()),
            PatternAct::Learn { file, form } => {
                let lines = lines_of(&file)?;
                let lines: Vec<&str> = lines.iter().map(String::as_str).collect();
                if lines.is_empty() {
                    bail!("{file} has no lines to learn from");
                }
                let (learnt, left) = learn(&lines, now_ns());
                for l in &learnt {
                    if form.is_json() {
                        let row = json!({ "pattern": l.pattern.text(), "lines": l.lines, "example": l.example });
                        output::json_line(&row.to_string())?;
                    } else {
                        output::line(l.pattern.text())?;
                        output::line(&output::faint(&format!("    lines: {}, as: {}", l.lines, short(&l.example))))?;
                    }
                }
                if left > 0 {
                    eprintln!("lines that fit none of these: {left}");
                }
                Ok(if learnt.is_empty() { Ended::Nothing } else { Ended::Well })
            }
        }
    }
}

fn short(line: &str) -> String {
    line.chars().take(100).collect()
}

fn tried(texts: &[String], lines: &[String], json: bool) -> Result<Ended> {
    let patterns = patterns_of(texts)?;
    let mut fitted = vec![0usize; patterns.len()];
    let mut missed = Vec::new();
    let mut shown = vec![false; patterns.len()];
    for (n, line) in lines.iter().enumerate() {
        match cut_by(&patterns, line, now_ns()) {
            Ok((pattern, cuts)) => {
                let which = patterns.iter().position(|p| p == pattern).unwrap_or(0);
                fitted[which] += 1;
                if json {
                    let fields: serde_json::Map<String, serde_json::Value> =
                        cuts.iter().map(|c| (c.name.to_owned(), c.to_string().into())).collect();
                    output::json_line(&serde_json::to_string(&fields)?)?;
                } else if !shown[which] {
                    shown[which] = true;
                    output::line(&short(line))?;
                    let width = cuts.iter().map(|c| c.name.chars().count()).max().unwrap_or(0);
                    for cut in &cuts {
                        let name = output::faint(&format!("{:width$}", cut.name));
                        output::line(&format!("    {name}  {cut}  {}", output::faint(cut.kind.name())))?;
                    }
                }
            }
            Err(miss) => missed.push((n + 1, line, miss)),
        }
    }
    if json {
        return Ok(if missed.len() == lines.len() { Ended::Nothing } else { Ended::Well });
    }
    for (n, line, miss) in missed.iter().take(MAX_MISSES) {
        let Some((pattern, miss)) = miss else { continue };
        let (fits, left) = line.split_at(miss.at.min(line.len()));
        output::line("")?;
        output::line(&format!("line {n}: {fits}{}", output::styled(left, Style::new().underline().yellow())))?;
        let column = fits.chars().count() + 1;
        output::line(&format!("    pattern {} fits up to column {column}: {miss}", pattern + 1))?;
    }
    output::line("")?;
    for (text, fitted) in texts.iter().zip(&fitted) {
        output::line(&format!("{fitted} of {} lines fit {text}", lines.len()))?;
    }
    if !missed.is_empty() {
        output::line(&format!("lines that fit none: {}", missed.len()))?;
    }
    Ok(if fitted.iter().all(|n| *n == 0) { Ended::Nothing } else { Ended::Well })
}
