//! Two services and one database: one lives at a time, and whoever comes after goes on with everything acknowledged.

use anyhow::{Context, Result};
use calvex_e2e::service::{Service, wait_for};
use calvex_store::{Server, ServerSettings};
use serde_json::Value;

/// A MariaDB that is nobody's own, and the URL of a database in it.
async fn database(dir: &std::path::Path) -> Result<(Server, String)> {
    let server =
        Server::start(ServerSettings { data_dir: dir.to_owned(), buffer_pool_mib: 64, redo_log_mib: 32 }).await?;
    let url = format!("mysql://root@localhost/lockers?socket={}", server.socket().display());
    Ok((server, url))
}

fn start(url: &str, name: &str) -> Result<Service> {
    Service::start(&[("CALVEX_DATABASE_URL", url), ("CALVEX_NODE_NAME", name)])
}

fn send(service: &Service, from: usize, count: usize) -> Result<()> {
    let lines: String = (from..from + count).map(|n| format!("{{\"msg\":\"door {n}\",\"door\":{n}}}\n")).collect();
    let sent = service.calvex_with(&["send", "--quiet"], lines.as_bytes())?;
    anyhow::ensure!(sent.status.success(), "{}", String::from_utf8_lossy(&sent.stderr));
    Ok(())
}

fn nodes(service: &Service) -> Result<Vec<Value>> {
    service.ok(&["admin", "nodes", "--json"])?.lines().map(|l| Ok(serde_json::from_str(l)?)).collect()
}

/// Doors that are found, each once.
fn doors(service: &Service) -> Result<Vec<i64>> {
    let mut doors: Vec<i64> = service.search("", &[])?.iter().filter_map(|e| e["fields"]["door"].as_i64()).collect();
    doors.sort_unstable();
    Ok(doors)
}

#[tokio::test(flavor = "multi_thread")]
async fn one_lives_at_a_time_and_the_next_goes_on() -> Result<()> {
    let dir = tempfile::tempdir()?;
    let (server, url) = database(dir.path()).await?;
    let mut first = start(&url, "bank-1")?;
    send(&first, 0, 200)?;

    // By mistake a second one, of the same name and of another: refused at once, with the cure, and the first goes on.
    for name in ["bank-1", "bank-2"] {
        let refused = start(&url, name).err().context("two services ran on one database")?.to_string();
        assert!(refused.contains("node `bank-1` lives on this database; stop it first"), "{refused}");
        assert!(refused.contains("calvex admin nodes"), "{refused}");
    }
    send(&first, 200, 100)?;
    assert_eq!(doors(&first)?, (0..300).collect::<Vec<i64>>());
    assert_eq!(nodes(&first)?.len(), 1, "a start that was refused named no node");

    // It dies with rows in its journal; another name finds them all, and numbers of its own.
    first.ok(&["admin", "seal"])?;
    send(&first, 300, 50)?;
    first.kill()?;
    let second = start(&url, "bank-2")?;
    assert_eq!(doors(&second)?, (0..350).collect::<Vec<i64>>());
    send(&second, 350, 50)?;
    second.ok(&["admin", "seal"])?;
    assert_eq!(doors(&second)?, (0..400).collect::<Vec<i64>>());
    let listed = nodes(&second)?;
    let alive: Vec<(&str, bool)> =
        listed.iter().filter_map(|n| Some((n["name"].as_str()?, n["alive"].as_bool()?))).collect();
    assert_eq!(alive, [("bank-1", false), ("bank-2", true)]);
    assert_ne!(listed[0]["slot"], listed[1]["slot"]);

    // A name that is not used any more can go; one that lives cannot.
    assert_eq!(second.calvex(&["admin", "node", "retire", "bank-2"])?.status.code(), Some(2));
    second.ok(&["admin", "node", "retire", "bank-1"])?;
    assert_eq!(nodes(&second)?.len(), 1);
    drop(second);
    server.stop().await;
    Ok(())
}

/// A node that was overtaken, as after a long pause of its machine, takes nothing and does not answer short.
#[tokio::test(flavor = "multi_thread")]
async fn an_overtaken_node_is_not_ready() -> Result<()> {
    let dir = tempfile::tempdir()?;
    let (server, url) = database(dir.path()).await?;
    let first = start(&url, "bank-1")?;
    send(&first, 0, 20)?;
    calvex_e2e::service::signal(first.pid(), "STOP")?;
    let second = start(&url, "bank-2");
    calvex_e2e::service::signal(first.pid(), "CONT")?;
    let second = second?;
    wait_for("the first to find out", || {
        let ready = std::process::Command::new(calvex_e2e::service::binary())
            .args(["search", "door"])
            .env("CALVEX_URL", &first.url)
            .env("CALVEX_TOKEN", &first.token)
            .output()?;
        Ok((ready.status.code() == Some(2)).then_some(()))
    })?;
    let sent = first.calvex_with(&["send", "--quiet", "--give-up", "2s"], b"{\"msg\":\"door 99\",\"door\":99}\n")?;
    assert!(!sent.status.success(), "an overtaken node took an event");
    send(&second, 20, 20)?;
    assert_eq!(doors(&second)?, (0..40).collect::<Vec<i64>>());
    drop((first, second));
    server.stop().await;
    Ok(())
}
