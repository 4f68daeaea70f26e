//! What `docs/operating.md` describes for an operator of MariaDB: a replica that takes over, a restore up to a moment, and
//! nodes of two versions one after the other. The commands are those of the page.

use anyhow::{Context, Result, ensure};
use calvex_e2e::lone::Lone;
use calvex_e2e::pump::{Pump, doors};
use calvex_e2e::service::{Service, wait_for};
use std::collections::BTreeSet;
use std::path::Path;
use std::time::Duration;

fn start(url: &str, name: &str, key_file: &Path) -> Result<Service> {
    let key_file = key_file.display().to_string();
    Service::start(&[("CALVEX_DATABASE_URL", url), ("CALVEX_NODE_NAME", name), ("CALVEX_SECRETS_KEY_FILE", &key_file)])
}

fn send(service: &Service, doors: std::ops::Range<u64>) -> Result<()> {
    let lines: String = doors.map(|n| format!("{{\"msg\":\"door\",\"door\":{n}}}\n")).collect();
    let sent = service.calvex_with(&["send", "--quiet"], lines.as_bytes())?;
    ensure!(sent.status.success(), "{}", String::from_utf8_lossy(&sent.stderr));
    Ok(())
}

#[test]
fn a_replica_takes_over() -> Result<()> {
    let dir = tempfile::tempdir()?;
    let key_file = dir.path().join("secrets.key");
    let (mut first, second) = (Lone::start(&dir.path().join("a"), 1)?, Lone::start(&dir.path().join("b"), 2)?);
    let service = start(&first.url("lockers"), "bank-1", &key_file)?;
    send(&service, 0..300)?;
    service.ok(&["admin", "seal"])?;
    first.sql("CREATE USER replica@'%' IDENTIFIED BY 'fennmark'; GRANT REPLICATION SLAVE ON *.* TO replica@'%'")?;
    let dump = format!(
        "mariadb-dump {} --databases lockers --single-transaction --hex-blob --gtid --master-data=1",
        first.options()
    );
    first.shell(&format!("{dump} | mariadb {}", second.options()))?;
    second.sql(&format!(
        "CHANGE MASTER TO MASTER_HOST='127.0.0.1', MASTER_PORT={}, MASTER_USER='replica', MASTER_PASSWORD='fennmark', \
         MASTER_USE_GTID=slave_pos; SET GLOBAL read_only = 1; START SLAVE",
        first.port
    ))?;
    // What comes after the dump is followed.
    send(&service, 300..600)?;
    let at = first.sql("SELECT @@gtid_binlog_pos")?;
    wait_for("the replica to have everything", || {
        Ok((second.sql("SELECT @@gtid_slave_pos")? == at
            || second.sql(&format!("SELECT MASTER_GTID_WAIT('{at}', 1)"))? == "0")
            .then_some(()))
    })?;
    first.kill();
    drop(service);
    second.sql("STOP SLAVE; RESET SLAVE ALL; SET GLOBAL read_only = 0")?;
    let service = start(&second.url("lockers"), "bank-1", &key_file)?;
    assert_eq!(doors(&service, None)?, (0..600).collect::<BTreeSet<u64>>());
    send(&service, 600..700)?;
    service.ok(&["admin", "seal"])?;
    assert_eq!(doors(&service, None)?.len(), 700, "and it goes on");
    Ok(())
}

#[test]
fn a_restore_up_to_a_moment() -> Result<()> {
    let dir = tempfile::tempdir()?;
    let key_file = dir.path().join("secrets.key");
    let (server, spare) = (Lone::start(&dir.path().join("a"), 1)?, Lone::start(&dir.path().join("b"), 2)?);
    let service = start(&server.url("lockers"), "bank-1", &key_file)?;
    send(&service, 0..300)?;
    service.ok(&["admin", "seal"])?;
    let dump = dir.path().join("lockers.sql").display().to_string();
    server.shell(&format!(
        "mariadb-dump {} --databases lockers --single-transaction --hex-blob --master-data=2 > {dump}",
        server.options()
    ))?;
    send(&service, 300..600)?;
    service.ok(&["admin", "seal"])?;
    send(&service, 600..700)?;
    // A second passes between what is wanted and the mistake, since the moment is named in seconds.
    let moment = server.sql("SELECT NOW() + INTERVAL 1 SECOND")?;
    wait_for("the moment to pass", || Ok((server.sql(&format!("SELECT NOW() > '{moment}'"))? == "1").then_some(())))?;
    drop(service);
    server.sql("DROP DATABASE lockers")?;
    spare.shell(&format!("mariadb {} < {dump}", spare.options()))?;
    // The dump's head names the file of the binary log, and the place in it.
    let head = server.shell(&format!("grep -m1 '^-- CHANGE MASTER' {dump}"))?;
    let position = head.split("MASTER_LOG_POS=").nth(1).context("no position")?.trim_end_matches(';');
    server.shell(&format!(
        "mariadb-binlog --no-defaults --database=lockers --start-position={position} --stop-datetime='{moment}' {}/binlog.0* | mariadb {}",
        server.data().display(),
        spare.options()
    ))?;
    let service = start(&spare.url("lockers"), "bank-1", &key_file)?;
    assert_eq!(doors(&service, None)?, (0..700).collect::<BTreeSet<u64>>());
    Ok(())
}

/// Two nodes on one database: a version after this one brings its compatible step, each node is drained, stopped and
/// started again while events come, and every event stands once.
#[tokio::test(flavor = "multi_thread")]
async fn nodes_are_replaced_one_after_the_other() -> Result<()> {
    let dir = tempfile::tempdir()?;
    let key_file = dir.path().join("secrets.key");
    let server = Lone::start(&dir.path().join("a"), 1)?;
    let url = server.url("lockers");
    let mut nodes = vec![start(&url, "bank-1", &key_file)?, start(&url, "bank-2", &key_file)?];
    let pump = Pump::start(&nodes, 3, Duration::from_millis(20));
    // As a version after this one records its step.
    server.sql(
        "ALTER TABLE lockers.lane ADD COLUMN later INT NOT NULL DEFAULT 7; ALTER TABLE lockers.chunk ADD COLUMN later INT NOT NULL DEFAULT 7; \
         ALTER TABLE lockers.node ADD COLUMN later INT NOT NULL DEFAULT 7; INSERT INTO lockers._sqlx_migrations \
         (version, description, success, checksum, execution_time) VALUES (9001, 'later', TRUE, UNHEX('00'), 1)",
    )?;
    for (n, name) in ["bank-1", "bank-2"].into_iter().enumerate() {
        let before = pump.acknowledged();
        nodes[n].ok(&["admin", "node", "drain", name])?;
        let other = &nodes[1 - n];
        wait_for("the node to have no duty", || {
            let listed = other.ok(&["admin", "nodes", "--json"])?;
            Ok(listed.lines().any(|l| l.contains(&format!("\"{name}\"")) && l.contains("\"duties\":[]")).then_some(()))
        })?;
        nodes[n].stop()?;
        let address = nodes[n].url.replace("http://", "");
        nodes[n].restart_at(&address)?;
        wait_for("events to go on", || Ok((pump.acknowledged() > before + 200).then_some(())))?;
    }
    let account = pump.end().await?;
    let all: BTreeSet<u64> = account.acknowledged.into_values().flatten().collect();
    for node in &nodes {
        node.ok(&["admin", "seal"])?;
        wait_for("everything", || Ok((doors(node, None)? == all).then_some(())))?;
    }
    Ok(())
}
