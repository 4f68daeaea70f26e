//! MariaDB's own programs, as tests call them: making a data directory, starting a server, asking it through its socket.

use anyhow::{Context, Result, ensure};
use std::path::Path;
use std::process::{Command, Output};

/// The search path with the folder where Debian keeps the server.
pub fn search_path() -> String {
    format!("{}:/usr/sbin", std::env::var("PATH").unwrap_or_default())
}

/// A server's program, without settings of this machine.
pub fn server() -> Command {
    let mut command = Command::new("mariadbd");
    command.env("PATH", search_path());
    command
}

/// Makes an empty data directory `data` below `dir`; `prepare` may set the user.
///
/// # Errors
/// Where the program is missing or fails.
pub fn install(dir: &Path, prepare: impl FnOnce(&mut Command) -> Result<()>) -> Result<()> {
    let mut install = Command::new("mariadb-install-db");
    // A server that starts removes temporary tables in its directory, those of others too.
    install.env("TMPDIR", dir);
    install.args(["--no-defaults", "--auth-root-authentication-method=normal", "--skip-test-db"]);
    install.arg(format!("--datadir={}", dir.join("data").display()));
    prepare(&mut install)?;
    let done = install.output().context("mariadb-install-db does not start; install mariadb-server")?;
    ensure!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    Ok(())
}

/// The client at a server's socket, which runs one statement and prints rows without heads.
pub fn client(socket: &Path, statement: &str) -> Command {
    let mut client = session(socket);
    client.args(["-e", statement]);
    client
}

/// The database's client on statements of its standard input; its connection ends with it.
pub fn session(socket: &Path) -> Command {
    let mut client = Command::new("mariadb");
    client.args(["--no-defaults", "--user=root", "--batch", "--skip-column-names", "--connect-timeout=3"]);
    client.arg("--unbuffered").arg(format!("--socket={}", socket.display()));
    client
}

/// What one statement returns, as text; with the name of a database, what it returns there.
///
/// # Errors
/// Where the server does not answer, or refuses it.
pub fn sql(socket: &Path, database: Option<&str>, statement: &str) -> Result<String> {
    let mut client = client(socket, statement);
    let Output { status, stdout, stderr } = client.args(database).output().context("mariadb does not start")?;
    ensure!(status.success(), "{}", String::from_utf8_lossy(&stderr));
    Ok(String::from_utf8(stdout)?.trim().to_owned())
}
