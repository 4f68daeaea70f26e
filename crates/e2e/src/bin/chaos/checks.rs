//! What must hold after each round, and at the end.

use crate::{Chaos, SETTLES, again};
use anyhow::{Context, Result, bail, ensure};
use calvex_e2e::buckets;
use calvex_e2e::pump::{Account, Pump, doors};
use calvex_e2e::receiver::Receiver;
use calvex_e2e::service::Service;
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

/// What is not exact for so long is printed with why.
const LONG: Duration = Duration::from_secs(15);

impl Chaos {
    /// Starts every node again that ended: that was killed, or found that its place was taken.
    pub async fn heal(&mut self) -> Result<()> {
        tokio::time::sleep(Duration::from_secs(3)).await;
        for n in 0..self.nodes.len() {
            if self.node(n)?.has_ended()? {
                again(self.node(n)?)?;
            }
        }
        Ok(())
    }

    /// Waits until every node finds exactly what was acknowledged in a round; how long that took.
    pub async fn check(&mut self, pump: &Pump, round: u64) -> Result<Duration> {
        let began = Instant::now();
        // Batches of the round that were under way are acknowledged within a request's time.
        tokio::time::sleep(Duration::from_secs(1)).await;
        loop {
            let acknowledged = pump.account().acknowledged.get(&round).cloned().unwrap_or_default();
            match exact(&self.nodes, Some(round), &acknowledged).await {
                Ok(()) => return Ok(began.elapsed()),
                // A node that finds that its place was taken ends late.
                Err(e) if began.elapsed() > SETTLES => return Err(e),
                Err(e) => {
                    self.heal().await?;
                    if began.elapsed() > LONG {
                        println!("round {round}: after {:.0} s {e:#}", began.elapsed().as_secs_f64());
                    }
                }
            }
        }
    }

    /// Adds what every node counted of its database's errors since this was asked last. What a node counted after that and
    /// before it was killed is not known.
    pub async fn note_retries(&mut self) -> Result<()> {
        for (node, before) in self.nodes.iter().zip(&mut self.counted) {
            let shown = self.client.get(format!("{}/metrics", node.url)).bearer_auth(&node.token).send().await?;
            for line in shown.text().await?.lines() {
                let counted =
                    line.strip_prefix("calvex_database_retries_total{").and_then(|rest| rest.split_once("} "));
                let Some((labels, count)) = counted else { continue };
                let count: u64 = count.trim().parse()?;
                let last = before.insert(labels.to_owned(), count).unwrap_or(0);
                // A node that was started again counts from nought.
                *self.retries.entry(labels.to_owned()).or_default() += count.checked_sub(last).unwrap_or(count);
            }
        }
        Ok(())
    }

    /// No table of the journal and none of the expired buckets is left over.
    pub fn nothing_left_over(&mut self) -> Result<()> {
        let member = self.galera.members.first().context("no server")?;
        let journal = "SELECT COUNT(*) FROM information_schema.TABLES t WHERE t.TABLE_SCHEMA = 'lockers' \
             AND t.TABLE_NAME LIKE 'journal\\_%\\_%' AND NOT EXISTS (SELECT 1 FROM lockers.journal_table j \
             WHERE t.TABLE_NAME = CONCAT('journal_', j.slot, '_', j.no))";
        let left = member.sql(journal)?;
        ensure!(left == "0", "{left} journal tables belong to nobody");
        // Whichever node has the duty drops the buckets that are due.
        let days = buckets::days(member)?;
        for (day, due) in days.iter().zip(buckets::day_of_long_ago(40)..) {
            buckets::make_due(member, *day, due)?;
        }
        ensure!(!days.is_empty(), "there were no buckets");
        let until = Instant::now() + SETTLES;
        loop {
            for node in &self.nodes {
                node.calvex(&["admin", "expire"])?;
            }
            let left = buckets::tables(self.galera.members.first().context("no server")?)?;
            if left == 0 {
                return Ok(());
            }
            ensure!(Instant::now() < until, "{left} of {} buckets that are due are left", days.len());
            std::thread::sleep(Duration::from_millis(500));
        }
    }
}

/// Whether every node finds what was acknowledged, each event once.
pub async fn exact(nodes: &[Service], round: Option<u64>, acknowledged: &BTreeSet<u64>) -> Result<()> {
    for (n, node) in nodes.iter().enumerate() {
        let found = doors(node, round).with_context(|| format!("node {}", n + 1))?;
        let missing: Vec<u64> = acknowledged.difference(&found).copied().collect();
        let some: Vec<&u64> = missing.iter().take(5).collect();
        ensure!(
            missing.is_empty(),
            "node {}: {} of {} are missing: {some:?}",
            n + 1,
            missing.len(),
            acknowledged.len()
        );
    }
    Ok(())
}

/// Every acknowledged refusal is within an alert, every alert has ended, a message reports that, each message that is listed
/// arrived, and each move was sent under one id. How many alerts, and how many messages with different ids.
pub async fn alerts(node: &Service, account: &Account, receiver: &Receiver) -> Result<(usize, usize)> {
    let until = Instant::now() + SETTLES;
    let all = loop {
        let listed = node.calvex(&["alerts", "--json"])?;
        let text = String::from_utf8_lossy(&listed.stdout).into_owned();
        let all: Vec<Value> = text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect();
        let sent = |a: &Value| a["notified"].as_array().is_some_and(|n| n.iter().all(|n| n["state"] == "sent"));
        let missing = account.refusals_ns.iter().filter(|at| !all.iter().any(|a| covers(a, **at))).count();
        if missing == 0 && all.iter().all(|a| a["ended"].is_string() && sent(a)) {
            break all;
        }
        if Instant::now() > until {
            let open: Vec<&Value> = all.iter().filter(|a| !(a["ended"].is_string() && sent(a))).take(3).collect();
            bail!(
                "{missing} refusals raised nothing; of {} alerts these are not over or not sent: {open:?}",
                all.len()
            );
        }
        tokio::time::sleep(Duration::from_millis(500)).await;
    };
    let mut ids: BTreeMap<(String, i64), BTreeSet<String>> = BTreeMap::new();
    // Moments of alerts that some message reports as over.
    let mut over: BTreeSet<i64> = BTreeSet::new();
    for arrived in receiver.arrived().await?.into_iter().filter(|a| a["kind"] == "webhook") {
        let event: Value = serde_json::from_str(arrived["text"].as_str().unwrap_or(""))?;
        let part = |value: &Value| value.as_str().unwrap_or("").to_owned();
        let raised = moment_ns(&event["data"]["raised"]).context("a message without the moment")?;
        ids.entry((part(&event["type"]), raised)).or_default().insert(part(&arrived["to"]));
        over.extend(event["data"]["ended"].is_string().then_some(raised));
        // What was raised and ended between two judgements is one message, which names them.
        let meanwhile = event["data"]["meanwhile"].as_array().into_iter().flatten();
        over.extend(meanwhile.filter_map(|span| moment_ns(&span["raised"])));
    }
    let several: Vec<_> = ids.iter().filter(|(_, ids)| ids.len() > 1).collect();
    ensure!(several.is_empty(), "sent under several ids: {several:?}");
    for alert in &all {
        let raised = moment_ns(&alert["raised"]).context("an alert without the moment")?;
        ensure!(over.contains(&raised), "no message reports the end of the alert raised {}", alert["raised"]);
        for listed in alert["notified"].as_array().into_iter().flatten() {
            let what = format!("alert.{}", listed["what"].as_str().unwrap_or(""));
            let arrived = ids.contains_key(&(what.clone(), raised));
            ensure!(arrived, "{what} of the alert raised {} was sent and never arrived", alert["raised"]);
        }
    }
    Ok((all.len(), ids.len()))
}

/// Whether an alert was raised by what happened at `at_ns`: its window, five seconds, may reach back before it was raised.
fn covers(alert: &Value, at_ns: i64) -> bool {
    let slack = 10_000_000_000;
    moment_ns(&alert["raised"]).is_some_and(|raised| raised <= at_ns + slack)
        && moment_ns(&alert["ended"]).is_none_or(|ended| at_ns <= ended + slack)
}

fn moment_ns(value: &Value) -> Option<i64> {
    let at: jiff::Timestamp = value.as_str()?.parse().ok()?;
    i64::try_from(at.as_nanosecond()).ok()
}
