//! What is asked, of the service and of its plain alternatives.

use anyhow::{Context, Result, bail};
use calvex_e2e::service::Service;
use serde_json::{Value, json};
use std::time::{Duration, Instant};

/// One question.
pub struct Question {
    /// As the report calls it.
    pub name: &'static str,
    /// Path and body for the service.
    pub path: &'static str,
    pub body: Value,
    /// For the MariaDB table; none where it has no fair form.
    pub table: Option<String>,
    /// For `rg`.
    pub pattern: Option<String>,
    /// For the column store.
    pub duck: String,
    /// The goal for ten million events, milliseconds.
    pub goal_ms: f64,
    /// Whether the answer lies in few pages.
    pub needle: bool,
}

/// Every question; `sample` is an event of the early part of the load.
pub fn questions(sample: &Value, from: &str, to: &str) -> Result<Vec<Question>> {
    let trace = sample["trace_id"].as_str().context("the sample has no trace")?.to_owned();
    let body = |query: &str| json!({ "query": query, "from": from, "to": to, "limit": 100 });
    let newest = "ORDER BY time DESC LIMIT 100";
    let search = "/api/search";
    Ok(vec![
        Question {
            name: "one trace id",
            path: search,
            body: body(&format!("trace={trace}")),
            table: Some(format!("trace = '{trace}'")),
            pattern: Some(trace.clone()),
            duck: format!("SELECT * FROM event WHERE trace_id = '{trace}' {newest}"),
            goal_ms: 10.0,
            needle: true,
        },
        Question {
            name: "one rare word",
            path: search,
            body: body("rare3"),
            table: Some("MATCH(message) AGAINST('rare3')".into()),
            pattern: Some("\\brare3\\b".into()),
            duck: format!("SELECT * FROM event WHERE message LIKE '%rare3 %' {newest}"),
            goal_ms: 10.0,
            needle: true,
        },
        Question {
            name: "one rare field value",
            path: search,
            body: body("seal=SL-3"),
            table: None,
            pattern: Some("\"SL-3\"".into()),
            duck: format!("SELECT * FROM event WHERE seal = 'SL-3' {newest}"),
            goal_ms: 10.0,
            needle: true,
        },
        Question {
            name: "words that begin so, in every second page",
            path: search,
            body: body("rare3*"),
            table: Some("MATCH(message) AGAINST('rare3*' IN BOOLEAN MODE)".into()),
            pattern: Some("\\brare3".into()),
            duck: format!("SELECT * FROM event WHERE regexp_matches(message, '\\brare3') {newest}"),
            goal_ms: 500.0,
            needle: false,
        },
        Question {
            name: "newest 100 of two fields",
            path: search,
            body: body("service=slots severity=error"),
            table: Some("service = 'slots' AND level = 'error'".into()),
            pattern: None,
            duck: format!("SELECT * FROM event WHERE service = 'slots' AND level = 'error' {newest}"),
            goal_ms: 15.0,
            needle: true,
        },
        Question {
            name: "newest 100 of a common word",
            path: search,
            body: body("door"),
            table: None,
            pattern: None,
            duck: format!("SELECT * FROM event WHERE regexp_matches(message, '\\bdoor\\b') {newest}"),
            goal_ms: 15.0,
            needle: true,
        },
        Question {
            name: "histogram of everything by severity",
            path: "/api/histogram",
            body: json!({ "query": "", "from": from, "to": to, "buckets": 100 }),
            table: None,
            pattern: None,
            duck: "SELECT time_bucket(INTERVAL 1 MINUTE, time::TIMESTAMP) AS b, level, count(*) FROM event GROUP BY ALL".into(),
            goal_ms: 100.0,
            needle: false,
        },
        Question {
            name: "top values of a field of everything",
            path: "/api/breakdown",
            body: json!({ "query": "", "from": from, "to": to, "fields": ["slot.bank"] }),
            table: None,
            pattern: None,
            duck: "SELECT slot.bank, count(*) AS n FROM event GROUP BY ALL ORDER BY n DESC LIMIT 10".into(),
            goal_ms: 100.0,
            needle: false,
        },
        Question {
            name: "p95 per service per 5 min",
            path: "/api/measure",
            body: body("measure p95(took_ms) per service every 5m"),
            table: None,
            pattern: None,
            duck: "SELECT service, time_bucket(INTERVAL 5 MINUTE, time::TIMESTAMP) AS b, approx_quantile(took_ms, 0.95) FROM event GROUP BY ALL".into(),
            goal_ms: 250.0,
            needle: false,
        },
        Question {
            name: "regex with a literal part over all messages",
            path: "/api/measure",
            body: body("message ~ /torn (again|quiet) \\w+ dim/ measure count"),
            table: None,
            pattern: Some("torn (again|quiet) \\w+ dim".into()),
            duck: "SELECT count(*) FROM event WHERE regexp_matches(message, 'torn (again|quiet) \\w+ dim')".into(),
            goal_ms: 500.0,
            needle: false,
        },
    ])
}

/// Asks the service `runs` times; milliseconds, ascending.
pub async fn ask(service: &Service, question: &Question, runs: usize) -> Result<Vec<f64>> {
    let client = reqwest::Client::builder().no_proxy().build()?;
    let mut times = Vec::with_capacity(runs);
    for _ in 0..runs {
        let began = Instant::now();
        let request = client.post(format!("{}{}", service.url, question.path)).bearer_auth(&service.token);
        let answer: Value = request.json(&question.body).send().await?.error_for_status()?.json().await?;
        times.push(began.elapsed().as_secs_f64() * 1000.0);
        let whole = answer["explain"]["stopped"].is_null();
        let found = ["events", "fields", "groups"].iter().any(|k| answer[k].as_array().is_some_and(|a| !a.is_empty()));
        if !whole || !found && answer["total"].as_u64().unwrap_or(0) == 0 {
            bail!("{}: {}", question.name, answer["explain"]);
        }
    }
    times.sort_by(f64::total_cmp);
    Ok(times)
}

/// Waits until the service does nothing any more: what it makes again of what a cold question forgot would be counted with
/// the questions after it.
async fn rested(service: &Service) -> Result<()> {
    let ticks = || -> Result<u64> {
        let stat = std::fs::read_to_string(format!("/proc/{}/stat", service.pid()))?;
        // The times in user and kernel mode are fields 14 and 15 (proc(5)); the name before them may hold blanks.
        let fields: Vec<&str> = stat.rsplit(')').next().unwrap_or("").split_whitespace().collect();
        let [user, kernel] = [11, 12].map(|n| fields.get(n).and_then(|field| field.parse::<u64>().ok()).unwrap_or(0));
        Ok(user + kernel)
    };
    for _ in 0..300 {
        let before = ticks()?;
        tokio::time::sleep(Duration::from_millis(200)).await;
        if ticks()? <= before + 2 {
            return Ok(());
        }
    }
    bail!("the service does not come to rest")
}

/// Asks once with every cache of the service empty; milliseconds, the median of some tries.
pub async fn ask_cold(service: &Service, question: &Question) -> Result<f64> {
    let client = reqwest::Client::builder().no_proxy().build()?;
    let mut times = Vec::new();
    for _ in 0..5 {
        client
            .delete(format!("{}/api/cache", service.url))
            .bearer_auth(&service.token)
            .send()
            .await?
            .error_for_status()?;
        times.extend(ask(service, question, 1).await?);
    }
    rested(service).await?;
    times.sort_by(f64::total_cmp);
    Ok(times[times.len() / 2])
}

/// The value below which `percent` of ascending `times` lie.
pub fn percentile(times: &[f64], percent: f64) -> f64 {
    let rank = (percent / 100.0 * times.len() as f64).ceil() as usize;
    times.get(rank.clamp(1, times.len().max(1)) - 1).copied().unwrap_or(f64::NAN)
}
