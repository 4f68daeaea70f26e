//! A relay between client and server that spoils the Nth statement. It counts commands of MariaDB's protocol: four bytes
//! (length and number), then a command byte; a command begins with number 0. It knows nothing of what the store does, so
//! a statement that is added later is covered too.

use parking_lot::Mutex;
use std::path::PathBuf;
use std::sync::Arc;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{UnixListener, UnixStream};

/// What strikes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Strike {
    /// The server's answer is this error instead; the statement is not run.
    Error(u16, &'static str),
    /// The connection is lost before the statement is run.
    LostBefore,
    /// It is run, and its answer is lost.
    LostAfter,
}

/// Commands that run a statement: a query as text, and a prepared one.
const RUNS: [u8; 2] = [0x03, 0x17];

#[derive(Default)]
struct Armed {
    /// Statements until the strike; none where nothing is armed.
    left: Option<(usize, Strike)>,
    struck: bool,
}

/// A relay to the server that strikes where it is armed.
pub(super) struct Striker {
    /// Where its clients connect.
    pub(super) socket: PathBuf,
    armed: Arc<Mutex<Armed>>,
    _dir: tempfile::TempDir,
    task: tokio::task::JoinHandle<()>,
}

impl Striker {
    pub(super) fn start(server: PathBuf) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let socket = dir.path().join("sock");
        let listener = UnixListener::bind(&socket).unwrap();
        let armed = Arc::new(Mutex::new(Armed::default()));
        let of = armed.clone();
        let task = tokio::spawn(async move {
            while let Ok((client, _)) = listener.accept().await {
                let (server, armed) = (server.clone(), of.clone());
                tokio::spawn(async move {
                    if let Ok(server) = UnixStream::connect(server).await {
                        let _ = relay(client, server, &armed).await;
                    }
                });
            }
        });
        Striker { socket, armed, _dir: dir, task }
    }

    /// The `n`th statement from now on, counted from 1, is struck.
    pub(super) fn arm(&self, n: usize, strike: Strike) {
        *self.armed.lock() = Armed { left: Some((n, strike)), struck: false };
    }

    /// Whether it struck since it was armed; nothing is armed any more.
    pub(super) fn disarm(&self) -> bool {
        std::mem::take(&mut *self.armed.lock()).struck
    }
}

impl Drop for Striker {
    fn drop(&mut self) {
        self.task.abort();
    }
}

/// Which strike this command takes.
fn struck(armed: &Mutex<Armed>, packet: &[u8]) -> Option<Strike> {
    let is_statement = packet.get(3) == Some(&0) && packet.get(4).is_some_and(|c| RUNS.contains(c));
    let mut armed = armed.lock();
    let (left, strike) = armed.left.as_mut().filter(|_| is_statement)?;
    *left -= 1;
    if *left > 0 {
        return None;
    }
    let strike = *strike;
    *armed = Armed { left: None, struck: true };
    Some(strike)
}

async fn relay(client: UnixStream, server: UnixStream, armed: &Mutex<Armed>) -> std::io::Result<()> {
    let (mut from_client, mut to_client) = client.into_split();
    let (mut from_server, mut to_server) = server.into_split();
    let silent = Arc::new(std::sync::atomic::AtomicBool::new(false));
    let mute = silent.clone();
    let (errors, mut reported) = tokio::sync::mpsc::channel::<Vec<u8>>(1);
    let back = tokio::spawn(async move {
        let mut buffer = vec![0; 1 << 16];
        loop {
            tokio::select! {
                read = from_server.read(&mut buffer) => match read {
                    Ok(length @ 1..) if !mute.load(std::sync::atomic::Ordering::SeqCst) => {
                        to_client.write_all(&buffer[..length]).await?;
                    }
                    // The answer of a statement whose connection is lost after it.
                    _ => return Ok::<_, std::io::Error>(()),
                },
                error = reported.recv() => match error {
                    Some(error) => to_client.write_all(&error).await?,
                    None => return Ok(()),
                },
            }
        }
    });
    loop {
        let mut head = [0; 4];
        if from_client.read_exact(&mut head).await.is_err() {
            break;
        }
        let length = usize::from(head[0]) | usize::from(head[1]) << 8 | usize::from(head[2]) << 16;
        let mut packet = head.to_vec();
        packet.resize(4 + length, 0);
        from_client.read_exact(&mut packet[4..]).await?;
        match struck(armed, &packet) {
            None => to_server.write_all(&packet).await?,
            Some(Strike::LostBefore) => break,
            Some(Strike::LostAfter) => {
                silent.store(true, std::sync::atomic::Ordering::SeqCst);
                to_server.write_all(&packet).await?;
                let _ = back.await;
                return Ok(());
            }
            Some(Strike::Error(code, state)) => {
                let mut payload = vec![0xff];
                payload.extend_from_slice(&code.to_le_bytes());
                payload.extend_from_slice(format!("#{state}as a test asked").as_bytes());
                let mut error = (payload.len() as u32).to_le_bytes()[..3].to_vec();
                error.push(1);
                error.extend_from_slice(&payload);
                let _ = errors.send(error).await;
            }
        }
    }
    back.abort();
    Ok(())
}
