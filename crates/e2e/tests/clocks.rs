//! Clocks that were wrong for a while: what they led to is taken back, or was never done without being asked for.

use anyhow::Result;
use calvex_e2e::service::{Service, wait_for};

/// A rule that was judged by a clock two days ahead would be blind for two days.
#[test]
fn judgements_ahead_of_the_clock_are_taken_back() -> Result<()> {
    let service = Service::start(&[])?;
    service.ok(&[
        "rule",
        "new",
        "lease errors",
        "--query",
        "severity>=error",
        "--above",
        "0",
        "--window",
        "1m",
        "--delay",
        "0",
    ])?;
    let judged = || -> Result<i64> { Ok(service.sql("SELECT COALESCE(judged_ns, 0) FROM rule")?.parse()?) };
    let first = wait_for("a judgement", || Ok(Some(judged()?).filter(|ns| *ns > 0)))?;
    let ahead = first + 2 * 86_400_000_000_000;
    let taken_back = || service.sql("SELECT what FROM audit WHERE act = 'take back judgement'");
    let judge_ahead = || {
        service.sql(&format!(
            "UPDATE rule SET judged_ns = {ahead}, state = 'raised', since_ns = {ahead};
             INSERT IGNORE INTO alert (rule_id, raised_ns, peak, late) SELECT id, {ahead}, 9, FALSE FROM rule"
        ))
    };
    wait_for("it to be taken back", || {
        // A judgement under way may write over what is set here; then it is set again.
        let stands = judged()? > first + 86_400_000_000_000;
        if !stands && taken_back()?.is_empty() {
            judge_ahead()?;
        }
        Ok((!stands && !taken_back()?.is_empty()).then_some(()))
    })?;
    assert!(taken_back()?.contains("lease errors"));
    assert_eq!(service.sql("SELECT COUNT(*) FROM alert WHERE ended_ns IS NULL")?, "0");
    // It sees again what comes.
    service.calvex_with(&["send", "--quiet"], b"{\"level\":\"error\",\"msg\":\"lease ran out\"}\n")?;
    wait_for("the alert", || {
        Ok(service.ok(&["alerts", "--json"]).unwrap_or_default().contains("\"ended\":null").then_some(()))
    })?;
    Ok(())
}

/// Buckets of several days that come due at once are dropped by command alone.
#[test]
fn more_than_a_day_is_dropped_by_command_only() -> Result<()> {
    let mut service = Service::start(&[])?;
    wait_for("the first turn of expiry", || Ok((!service.sql("SELECT n FROM duty")?.is_empty()).then_some(())))?;
    // A bucket with something in it, which a wrong clock must not drop.
    service.calvex_with(&["send", "--quiet"], b"{\"msg\":\"door 17\"}\n")?;
    service.ok(&["admin", "seal"])?;
    let live = service.sql("SELECT day FROM bucket")?;
    // As after a jump: the last turn was days ago, and what lies between is due at once.
    let due: i64 = service.sql("SELECT n - 2 FROM duty")?.parse()?;
    service.sql(&format!(
        "UPDATE duty SET n = n - 5; INSERT INTO bucket (day) VALUES ({due}); CREATE TABLE parts_{due} LIKE parts_{live}"
    ))?;
    service.stop()?;
    service.restart()?;
    let log = || std::fs::read_to_string(service.dir.join("service.log")).unwrap_or_default();
    let stands = || service.sql(&format!("SELECT COUNT(*) FROM bucket WHERE day = {due}"));
    wait_for("the warning", || Ok(log().contains("calvex admin expire").then_some(())))?;
    assert_eq!(stands()?, "1", "nothing was dropped");
    assert!(service.ok(&["admin", "expire"])?.contains("\"buckets_dropped\":1"));
    assert_eq!(stands()?, "0");
    assert_eq!(service.sql("SELECT COUNT(*) FROM bucket")?, "1", "what lives stands");
    assert_eq!(service.search("door", &[])?.len(), 1);
    // From here on a day at a time is the usual again.
    assert_eq!(service.sql("SELECT n - FLOOR(UNIX_TIMESTAMP() / 86400) FROM duty")?, "0");
    Ok(())
}
