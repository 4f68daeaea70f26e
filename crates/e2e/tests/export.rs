//! Export: everything, once, in order, byte for byte what search answers; in pieces, with the account last; and in a form
//! that no table program runs.

use anyhow::Result;
use calvex_e2e::service::{Service, wait_for};
use serde_json::Value;

fn sent(service: &Service, lines: &str) -> Result<()> {
    let done = service.calvex_with(&["send", "--quiet"], lines.as_bytes())?;
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    Ok(())
}

#[test]
fn everything_once_and_in_order() -> Result<()> {
    // Small heads make many chunks; a part stays in the head. Soon after midnight each lane has a head for either day, so the
    // largest head of 1200 events has 400 of them.
    let service = Service::start(&[("CALVEX_HEAD_SEAL_ROWS", "250")])?;
    service.ok(&["lane", "set", "audit", "--days", "30"])?;
    service.ok(&["route", "add", "service=access", "audit"])?;
    let chunks = |wanted: usize| {
        wait_for("some chunks", || {
            // No chunk at all is exit code 1.
            let chunks = String::from_utf8(service.calvex(&["admin", "chunk", "--json"])?.stdout)?;
            Ok((chunks.lines().count() >= wanted).then_some(()))
        })
    };
    let now = jiff::Timestamp::now();
    let mut expected = Vec::new();
    for batch in 0..8 {
        let lines: String = (0..400)
            .map(|n| {
                let number = batch * 400 + n;
                // Times go back and forth, and lanes overlap.
                let time = now - jiff::SignedDuration::from_millis((number * 7919) % 600_000);
                let service = ["slots", "access", "edge"][number as usize % 3];
                expected.push((time, number));
                format!("{{\"time\":\"{time:.9}\",\"service\":\"{service}\",\"msg\":\"door {n}\\u0007 opened\",\"n\":{number},\"slot\":{{\"bank\":\"BK-{n}\",\"door\":{n}}}}}\n")
            })
            .collect();
        sent(&service, &lines)?;
        if batch == 2 {
            // A fast machine would send all before anything is sealed, and make but one chunk of each lane.
            chunks(1)?;
        }
    }
    chunks(3)?;
    let exported = service.ok(&["export", "--from", "now-1h"])?;
    let searched = service.search("", &["--from", "now-1h", "--oldest"])?;
    let lines: Vec<Value> = exported.lines().map(serde_json::from_str).collect::<Result<_, _>>()?;
    assert_eq!(lines.len(), 3200);
    assert_eq!(lines, searched, "what search answers");
    let times: Vec<&str> = lines.iter().filter_map(|l| l["time"].as_str()).collect();
    assert!(times.is_sorted());
    let narrow = service.ok(&["token", "new", "narrow", "--lane", "main", "--text"])?.trim().to_owned();
    let of_main = service.ok(&["export", "--from", "now-1h", "--token", &narrow])?;
    assert!(of_main.lines().count() > 2000 && !of_main.contains("access"));
    let some = service.calvex(&["export", "--from", "now-1h", "--limit", "10"])?;
    assert_eq!(String::from_utf8(some.stdout)?.lines().count(), 10);
    assert!(String::from_utf8(some.stderr)?.contains("there are more than 10 events"));
    assert_eq!(service.calvex(&["export", "--from", "now-1h", "service=nobody"])?.status.code(), Some(1));
    assert_eq!(service.calvex(&["export", "severity>="])?.status.code(), Some(2));
    Ok(())
}

#[test]
fn a_table_program_runs_nothing() -> Result<()> {
    let service = Service::start(&[])?;
    sent(&service, "{\"msg\":\"=HYPERLINK(1)\",\"n\":-5,\"who\":\"@me\"}\n{\"msg\":\"door, 17\",\"who\":\"-x\"}\n")?;
    let export = |more: &[&str]| {
        service.ok(&[&["export", "--from", "now-1h", "--csv", "--columns", "message,n,who"], more].concat())
    };
    let reported = export(&[])?;
    assert!(reported.contains("'=HYPERLINK(1),-5,'@me") && reported.contains("\"door, 17\",,'-x"), "{reported}");
    assert!(export(&["--formulas"])?.contains("\n=HYPERLINK(1),-5,@me"));
    Ok(())
}
