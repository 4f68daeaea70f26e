//! The errors that pass, as a real cluster returns them: each is provoked, and the store's table is asked about it.

use anyhow::{Context, Result, ensure};
use calvex_e2e::galera::Galera;
use calvex_e2e::service::wait_for;
use calvex_store::StoreError;
use sqlx::mysql::{MySqlConnectOptions, MySqlConnection};
use sqlx::{AssertSqlSafe, Connection};

/// A connection to a server over TCP, as a user.
async fn connect(galera: &Galera, n: usize, user: &str) -> sqlx::Result<MySqlConnection> {
    let address = galera.members.get(n).map(calvex_e2e::galera::Member::address).unwrap_or_default();
    let port = address.rsplit(':').next().and_then(|port| port.parse().ok()).unwrap_or(0);
    let options = MySqlConnectOptions::new().host("127.0.0.1").port(port).username(user);
    MySqlConnection::connect_with(&options).await
}

async fn run(connection: &mut MySqlConnection, statement: &str) -> sqlx::Result<()> {
    sqlx::raw_sql(AssertSqlSafe(statement.to_owned())).execute(connection).await.map(drop)
}

/// That a statement failed with a code, and that the store's table has it among those that pass.
fn passes(code: u16, failed: sqlx::Result<()>) -> Result<()> {
    let error = StoreError::from(failed.err().with_context(|| format!("no error {code}"))?);
    ensure!(error.number() == Some(code), "{code} was expected: {error}");
    ensure!(error.is_passing(), "{code} passes: {error}");
    Ok(())
}

/// Provokes each, and leaves the cluster without a quorum.
pub async fn each_on(galera: &mut Galera) -> Result<()> {
    let mut root = connect(galera, 0, "root").await?;
    run(&mut root, "CREATE DATABASE passing; CREATE TABLE passing.t (id INT PRIMARY KEY, n INT) ENGINE=InnoDB").await?;
    run(&mut root, "INSERT INTO passing.t VALUES (1, 0), (2, 0)").await?;
    run(&mut root, "CREATE USER few@'127.0.0.1'; GRANT ALL ON passing.* TO few@'127.0.0.1'").await?;

    // A row that another transaction holds.
    let (mut a, mut b) = (connect(galera, 0, "root").await?, connect(galera, 0, "root").await?);
    run(&mut a, "BEGIN; UPDATE passing.t SET n = 1 WHERE id = 1").await?;
    run(&mut b, "SET innodb_lock_wait_timeout = 1").await?;
    passes(1205, run(&mut b, "UPDATE passing.t SET n = 2 WHERE id = 1").await)?;
    // Two rows in opposite orders.
    run(&mut b, "SET innodb_lock_wait_timeout = 20; BEGIN; UPDATE passing.t SET n = 2 WHERE id = 2").await?;
    let waiting = tokio::spawn(async move {
        let waited = run(&mut a, "UPDATE passing.t SET n = 1 WHERE id = 2").await;
        (a, waited)
    });
    wait_for("the first to wait", || {
        let waits = "SELECT COUNT(*) FROM information_schema.INNODB_LOCK_WAITS";
        Ok((galera.members[0].sql(waits)? != "0").then_some(()))
    })?;
    let second = run(&mut b, "UPDATE passing.t SET n = 2 WHERE id = 1").await;
    let (mut a, first) = waiting.await?;
    passes(1213, if second.is_err() { second } else { first })?;
    let _ = (run(&mut a, "ROLLBACK").await, run(&mut b, "ROLLBACK").await);
    // A row that was written through another server meanwhile: the commit is not certified.
    run(&mut a, "BEGIN; UPDATE passing.t SET n = 1 WHERE id = 1").await?;
    let mut other = connect(galera, 1, "root").await?;
    run(&mut other, "UPDATE passing.t SET n = 3 WHERE id = 1").await?;
    passes(1213, run(&mut a, "COMMIT").await)?;

    // A statement that is too long under way, and one that is ended by somebody.
    passes(1969, run(&mut a, "SET STATEMENT max_statement_time = 0.05 FOR SELECT SLEEP(5)").await)?;
    let id: u64 = sqlx::query_scalar("SELECT CONNECTION_ID()").fetch_one(&mut a).await?;
    let sleeping = tokio::spawn(async move { run(&mut a, "SELECT SLEEP(30) FROM passing.t").await });
    let is_there =
        format!("SELECT COUNT(*) FROM information_schema.PROCESSLIST WHERE ID = {id} AND INFO LIKE '%SLEEP%'");
    wait_for("the statement to run", || Ok((galera.members[0].sql(&is_there)? == "1").then_some(())))?;
    run(&mut root, &format!("KILL QUERY {id}")).await?;
    passes(1317, sleeping.await?)?;

    // Read-only, for whoever may not write then.
    let mut few = connect(galera, 0, "few").await?;
    run(&mut root, "SET GLOBAL read_only = 1").await?;
    passes(1290, run(&mut few, "UPDATE passing.t SET n = 4 WHERE id = 1").await)?;
    run(&mut root, "SET GLOBAL read_only = 0").await?;
    // A connection that somebody ended: the next statement finds it gone.
    let id: u64 = sqlx::query_scalar("SELECT CONNECTION_ID()").fetch_one(&mut few).await?;
    run(&mut root, &format!("KILL {id}")).await?;
    let lost = StoreError::from(run(&mut few, "SELECT 1").await.err().context("it was ended")?);
    ensure!(lost.is_passing(), "a lost connection passes: {lost}");

    // Limits of a user, and of the server.
    run(&mut root, "ALTER USER few@'127.0.0.1' WITH MAX_USER_CONNECTIONS 1").await?;
    let held = connect(galera, 0, "few").await?;
    passes(1226, connect(galera, 0, "few").await.map(drop))?;
    drop(held);
    run(&mut root, "ALTER USER few@'127.0.0.1' WITH MAX_USER_CONNECTIONS 0; SET GLOBAL max_user_connections = 1")
        .await?;
    let held = wait_for_connection(galera, "few").await?;
    passes(1203, connect(galera, 0, "few").await.map(drop))?;
    drop(held);
    run(&mut root, "SET GLOBAL max_user_connections = 10000; SET GLOBAL max_connections = 10").await?;
    let mut held = Vec::new();
    let full = loop {
        match connect(galera, 0, "few").await {
            Ok(one) => held.push(one),
            Err(e) => break Err(e),
        }
        ensure!(held.len() < 100, "the server has no limit");
    };
    passes(1040, full)?;
    drop(held);

    // Without a quorum.
    galera.kill(1);
    galera.kill(2);
    wait_for("the last server to be without a quorum", || Ok((!galera.members[0].is_ready(1)).then_some(())))?;
    passes(1047, run(&mut root, "UPDATE passing.t SET n = 5 WHERE id = 1").await)
}

/// A connection, once those that were dropped have ended.
async fn wait_for_connection(galera: &Galera, user: &str) -> Result<MySqlConnection> {
    for _ in 0..200 {
        if let Ok(connection) = connect(galera, 0, user).await {
            return Ok(connection);
        }
        tokio::time::sleep(std::time::Duration::from_millis(25)).await;
    }
    anyhow::bail!("the connections that were dropped do not end")
}
