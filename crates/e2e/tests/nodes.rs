//! Several services and one database: each sees what the others acknowledged, and goes on with what a dead one left.

use anyhow::{Context, Result};
use calvex_e2e::browser::Browser;
use calvex_e2e::mariadb;
use calvex_e2e::service::{PASSWORD, PATIENCE, Service, signal, wait_for};
use calvex_store::{STILL, Server, ServerSettings};
use serde_json::Value;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::process::Stdio;
use std::time::{Duration, Instant};

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

/// While the node behind the console does not answer, the same place on another one is offered, and one goes on there.
#[tokio::test(flavor = "multi_thread")]
async fn the_console_goes_on_at_another_node() -> Result<()> {
    let dir = tempfile::tempdir()?;
    let (server, url) = database(dir.path()).await?;
    let mut first = start(&url, "bank-1")?;
    // Where browsers reach it is known before it listens.
    let port = std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
    let (listen, own) = (format!("127.0.0.1:{port}"), format!("http://127.0.0.1:{port}"));
    let key_file = first.dir.join("secrets.key").display().to_string();
    let second = Service::start(&[
        ("CALVEX_DATABASE_URL", &url),
        ("CALVEX_NODE_NAME", "bank-2"),
        ("CALVEX_NODE_URL", &own),
        ("CALVEX_HTTP_LISTEN", &listen),
        ("CALVEX_SECRETS_KEY_FILE", &key_file),
    ])?;
    send(&first, 0, 20)?;
    wait_for("both to see each other", || Ok((nodes(&first)?.len() == 2).then_some(())))?;
    let browser = Browser::open(1280, 800).await?;
    browser.sign_in(&first.url, PASSWORD).await?;
    browser.page.goto(format!("{}/search?q=door%3E3&from=now-1d", first.url)).await?;
    browser.saying("[data-testid=total]", "16").await?;
    first.kill()?;
    browser.saying("[data-testid=elsewhere]", "This node does not answer").await?;
    browser.click_saying("[data-testid=elsewhere] a", &format!("127.0.0.1:{port}")).await?;
    browser.saying("[data-testid=total]", "16").await?;
    let address = browser.address().await?;
    assert!(address.starts_with(&second.url) && address.contains("q=door%3E3"), "{address}");
    browser.close().await?;
    drop((first, second));
    server.stop().await;
    Ok(())
}

/// The names of nodes that have duties, and what each has.
fn duties(service: &Service) -> Result<Vec<(String, Vec<String>)>> {
    let of = |n: Value| {
        let duties: Vec<String> = serde_json::from_value(n["duties"].clone()).unwrap_or_default();
        (n["name"].as_str().unwrap_or_default().to_owned(), duties)
    };
    Ok(nodes(service)?.into_iter().map(of).filter(|(_, duties)| !duties.is_empty()).collect())
}

/// Whether nodes of these names have all duties between them.
fn have_all_duties(service: &Service, names: &[&str]) -> Result<Option<()>> {
    let have = duties(service)?;
    let only_these = have.iter().all(|(name, _)| names.contains(&name.as_str()));
    let count: usize = have.iter().map(|(_, duties)| duties.len()).sum();
    Ok((only_these && count == 4).then_some(()))
}

#[tokio::test(flavor = "multi_thread")]
async fn what_any_node_acknowledged_is_found_on_every_one() -> Result<()> {
    let dir = tempfile::tempdir()?;
    let (server, url) = database(dir.path()).await?;
    let first = start(&url, "bank-1")?;
    send(&first, 0, 200)?;
    // A name that lives is refused at once, with the cure.
    let refused = start(&url, "bank-1").err().context("two nodes of one name")?.to_string();
    assert!(refused.contains("node `bank-1` lives already; give this one another node.name"), "{refused}");
    let second = start(&url, "bank-2")?;
    assert_eq!(doors(&second)?, (0..200).collect::<Vec<i64>>(), "what was there before it started");
    // Within a second, in both directions, as rows of the journal, as chunks, merged.
    for round in 0..4 {
        let from = 200 + round * 100;
        send(&first, from, 50)?;
        send(&second, from + 50, 50)?;
        let acknowledged = Instant::now();
        let expected: Vec<i64> = (0..from as i64 + 100).collect();
        for service in [&first, &second] {
            wait_for("the events of both", || Ok((doors(service)? == expected).then_some(())))?;
        }
        anyhow::ensure!(acknowledged.elapsed() < Duration::from_secs(20), "{:?}", acknowledged.elapsed());
        match round {
            0 => drop(first.ok(&["admin", "seal"])?),
            1 => drop(second.ok(&["admin", "seal"])?),
            2 => drop([first.ok(&["admin", "seal"])?, second.ok(&["admin", "merge"])?]),
            _ => {}
        }
        for _ in 0..3 {
            assert_eq!((doors(&first)?, doors(&second)?), (expected.clone(), expected.clone()), "round {round}");
        }
    }
    // A tail on one shows what is sent to the other; a setting made on one holds on the other.
    let followed = std::process::Command::new(calvex_e2e::service::binary())
        .args(["tail", "--json", "-n", "1", "tailed"])
        .envs([("CALVEX_URL", &second.url), ("CALVEX_TOKEN", &second.token)])
        .stdout(std::process::Stdio::piped())
        .spawn()?;
    let mut followed = followed;
    wait_for("the tail to end", || {
        first.calvex_with(&["send", "--quiet"], b"{\"msg\":\"tailed\"}\n")?;
        Ok(followed.try_wait()?)
    })?;
    first.ok(&["lane", "set", "audit", "--days", "400"])?;
    first.ok(&["route", "add", "audited", "audit"])?;
    wait_for("the lane on the other node", || {
        second.calvex_with(&["send", "--quiet"], b"{\"msg\":\"audited\"}\n")?;
        Ok(second.search("audited lane=audit", &[])?.pop())
    })?;
    // Duties are shared out, each once.
    wait_for("all duties", || have_all_duties(&first, &["bank-1", "bank-2"]))?;
    let listed = nodes(&second)?;
    assert!(
        listed.iter().all(|n| n["alive"] == true && n["looked_ms"].as_u64().is_some_and(|ms| ms < 5000)),
        "{listed:?}"
    );
    assert_eq!(listed.iter().filter(|n| n["answers"] == true).count(), 1);
    let shown = first.ok(&["admin", "nodes", "--text"])?;
    assert!(shown.contains("does for all") && shown.contains("bank-2") && shown.contains("lives"), "{shown}");
    drop((first, second));
    server.stop().await;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_node_that_dies_is_adopted_with_everything_it_acknowledged() -> Result<()> {
    let dir = tempfile::tempdir()?;
    let (server, url) = database(dir.path()).await?;
    let mut first = start(&url, "bank-1")?;
    let second = start(&url, "bank-2")?;
    send(&first, 0, 100)?;
    first.ok(&["admin", "seal"])?;
    send(&first, 100, 50)?;
    first.kill()?;
    // Of several addresses the one that answers is asked, and sent to.
    let both = format!("{},{}", first.url, second.url);
    let with_both = |args: &[&str], input: &str| -> Result<std::process::Output> {
        let file = second.dir.join("sent.ndjson");
        std::fs::write(&file, input)?;
        let mut command = std::process::Command::new(calvex_e2e::service::binary());
        command.args(args).env("CALVEX_URL", &both).env("CALVEX_TOKEN", &second.token).env("CALVEX_KEY", &second.key);
        Ok(command.stdin(std::fs::File::open(&file)?).output()?)
    };
    for n in 0..3 {
        let sent = with_both(&["send", "--quiet"], &format!("{{\"msg\":\"by the other {n}\"}}\n"))?;
        anyhow::ensure!(sent.status.success(), "{}", String::from_utf8_lossy(&sent.stderr));
    }
    let state = second.dir.join("ship");
    let shipped = with_both(&["ship", "--once", "--state", &state.to_string_lossy(), "-"], "shipped to the other\n")?;
    anyhow::ensure!(shipped.status.success(), "{}", String::from_utf8_lossy(&shipped.stderr));
    let found = with_both(&["search", "--json", "other"], "")?;
    assert_eq!(String::from_utf8_lossy(&found.stdout).lines().count(), 4, "{found:?}");
    let linked = with_both(&["search", "--link", "other"], "")?;
    assert!(!String::from_utf8_lossy(&linked.stdout).contains(','), "{linked:?}");
    // What it acknowledged is found at once, also before it is adopted.
    wait_for("what the dead one left", || Ok((doors(&second)? == (0..150).collect::<Vec<i64>>()).then_some(())))?;
    wait_for("its adoption", || {
        Ok(nodes(&second)?.iter().any(|n| n["name"] == "bank-1" && n["alive"] == false).then_some(()))
    })?;
    wait_for("its duties", || have_all_duties(&second, &["bank-2"]))?;
    assert_eq!(doors(&second)?, (0..150).collect::<Vec<i64>>());
    second.ok(&["admin", "seal"])?;
    wait_for("its rows to be sealed", || {
        second.ok(&["admin", "seal"])?;
        Ok((mariadb::sql(server.socket(), None, "SELECT COUNT(*) FROM lockers.journal_1_1")? == "0").then_some(()))
    })?;
    assert_eq!(doors(&second)?, (0..150).collect::<Vec<i64>>());
    // It comes back under its name and goes on.
    let first = start(&url, "bank-1")?;
    send(&first, 150, 50)?;
    for service in [&first, &second] {
        wait_for("the events of both", || Ok((doors(service)? == (0..200).collect::<Vec<i64>>()).then_some(())))?;
    }
    let trail = second.ok(&["audit", "adopt", "--json"])?;
    assert!(trail.contains("bank-1"), "{trail}");
    drop((first, second));
    server.stop().await;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_node_is_drained_stopped_and_retired() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let dir = tempfile::tempdir()?;
    let (server, url) = database(dir.path()).await?;
    let mut first = Service::start(&[
        ("CALVEX_DATABASE_URL", &url),
        ("CALVEX_NODE_NAME", "bank-1"),
        ("CALVEX_LINES_LISTEN", "127.0.0.1:0"),
        ("CALVEX_SYSLOG_TCP_LISTEN", "127.0.0.1:0"),
    ])?;
    let second = start(&url, "bank-2")?;
    send(&first, 0, 100)?;
    assert_eq!(second.calvex(&["admin", "node", "drain", "bank-9"])?.status.code(), Some(2));
    let mut lines = TcpStream::connect(first.other("JSON lines", "tcp://")?.trim_start_matches("tcp://"))?;
    let mut syslog = TcpStream::connect(first.other("syslog", "tcp://")?.trim_start_matches("tcp://"))?;
    [&lines, &syslog].into_iter().try_for_each(|stream| stream.set_read_timeout(Some(PATIENCE)))?;
    writeln!(lines, "{{\"key\":\"{}\"}}\n{{\"msg\":\"by lines\"}}", first.key)?;
    let mut answers = BufReader::new(lines.try_clone()?).lines();
    assert!(answers.by_ref().take(2).all(|line| line.is_ok_and(|line| !line.contains("problem"))));
    syslog.write_all(b"<13>1 - - slots - - - by syslog\n")?;
    second.ok(&["admin", "node", "drain", "bank-1"])?;
    // Both connections end, so that their senders go on elsewhere; the one that has answers gives the reason.
    let problem = answers.next().context("no answer")??;
    assert!(problem.contains("drained") && answers.next().is_none(), "{problem}");
    assert_eq!(syslog.read(&mut [0; 8])?, 0);
    for by in ["lines", "syslog"] {
        let found = second.search(&format!("\"by {by}\""), &[])?;
        assert_eq!(found.len(), 1, "what came by {by} before is kept");
    }
    wait_for("its duties to be others'", || have_all_duties(&second, &["bank-2"]))?;
    let refused = first.calvex_with(&["send", "--quiet", "--give-up", "2s"], b"{\"msg\":\"door\"}\n")?;
    assert!(!refused.status.success(), "a drained node took an event");
    let ready = reqwest::get(format!("{}/readyz", first.url)).await?;
    assert_eq!(ready.status(), 503);
    wait_for("its head to be sealed", || {
        Ok((mariadb::sql(server.socket(), None, "SELECT COUNT(*) FROM lockers.journal_1_1")? == "0").then_some(()))
    })?;
    assert_eq!((doors(&first)?, doors(&second)?), ((0..100).collect(), (0..100).collect()), "it still answers");
    // It takes part again, is drained again, stops and goes.
    second.ok(&["admin", "node", "drain", "bank-1", "--end"])?;
    wait_for("events to be taken again", || {
        let sent = first.calvex_with(&["send", "--quiet", "--give-up", "2s"], b"{\"msg\":\"again\"}\n")?;
        Ok(sent.status.success().then_some(()))
    })?;
    assert_eq!(second.calvex(&["admin", "node", "retire", "bank-1"])?.status.code(), Some(2), "it lives");
    first.stop()?;
    second.ok(&["admin", "node", "retire", "bank-1"])?;
    assert_eq!(nodes(&second)?.len(), 1);
    assert_eq!(doors(&second)?, (0..100).collect::<Vec<i64>>());
    drop((first, second));
    server.stop().await;
    Ok(())
}

/// A node that was overtaken, as after a long pause of its machine, takes nothing and does not answer short.
#[tokio::test(flavor = "multi_thread")]
async fn an_overtaken_node_is_not_ready() -> Result<()> {
    let dir = tempfile::tempdir()?;
    let (server, url) = database(dir.path()).await?;
    let first = start(&url, "bank-1")?;
    let second = start(&url, "bank-2")?;
    send(&first, 0, 20)?;
    signal(first.pid(), "STOP")?;
    let adopted = wait_for("its adoption", || {
        Ok(nodes(&second)?.iter().any(|n| n["name"] == "bank-1" && n["alive"] == false).then_some(()))
    });
    signal(first.pid(), "CONT")?;
    adopted?;
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

/// A node whose start takes longer than a dead one is waited for is not adopted meanwhile.
#[tokio::test(flavor = "multi_thread")]
async fn a_node_that_starts_slowly_keeps_its_place() -> Result<()> {
    let dir = tempfile::tempdir()?;
    let (server, url) = database(dir.path()).await?;
    let first = start(&url, "bank-1")?;
    // A row that a start alone needs, once it has its claim.
    let mut holding = mariadb::session(server.socket()).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn()?;
    let mut statements = holding.stdin.take().context("no input")?;
    statements.write_all(b"BEGIN; SELECT 'held' FROM lockers.installation FOR UPDATE;\n")?;
    let mut held = String::new();
    BufReader::new(holding.stdout.take().context("no output")?).read_line(&mut held)?;
    assert_eq!(held.trim(), "held");
    let second = std::thread::scope(|scope| {
        let starting = scope.spawn(|| start(&url, "bank-2"));
        let moved = wait_for("beats for longer than a dead node is waited for", || {
            let beat = |n: &Value| n["name"] == "bank-2" && n["beat"].as_u64() > Some(STILL.as_secs() + 2);
            Ok(nodes(&first)?.iter().any(beat).then_some(()))
        });
        let goes_on = !starting.is_finished();
        holding.kill()?;
        holding.wait()?;
        let second = starting.join().ok().context("it panicked")??;
        moved?;
        assert!(goes_on, "it started though a row that it needs was locked");
        Ok::<_, anyhow::Error>(second)
    })?;
    let listed = nodes(&second)?;
    assert!(listed.iter().any(|n| n["name"] == "bank-2" && n["alive"] == true && n["epoch"] == 1), "{listed:?}");
    send(&second, 0, 20)?;
    wait_for("what it took", || Ok((doors(&first)? == (0..20).collect::<Vec<i64>>()).then_some(())))?;
    drop((first, second));
    server.stop().await;
    Ok(())
}

/// Each move of an alert is one message, under one id, whichever node has the duty.
#[tokio::test(flavor = "multi_thread")]
async fn rules_are_judged_by_one_node_and_go_on_by_another() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let receiver = calvex_e2e::receiver::Receiver::start()?;
    let dir = tempfile::tempdir()?;
    let (server, url) = database(dir.path()).await?;
    let node = |name: &str| {
        Service::start(&[
            ("CALVEX_DATABASE_URL", url.as_str()),
            ("CALVEX_NODE_NAME", name),
            ("CALVEX_NOTIFY_WEBHOOK_LOCAL", "true"),
        ])
    };
    let (first, second) = (node("bank-1")?, node("bank-2")?);
    wait_for("all duties", || have_all_duties(&first, &["bank-1", "bank-2"]))?;
    let judges = duties(&first)?.into_iter().find(|(_, d)| d.iter().any(|d| d == "rules")).context("no judge")?.0;
    let (judge, mut other) = if judges == "bank-1" { (first, second) } else { (second, first) };
    other.ok(&["contact", "set", "desk", "--webhook", &receiver.hook])?;
    let document = "name = 'refused'\nnotify = ['desk']\ndelay = '0s'\n[threshold]\nevents = 'refused'\nper = ['zone']\n\
                    over = '30s'\nabove = 3\n";
    let file = other.dir.join("rule.toml");
    std::fs::write(&file, document)?;
    other.ok(&["rule", "apply", &file.to_string_lossy()])?;
    let fail = |service: &Service, zone: &str| {
        let event = format!("{{\"service\":\"edge\",\"zone\":\"{zone}\",\"msg\":\"drop-off refused\"}}\n");
        let sent = service.calvex_with(&["send", "--quiet"], event.repeat(10).as_bytes())?;
        anyhow::ensure!(sent.status.success(), "{}", String::from_utf8_lossy(&sent.stderr));
        Ok(())
    };
    // Half of what raises it is sent to the node that does not judge.
    fail(&other, "north")?;
    let until = Instant::now() + PATIENCE;
    while receiver.events("alert.raised").await?.is_empty() {
        anyhow::ensure!(Instant::now() < until, "{:?}", receiver.arrived().await?);
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    // The judge dies; the other goes on with the same alert, and ends it.
    drop(judge);
    while receiver.events("alert.ended").await?.is_empty() {
        anyhow::ensure!(Instant::now() < until + PATIENCE, "{:?}", receiver.arrived().await?);
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    // The judge was killed as soon as its message arrived, perhaps before it had noted that: the message may come twice.
    assert_eq!(receiver.ids("alert.raised").await?.len(), 1, "raised once: {:?}", receiver.arrived().await?);
    assert_eq!(receiver.ids("alert.ended").await?.len(), 1);
    other.stop()?;
    server.stop().await;
    Ok(())
}
