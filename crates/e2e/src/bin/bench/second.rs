//! A load that the engine was not tuned to: its intake, its bytes, and questions of fields with many values and few, each
//! beside the column store on one thread.

use crate::intake::{Body, Protocol, send};
use crate::plain::{duck, time_rg};
use crate::questions::{Question, ask, ask_cold, percentile};
use crate::{BATCH, FILE_EVENTS, HOUR_NS, RUNS, SLICE, chunk_bytes, folder_bytes, rfc, start, wait_for_files};
use anyhow::{Context, Result};
use calvex_e2e::second_load::SecondLoad;
use serde_json::{Value, json};
use std::io::Write;
use std::sync::Arc;

/// Days that late events lie behind at most, and those that were moved in.
const DAYS: i64 = 13;

/// Sends `events` events, and prints a row for each question.
pub async fn second(events: usize) -> Result<()> {
    let now_ns = i64::try_from(jiff::Timestamp::now().as_nanosecond())?;
    let from_ns = now_ns - HOUR_NS;
    let work = tempfile::tempdir()?;
    let file = work.path().join("events.ndjson");
    let mut out = std::io::BufWriter::new(std::fs::File::create(&file)?);
    let service = start()?;
    let mut load = SecondLoad::new(1, from_ns, HOUR_NS * 9 / 10 / events as i64);
    let (mut sent, mut seconds, mut bytes, mut sample) = (0, 0.0, 0, String::new());
    while sent < events {
        let made = SLICE.min(events - sent);
        let sizes = (0..made.div_ceil(BATCH)).map(|n| BATCH.min(made - n * BATCH));
        let bodies: Vec<Body> = sizes.map(|events| Body { bytes: load.lines(events).into(), events }).collect();
        if sample.is_empty() {
            let text = std::str::from_utf8(&bodies.first().context("no events")?.bytes)?;
            sample = text.lines().nth(5).context("no events")?.to_owned();
        }
        if sent < FILE_EVENTS {
            bodies.iter().try_for_each(|body| out.write_all(&body.bytes))?;
        }
        bytes += bodies.iter().map(|body| body.bytes.len()).sum::<usize>();
        let rate = send(&service, &Arc::new(bodies), 8, Protocol::Ndjson).await?;
        seconds += made as f64 / rate;
        sent += made;
        println!("  {sent} events, {rate:.0} events/s");
    }
    out.flush()?;
    drop(out);
    service.ok(&["admin", "seal"])?;
    service.ok(&["admin", "merge"])?;
    let data = service.dir.join("mariadb/data/calvex");
    wait_for_files(&data)?;
    let each = |bytes: f64| bytes / events as f64;
    println!(
        "{:.0} events/s of {:.0} bytes; {:.1} bytes/event on disk, {:.1} of them chunks",
        events as f64 / seconds,
        each(bytes as f64),
        each(folder_bytes(&data) as f64),
        each(chunk_bytes(&service)? as f64)
    );
    let sample: Value = serde_json::from_str(&sample)?;
    let asking = questions(&sample, &rfc(from_ns - DAYS * 24 * HOUR_NS), &rfc(now_ns + HOUR_NS))?;
    let asked: Vec<(String, String)> = asking.iter().map(|q| (q.name.to_owned(), q.duck.clone())).collect();
    let times = duck(work.path(), &file, &asked)?.map(|(times, _)| times).unwrap_or_default();
    println!("| question | median | p99 | cold | `rg` | column store | how many times as long that took |");
    println!("| --- | --- | --- | --- | --- | --- | --- |");
    for question in &asking {
        let cold = ask_cold(&service, question).await?;
        ask(&service, question, 3).await?;
        let own = ask(&service, question, if question.needle { RUNS } else { RUNS / 5 }).await?;
        let median = percentile(&own, 50.0);
        let rg = question.pattern.as_ref().and_then(|pattern| time_rg(&file, pattern).ok());
        let rg = rg.map_or("–".to_owned(), |time| format!("{:.0} ms", time.as_secs_f64() * 1000.0));
        let duck = times.get(question.name).copied().unwrap_or(f64::NAN);
        println!(
            "| {} | {median:.1} ms | {:.1} ms | {cold:.1} ms | {rg} | {duck:.1} ms | {:.1} |",
            question.name,
            percentile(&own, 99.0),
            duck / median
        );
    }
    Ok(())
}

fn questions(sample: &Value, from: &str, to: &str) -> Result<Vec<Question>> {
    let trace = sample["trace_id"].as_str().context("the sample has no trace")?.to_owned();
    let newest = "ORDER BY time DESC LIMIT 100";
    let question = |name, path, body, duck: String, needle| Question {
        name,
        path,
        body,
        table: None,
        pattern: None,
        duck,
        goal_ms: f64::NAN,
        needle,
    };
    let search = |name, query: &str, duck: String| {
        question(name, "/api/search", json!({ "query": query, "from": from, "to": to, "limit": 100 }), duck, true)
    };
    let top = |name, query: &str, field: &str, duck: &str| {
        let body = json!({ "query": query, "from": from, "to": to, "fields": [field] });
        let only = if query.is_empty() { "" } else { "WHERE level = 'ERROR'" };
        let duck =
            format!("SELECT {duck} AS v, count(*) AS n FROM event {only} GROUP BY ALL ORDER BY n DESC, v LIMIT 10");
        question(name, "/api/breakdown", body, duck, false)
    };
    let measure = |name, query: &str, duck: &str| {
        let body = json!({ "query": query, "from": from, "to": to });
        question(name, "/api/measure", body, duck.to_owned(), false)
    };
    let errors = "severity=error";
    Ok(vec![
        Question {
            pattern: Some(trace.clone()),
            ..search(
                "one trace id",
                &format!("trace={trace}"),
                format!("SELECT * FROM event WHERE trace_id = '{trace}' {newest}"),
            )
        },
        Question {
            pattern: Some("\\bodd3\\b".into()),
            ..search("one rare word", "odd3", format!("SELECT * FROM event WHERE message LIKE '%odd3 %' {newest}"))
        },
        search(
            "newest 100 of two fields",
            "service=claims severity=error",
            format!("SELECT * FROM event WHERE service = 'claims' AND level = 'ERROR' {newest}"),
        ),
        search(
            "newest 100 of a common word",
            "invoice",
            format!("SELECT * FROM event WHERE regexp_matches(message, '\\binvoice\\b') {newest}"),
        ),
        question(
            "histogram of everything by severity",
            "/api/histogram",
            json!({ "query": "", "from": from, "to": to, "buckets": 100 }),
            "SELECT time_bucket(INTERVAL 3 HOUR, time::TIMESTAMP) AS b, level, count(*) FROM event GROUP BY ALL".into(),
            false,
        ),
        measure("errors counted", "severity=error measure count", "SELECT count(*) FROM event WHERE level = 'ERROR'"),
        top("top zones of the errors (16 values)", errors, "customer.account.zone", "customer.account.zone"),
        top("top accounts of the errors (85 thousand)", errors, "customer.account.id", "customer.account.id"),
        top("top zones of all", "", "customer.account.zone", "customer.account.zone"),
        top("top accounts of all", "", "customer.account.id", "customer.account.id"),
        top("top customers of all (a million numbers)", "", "customer.number", "customer.number"),
        top("top sessions of all (UUIDs, a new one every six events)", "", "request.session", "request.session"),
        measure(
            "mean of two fields' groups, top 20",
            "measure count, mean(amount.value) per customer.account.id, service top 20",
            "SELECT customer.account.id AS a, service, count(*) AS n, avg(amount.value) FROM event GROUP BY ALL ORDER BY n DESC LIMIT 20",
        ),
        measure(
            "accounts that differ, per service",
            "measure distinct(customer.account.id) per service",
            "SELECT service, approx_count_distinct(customer.account.id) FROM event GROUP BY ALL",
        ),
        measure(
            "p95 per zone per 5 min",
            "measure p95(took_ms) per customer.account.zone every 5m",
            "SELECT customer.account.zone AS z, time_bucket(INTERVAL 5 MINUTE, time::TIMESTAMP) AS b, approx_quantile(took_ms, 0.95) FROM event GROUP BY ALL",
        ),
        Question {
            pattern: Some("refused, try [45]".into()),
            ..measure(
                "regex with a literal part over all messages",
                "message ~ /refused, try [45]/ measure count",
                "SELECT count(*) FROM event WHERE regexp_matches(message, 'refused, try [45]')",
            )
        },
    ])
}
