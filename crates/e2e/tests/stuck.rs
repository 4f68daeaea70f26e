//! What the database refuses for good holds nobody else up: a head that cannot be sealed, chunks that cannot be merged. One
//! that hangs keeps nobody from stopping.

use anyhow::{Context, Result};
use calvex_e2e::hostile::client;
use calvex_e2e::service::{Service, signal, wait_for};
use rand::seq::IndexedRandom;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// A service with two lanes, each fed by the service of its name.
fn two_lanes() -> Result<Service> {
    let service = Service::start(&[])?;
    for lane in ["bank", "courier"] {
        service.ok(&["lane", "set", lane, "--days", "5"])?;
        service.ok(&["route", "add", &format!("service={lane}"), lane])?;
    }
    Ok(service)
}

/// Sends `count` events to each lane.
fn send(service: &Service, count: usize) -> Result<()> {
    let line = |lane: &str, n: usize| format!("{{\"service\":\"{lane}\",\"msg\":\"door {n}\",\"door\":{n}}}\n");
    let body: String = (0..count).flat_map(|n| [line("bank", n), line("courier", n)]).collect();
    let sent = service.calvex_with(&["send", "--quiet"], body.as_bytes())?;
    anyhow::ensure!(sent.status.success(), "{}", String::from_utf8_lossy(&sent.stderr));
    Ok(())
}

/// Chunks of a lane.
fn chunks(service: &Service, lane: &str) -> Result<String> {
    service.sql(&format!("SELECT COUNT(*) FROM chunk c JOIN lane l ON l.id = c.lane_id WHERE l.name = '{lane}'"))
}

/// A trigger by which the database refuses `what` on chunks of the lane `bank`, with an error that does not pass.
fn refuse(service: &Service, what: &str, row: &str) -> Result<()> {
    let bank = service.sql("SELECT id FROM lane WHERE name = 'bank'")?;
    let trigger = format!(
        "DELIMITER //\nCREATE TRIGGER refuse BEFORE {what} ON chunk FOR EACH ROW
         IF {row}.lane_id = {bank} THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'as a test asked'; END IF//"
    );
    service.sql(&trigger).map(drop)
}

#[test]
fn a_head_that_cannot_be_sealed_is_set_aside() -> Result<()> {
    let mut service = two_lanes()?;
    send(&service, 50)?;
    refuse(&service, "INSERT", "NEW")?;
    let sealed = service.ok(&["admin", "seal"])?;
    assert!(sealed.contains("\"heads_sealed\":1"), "{sealed}");
    assert_eq!((chunks(&service, "bank")?.as_str(), chunks(&service, "courier")?.as_str()), ("0", "1"));
    // It is said where an operator looks, and its events are found as before, with those that come after.
    let log = std::fs::read_to_string(service.dir.join("service.log"))?;
    assert!(log.contains("a head cannot be sealed"), "{log}");
    send(&service, 10)?;
    assert_eq!(service.search("service=bank", &[])?.len(), 60);
    assert_eq!(service.search("service=courier", &[])?.len(), 60);
    // Its journal rows stay, so a start finds every event again.
    service.kill()?;
    service.restart()?;
    assert_eq!(service.search("service=bank", &[])?.len(), 60);
    service.sql("DROP TRIGGER refuse")?;
    service.ok(&["admin", "seal"])?;
    assert_ne!(chunks(&service, "bank")?, "0");
    assert_eq!(service.search("service=bank", &[])?.len(), 60);
    Ok(())
}

#[test]
fn chunks_that_cannot_be_merged_are_passed_over() -> Result<()> {
    let service = two_lanes()?;
    for _ in 0..2 {
        send(&service, 20)?;
        service.ok(&["admin", "seal"])?;
    }
    refuse(&service, "DELETE", "OLD")?;
    let merged = service.ok(&["admin", "merge"])?;
    assert!(merged.contains("\"chunks_replaced\":2"), "{merged}");
    assert_eq!((chunks(&service, "bank")?.as_str(), chunks(&service, "courier")?.as_str()), ("2", "1"));
    for lane in ["bank", "courier"] {
        assert_eq!(service.search(&format!("service={lane}"), &[])?.len(), 40);
    }
    Ok(())
}

/// Events of some days with long texts that no compressor makes small, for the journal to grow by.
fn incompressible() -> String {
    let letters: Vec<char> = ('a'..='z').chain('A'..='Z').chain('0'..='9').collect();
    let note = || (0..48 << 10).filter_map(|_| letters.choose(&mut rand::rng())).collect::<String>();
    let event = |door: i64| {
        let at = jiff::Timestamp::now() - jiff::SignedDuration::from_hours(24 * (door % 5));
        format!("{{\"time\":\"{at}\",\"service\":\"bank\",\"door\":{door},\"note\":\"{}\"}}\n", note())
    };
    (0..20).map(event).collect()
}

/// Each body is due in the heads of five days: while such come, a turn of sealing does not end. The journal is let go all the
/// same.
#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn journal_tables_go_while_heads_keep_coming_due() -> Result<()> {
    let service = Service::start(&[("CALVEX_HEAD_SEAL_ROWS", "1")])?;
    let (client, over) = (client()?, Arc::new(AtomicBool::new(false)));
    let body = Arc::new(incompressible());
    let senders: Vec<_> = (0..4)
        .map(|sender| {
            let asked = client.post(format!("{}/v1/events", service.url)).bearer_auth(&service.key);
            let (over, body) = (over.clone(), body.clone());
            tokio::spawn(async move {
                for n in 0.. {
                    if over.load(Ordering::SeqCst) {
                        break;
                    }
                    // No body comes twice.
                    let body = format!("{{\"msg\":\"{n} of {sender}\"}}\n{body}");
                    let sent = asked.try_clone().context("a body")?.body(body).send().await?;
                    anyhow::ensure!(sent.status().is_success() || sent.status() == 503, "{}", sent.status());
                }
                anyhow::Ok(())
            })
        })
        .collect();
    let (third, first_goes) = tokio::task::block_in_place(|| {
        let tables = |what: &str| service.sql(&format!("SELECT {what}(no) FROM journal_table"));
        let third = wait_for("a third journal table", || Ok((tables("MAX")?.parse::<u32>()? >= 3).then_some(())));
        let first_goes = wait_for("the end of the first", || Ok((tables("MIN")?.parse::<u32>()? > 1).then_some(())));
        (third, first_goes)
    });
    over.store(true, Ordering::SeqCst);
    for sender in senders {
        sender.await??;
    }
    third.and(first_goes)
}

/// A service whose database answers nothing any more.
fn hanging() -> Result<Service> {
    let service = Service::start(&[])?;
    send_one(&service)?;
    signal(service.database_pid().context("no database")?, "STOP")?;
    Ok(service)
}

fn send_one(service: &Service) -> Result<()> {
    let sent = service.calvex_with(&["send", "--quiet"], b"{\"service\":\"bank\",\"msg\":\"door 4\"}\n")?;
    anyhow::ensure!(sent.status.success(), "{}", String::from_utf8_lossy(&sent.stderr));
    Ok(())
}

#[test]
fn a_service_stops_though_its_database_hangs() -> Result<()> {
    let mut service = hanging()?;
    service.stop()?;
    let log = std::fs::read_to_string(service.dir.join("service.log"))?;
    assert!(log.contains("the database does not stop and is killed"), "{log}");
    service.restart()?;
    assert_eq!(service.search("service=bank", &[])?.len(), 1);
    Ok(())
}

#[test]
fn asked_twice_it_stops_at_once() -> Result<()> {
    let mut service = hanging()?;
    let database = service.database_pid().context("no database")?;
    signal(service.pid(), "INT")?;
    // The second one may come before the first is taken note of.
    wait_for("its end", || {
        signal(service.pid(), "INT")?;
        Ok(service.has_ended()?.then_some(()))
    })?;
    let log = std::fs::read_to_string(service.dir.join("service.log"))?;
    assert!(log.contains("asked to stop twice"), "{log}");
    // What it left running is stopped by the next start.
    signal(database, "CONT")?;
    service.restart()?;
    assert_eq!(service.search("service=bank", &[])?.len(), 1);
    Ok(())
}
