//! A rule of every form, judged live over events that come late, in pieces and out of order, with the service killed on the
//! way: in the end it was raised when a rehearsal over the stored past says.

use anyhow::{Context, Result};
use calvex_e2e::service::{PATIENCE, Service};
use serde_json::{Value, json};
use std::time::Instant;

const SECOND: i64 = 1;
const MINUTE: i64 = 60 * SECOND;
const HOUR: i64 = 60 * MINUTE;
const DAY: i64 = 24 * HOUR;

/// By name, each with a form of its own; all judge what comes up to three hours late.
const RULES: [(&str, &str); 9] = [
    ("refused", "for = '1m'\n[threshold]\nevents = 'refused'\nper = ['zone']\nover = '5m'\nabove = 3\n"),
    ("failed", "for = '1m'\n[share]\nevents = 'payment'\nof = 'failed'\nover = '5m'\nabove = 0.5\nleast = 4\n"),
    ("silent", "[silence]\nevents = 'beat'\nper = ['bank']\ntimes = 3\n"),
    ("new zone", "[first-seen]\nwhat = 'zone'\nunseen = '1h'\nover = '10m'\n"),
    ("rate", "for = '1m'\n[deviation]\nevents = 'drop'\nover = '5m'\nabove = 4\nleast = 10\nlike = 'day'\n"),
    ("answers", "[objective]\nall = 'answer'\ngood = 'ok'\npercent = 90\nperiod = '1d'\n"),
    ("open doors", "[unfinished]\nbegins = 'opened'\nends = 'closed'\ntie = 'door'\nwithin = '10m'\n"),
    ("failures", "[error-group]\nwhich = 'new'\n"),
    ("fine", "[threshold]\nevents = 'refused'\nover = '5m'\nabove = 4000\n"),
];

/// Events, in seconds before the end, every so often from one time to another.
fn every(step: i64, (from, to): (i64, i64), event: &Value) -> Vec<(i64, Value)> {
    (0..).map(|n| from - n * step).take_while(|at| *at > to).map(|at| (at, event.clone())).collect()
}

/// What stood before: so that it is known what is usual.
fn usual() -> Vec<(i64, Value)> {
    let mut all = Vec::new();
    let beat = |bank: &str| json!({ "service": "locker-agent", "msg": "beat", "bank": bank });
    all.extend(every(2 * MINUTE, (5 * HOUR, 2 * HOUR), &beat("BK-1")));
    all.extend(every(2 * MINUTE, (5 * HOUR, 2 * HOUR), &beat("BK-2")));
    all.extend(every(
        10 * MINUTE,
        (5 * HOUR, 2 * HOUR),
        &json!({ "service": "edge", "msg": "hello", "zone": "north" }),
    ));
    let drop = json!({ "service": "parcels", "msg": "drop" });
    for day in 1..=4 {
        all.extend(every(30 * SECOND, (day * DAY + 3 * HOUR, day * DAY - HOUR), &drop));
    }
    all.extend(every(30 * SECOND, (3 * HOUR, 2 * HOUR), &drop));
    all.extend(every(10 * SECOND, (5 * HOUR, 2 * HOUR), &json!({ "service": "edge", "msg": "answer ok" })));
    all.extend(every(
        4 * HOUR,
        (8 * DAY, 2 * HOUR),
        &json!({ "service": "sorter", "msg": "belt stuck", "level": "error" }),
    ));
    all
}

/// What comes late.
fn late() -> Vec<(i64, Value)> {
    let mut all = Vec::new();
    let beat = |bank: &str| json!({ "service": "locker-agent", "msg": "beat", "bank": bank });
    all.extend(every(2 * MINUTE, (2 * HOUR, 0), &beat("BK-1")));
    // One falls silent for forty minutes.
    all.extend(every(2 * MINUTE, (2 * HOUR, HOUR), &beat("BK-2")));
    all.extend(every(2 * MINUTE, (20 * MINUTE, 0), &beat("BK-2")));
    all.extend(every(10 * MINUTE, (2 * HOUR, 0), &json!({ "service": "edge", "msg": "hello", "zone": "north" })));
    all.push((50 * MINUTE, json!({ "service": "edge", "msg": "hello", "zone": "south" })));
    let drop = json!({ "service": "parcels", "msg": "drop" });
    all.extend(every(30 * SECOND, (2 * HOUR, 0), &drop));
    all.extend(every(10 * SECOND, (HOUR, 50 * MINUTE), &drop));
    all.extend(every(10 * SECOND, (2 * HOUR, HOUR), &json!({ "service": "edge", "msg": "answer ok" })));
    all.extend(every(10 * SECOND, (HOUR, 40 * MINUTE), &json!({ "service": "edge", "msg": "answer bad" })));
    all.extend(every(10 * SECOND, (40 * MINUTE, 0), &json!({ "service": "edge", "msg": "answer ok" })));
    let refused = |zone: &str| json!({ "service": "edge", "msg": "drop-off refused", "zone": zone });
    all.extend(every(SECOND, (45 * MINUTE, 45 * MINUTE - 5), &refused("north")));
    all.extend(every(SECOND, (25 * MINUTE, 25 * MINUTE - 6), &refused("south")));
    all.extend(every(
        SECOND,
        (30 * MINUTE, 30 * MINUTE - 9),
        &json!({ "service": "billing", "msg": "payment failed" }),
    ));
    all.extend(every(SECOND, (30 * MINUTE, 30 * MINUTE - 8), &json!({ "service": "billing", "msg": "payment held" })));
    all.push((52 * MINUTE, json!({ "service": "locker-agent", "msg": "opened", "door": 4 })));
    all.push((20 * MINUTE, json!({ "service": "locker-agent", "msg": "closed", "door": 4 })));
    all.push((51 * MINUTE, json!({ "service": "locker-agent", "msg": "opened", "door": 5 })));
    all.push((49 * MINUTE, json!({ "service": "locker-agent", "msg": "closed", "door": 5 })));
    all.push((35 * MINUTE, json!({ "service": "codes", "msg": "printer empty", "level": "error" })));
    all
}

fn send<'a>(service: &Service, end: jiff::Timestamp, events: impl Iterator<Item = &'a (i64, Value)>) -> Result<()> {
    let mut body = String::new();
    for (before, event) in events {
        let mut event = event.clone();
        event["time"] = json!((end - jiff::SignedDuration::from_secs(*before)).to_string());
        body += &format!("{event}\n");
    }
    let sent = service.calvex_with(&["send", "--quiet"], body.as_bytes())?;
    anyhow::ensure!(sent.status.success(), "{}", String::from_utf8_lossy(&sent.stderr));
    Ok(())
}

/// When it was raised and ended, and which groups: a line each, in order.
fn raised(alerts: impl Iterator<Item = Value>, name_of: impl Fn(&Value) -> String) -> Vec<String> {
    let line = |alert: Value| {
        let groups = alert["groups"].as_array().into_iter().flatten().filter(|group| group["withdrawn"] != true);
        let mut groups: Vec<String> = groups.map(&name_of).collect();
        groups.sort();
        format!("{} to {} {groups:?}", alert["raised"], alert["ended"])
    };
    let mut all: Vec<String> = alerts.map(line).collect();
    all.sort();
    all
}

fn lines(text: &[u8]) -> Vec<Value> {
    String::from_utf8_lossy(text).lines().filter_map(|line| serde_json::from_str(line).ok()).collect()
}

#[test]
fn every_form_is_judged_live_as_it_is_rehearsed() -> Result<()> {
    let mut service = Service::start(&[])?;
    let end = jiff::Timestamp::now();
    send(&service, end, usual().iter())?;
    service.ok(&["admin", "seal"])?;
    let mut files = Vec::new();
    for (n, (name, form)) in RULES.iter().enumerate() {
        let path = service.dir.join(format!("rule{n}.toml"));
        std::fs::write(&path, format!("name = '{name}'\ndelay = '0s'\nlate = '3h'\n{form}"))?;
        service.ok(&["rule", "apply", &path.display().to_string()])?;
        files.push(path);
    }
    // In five pieces, none of which is in order or has what the next one has; the service is killed between two of them.
    let late = late();
    for piece in [3, 0, 4, 1, 2] {
        send(&service, end, late.iter().enumerate().filter(|(n, _)| n % 5 == piece).map(|(_, event)| event))?;
        if piece == 4 {
            service.kill()?;
            service.restart()?;
        }
    }
    for ((name, _), path) in RULES.iter().zip(&files) {
        let until = Instant::now() + PATIENCE;
        loop {
            let alerts = lines(&service.calvex(&["alerts", "--json"])?.stdout);
            let alerts = alerts.into_iter().filter(|a| a["rule"] == *name && a["withdrawn"] != true);
            let live = raised(alerts, |group| group["name"].as_str().unwrap_or("").to_owned());
            let path = path.display().to_string();
            let rehearsed = lines(&service.calvex(&["rule", "rehearse", &path, "--days", "0.09", "--json"])?.stdout);
            let expected = raised(rehearsed.into_iter(), |group| group.as_str().unwrap_or("").to_owned());
            if live == expected && expected.is_empty() == (*name == "fine") {
                break;
            }
            anyhow::ensure!(Instant::now() < until, "{name}: {live:#?} is not {expected:#?}");
            std::thread::sleep(std::time::Duration::from_millis(100));
        }
    }
    // Nothing is left that went wrong on the way.
    let rules = lines(&service.calvex(&["rule", "list", "--json"])?.stdout);
    let refused = rules.iter().find(|rule| rule["name"] == "refused").context("no rule")?;
    assert!(rules.iter().all(|rule| rule["condition"].is_null()), "{refused}");
    Ok(())
}
