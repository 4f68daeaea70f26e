//! Bloom sets through the real binary: an id is found through them and only its chunk is opened; kills, restarts, cold caches
//! and chunks that came after them change no answer.
#![allow(clippy::unwrap_used, reason = "a test may end where it stands")]

use anyhow::Result;
use calvex_e2e::service::{Service, wait_for};
use serde_json::{Value, json};

const CHUNKS: usize = 18;
const EACH: usize = 400;

/// Chunks of this size are large: they are not merged any more.
const SMALL: [(&str, &str); 2] = [("CALVEX_HEAD_SEAL_ROWS", "400"), ("CALVEX_MERGE_ROWS", "800")];

fn trace(n: usize) -> String {
    format!("{:032x}", (n as u128 + 1).wrapping_mul(0x9e37_79b9_7f4a_7c15_f39c_c060_5ced_c835))
}

/// A while ago, but today: events of two days would stand in two chunks.
fn start() -> jiff::Timestamp {
    let now = jiff::Timestamp::now();
    let midnight = now.to_zoned(jiff::tz::TimeZone::UTC).start_of_day().map_or(now, |day| day.timestamp());
    midnight.max(now - jiff::SignedDuration::from_mins(8))
}

fn send(service: &Service, start: jiff::Timestamp, chunk: usize) -> Result<()> {
    let lines: String = (chunk * EACH..(chunk + 1) * EACH)
        .map(|n| {
            let time = start + jiff::SignedDuration::from_millis(n as i64);
            let event = json!({ "time": time.to_string(), "service": "parcels", "trace_id": trace(n),
                "msg": format!("parcel PX-{n:05} handed over") });
            format!("{event}\n")
        })
        .collect();
    anyhow::ensure!(service.calvex_with(&["send", "--quiet"], lines.as_bytes())?.status.success());
    service.ok(&["admin", "seal"])?;
    Ok(())
}

/// Events found, and chunks that a bloom set ruled out.
fn asked(service: &Service, query: &str) -> Result<(usize, u64)> {
    let reported = service.calvex(&["search", "--json", "--explain", "--from", "now-1d", query])?;
    let explained = String::from_utf8(reported.stderr)?;
    let skipped = explained.split(" of these by bloom sets").next().and_then(|t| t.rsplit(' ').next());
    Ok((String::from_utf8(reported.stdout)?.lines().count(), skipped.and_then(|n| n.parse().ok()).unwrap_or(0)))
}

#[test]
fn an_id_leads_to_its_chunk() -> Result<()> {
    let mut service = Service::start(&SMALL)?;
    let start = start();
    (0..CHUNKS).try_for_each(|chunk| send(&service, start, chunk))?;
    service.ok(&["admin", "merge"])?;
    let chunks = service.ok(&["admin", "chunk", "--json"])?;
    let events: u64 = chunks.lines().filter_map(|l| serde_json::from_str::<Value>(l).ok()?["rows"].as_u64()).sum();
    assert_eq!(
        (chunks.lines().count(), events),
        (CHUNKS, (CHUNKS * EACH) as u64),
        "sixteen are rolled up, none is merged"
    );

    let every = |service: &Service, when: &str| -> Result<()> {
        let mut most = 0;
        for n in (0..CHUNKS * EACH).step_by(EACH + 37) {
            let (found, skipped) = asked(service, &format!("trace={}", trace(n)))?;
            assert_eq!(found, 1, "{when}: event {n}");
            most = most.max(skipped);
        }
        assert!(most >= 12, "{when}: bloom sets ruled out {most} chunks at most");
        let (found, skipped) = asked(service, "PX-00007 or PX-07199")?;
        assert!(found == 2 && skipped > 8, "{when}: {found}, {skipped}");
        assert_eq!(asked(service, "service=parcels handed")?.0, 100, "{when}");
        let (found, skipped) = asked(service, "trace=ffffffffffffffffffffffffffffff01")?;
        assert!(found == 0 && skipped > 8, "{when}: {found}, {skipped}");
        let counted = service.ok(&["search", "--json", "--from", "now-1d", "PX-00300 measure count"])?;
        assert!(counted.contains("\"count\":1"), "{when}: {counted}");
        Ok(())
    };
    every(&service, "at once")?;
    service.ok(&["admin", "forget"])?;
    every(&service, "cold")?;
    // Filters in memory are gone, bloom sets are records.
    service.kill()?;
    service.restart()?;
    every(&service, "after a kill")?;
    // The filters that a restart lost are made again: most absent ids are ruled out without opening any chunk, by the two
    // parts of the bloom set alone.
    let segments_read = |absent: u32| -> Result<Option<u64>> {
        let absent = format!("trace=ffffffffffffffffffffffffffff{absent:04x}");
        let reported = service.calvex(&["search", "--explain", "--from", "now-1d", &absent])?;
        let reported = String::from_utf8(reported.stderr)?;
        Ok(reported.split(" segments read").next().and_then(|t| t.rsplit(' ').next()).and_then(|n| n.parse().ok()))
    };
    let alone = |absent: u32| Ok(segments_read(absent)?.filter(|parts| *parts <= 2));
    wait_for("the filters of two chunks", || (1..20).find_map(|absent| alone(absent).transpose()).transpose())?;
    // The next sixteen take along what was left, whose filters are made again from their columns.
    (CHUNKS..CHUNKS + 14).try_for_each(|chunk| send(&service, start, chunk))?;
    service.ok(&["admin", "merge"])?;
    every(&service, "after the second bloom set")?;
    let (found, skipped) = wait_for("both bloom sets to show", || {
        Ok(Some(asked(&service, &format!("trace={}", trace(CHUNKS * EACH + 5)))?).filter(|(_, skipped)| *skipped > 20))
    })?;
    assert!(found == 1 && skipped <= 31, "{found}, {skipped}");
    Ok(())
}
