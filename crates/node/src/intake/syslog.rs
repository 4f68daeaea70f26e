//! Syslog over UDP, TCP and TLS. It carries no key: the setting `syslog.sender` says whom it counts as.
//!
//! Datagrams are read by one task into a bounded queue and transformed by another, so that a flood fills the queue, is counted
//! as refused (`overflow`), and takes nothing from the other ways in. Streams are read no faster than they are stored.

use super::refuse;
use super::streams::take_patiently;
use crate::admission::accept::accept;
use crate::admission::budget::Owner;
use crate::admission::connections::{Connections, Tracked};
use crate::intake::sender::named_sender;
use crate::state::Receiving;
use calvex_intake::batch::{BatchBuilder, Reading};
use calvex_store::StoreError;
use calvex_wire::syslog::{self, Frame, Framer};
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use tokio::io::{AsyncRead, AsyncReadExt};
use tokio::net::{TcpListener, UdpSocket};
use tokio::sync::{mpsc, watch};
use tokio_rustls::TlsAcceptor;

/// Messages of one batch at most.
const BATCH: usize = 2000;
/// Bytes gathered at most, but for what is read at once.
const BATCH_BYTES: usize = 1 << 20;
/// How long messages are gathered before they are committed together.
const GATHER: Duration = Duration::from_millis(20);
/// Datagrams that wait at most; at a full queue they are refused.
const QUEUE: usize = 10_000;
/// Bytes of datagrams that wait at most.
const QUEUE_BYTES: usize = 32 << 20;
/// The kernel's buffer for datagrams, where it lets us have it.
const RECEIVE_BYTES: usize = 16 << 20;
/// How often it is looked at what the kernel dropped.
const DROPS_EVERY: Duration = Duration::from_secs(1);
/// A stream that rests so long within a message marks no ends: what is there is taken.
const UNMARKED: Duration = Duration::from_millis(500);
/// How long a message that has begun may take.
const WITHIN: Duration = Duration::from_secs(60);
/// Bytes of a message that every connection may hold.
const UNCHARGED: usize = 64 << 10;
/// How long a connection may rest between messages.
const REST: Duration = Duration::from_secs(3600);
/// How long a connection may take to its first byte.
const FIRST_BYTE: Duration = Duration::from_secs(60);
/// A drained node leaves a stream that rests so long, and one that does not after so long: at the end of a message, or within
/// one where no end comes in as long again.
const LEAVES: (Duration, Duration) = (Duration::from_secs(1), Duration::from_secs(10));
/// How long a handshake may take.
const HANDSHAKE: Duration = Duration::from_secs(10);
/// The first byte of a TLS record that begins a handshake (RFC 8446, 5.1).
const TLS_HANDSHAKE: u8 = 22;

type Message = (Frame, String);

async fn take(receiving: &Arc<Receiving>, stopping: &watch::Receiver<bool>, messages: Vec<Message>) {
    if messages.is_empty() {
        return;
    }
    let count = messages.len() as u64;
    let bytes = messages.iter().map(|(frame, _)| frame.bytes()).sum();
    let messages = Arc::new(messages);
    let decode = || {
        let messages = messages.clone();
        move |batch: &mut BatchBuilder, reading: &mut Reading| {
            Ok(syslog::take(&messages, batch, reading).map_err(StoreError::Core)?)
        }
    };
    let name = receiving.base.settings.text("syslog.sender");
    let sender = || named_sender(&receiving.auth, name);
    if let Err(e) = take_patiently(receiving, sender, stopping, bytes, decode).await {
        refuse(&receiving.base, name, "not-stored", count, &e.to_string());
        tracing::warn!("{count} syslog messages were lost: {e}");
    }
}

/// Makes the kernel's buffer as large as it lets us; how large it is then, bytes.
fn receive_buffer(socket: &UdpSocket) -> usize {
    use nix::sys::socket::{getsockopt, setsockopt, sockopt};
    // The first needs a right that a service seldom has, the second stops at the system's bound (net.core.rmem_max).
    if setsockopt(socket, sockopt::RcvBufForce, &RECEIVE_BYTES).is_err() {
        let _ = setsockopt(socket, sockopt::RcvBuf, &RECEIVE_BYTES);
    }
    getsockopt(socket, sockopt::RcvBuf).unwrap_or(0)
}

/// Counts the datagrams that the kernel dropped because its buffer was full: nobody else sees them.
async fn count_dropped(receiving: Arc<Receiving>, address: Option<SocketAddr>, mut stopping: watch::Receiver<bool>) {
    let Some(address) = address else { return };
    let mut known = 0;
    loop {
        let stopped = tokio::time::timeout(DROPS_EVERY, stopping.wait_for(|s| *s)).await.is_ok();
        let drops = tokio::fs::read_to_string("/proc/net/udp").await.unwrap_or_default()
            + &tokio::fs::read_to_string("/proc/net/udp6").await.unwrap_or_default();
        if let Some(drops) = dropped(&drops, address.port()).filter(|n| *n > known) {
            let more = drops - known;
            known = drops;
            let sample = format!("the kernel's buffer of port {} was full", address.port());
            refuse(&receiving.base, receiving.base.settings.text("syslog.sender"), "dropped-by-kernel", more, &sample);
        }
        if stopped {
            return;
        }
    }
}

/// The datagrams dropped for a port, from the kernel's table of sockets: the local address in hex is the second column,
/// the drops are the last (proc(5)).
fn dropped(table: &str, port: u16) -> Option<u64> {
    let of_port = |line: &&str| {
        let local = line.split_whitespace().nth(1).and_then(|local| local.rsplit_once(':'));
        local.is_some_and(|(_, hex)| u16::from_str_radix(hex, 16) == Ok(port))
    };
    let drops = table.lines().filter(of_port).filter_map(|line| line.split_whitespace().last()?.parse::<u64>().ok());
    drops.max()
}

/// Takes datagrams until stopped.
pub async fn serve_udp(receiving: Arc<Receiving>, socket: UdpSocket, mut stopping: watch::Receiver<bool>) {
    let buffer_bytes = receive_buffer(&socket);
    tracing::info!(buffer_bytes, "the kernel keeps datagrams of so many bytes until they are read");
    tokio::spawn(count_dropped(receiving.clone(), socket.local_addr().ok(), stopping.clone()));
    let (queue, mut queued) = mpsc::channel::<Message>(QUEUE);
    let queued_bytes = Arc::new(AtomicUsize::new(0));
    let taken_bytes = queued_bytes.clone();
    let (preparer, until) = (receiving.clone(), stopping.clone());
    let preparing = tokio::spawn(async move {
        let mut messages = Vec::with_capacity(BATCH);
        while let Some(first) = queued.recv().await {
            messages.push(first);
            let deadline = tokio::time::Instant::now() + GATHER;
            while messages.len() < BATCH {
                match tokio::time::timeout_at(deadline, queued.recv()).await {
                    Ok(Some(message)) => messages.push(message),
                    _ => break,
                }
            }
            let bytes: usize = messages.iter().map(|(frame, _)| frame.bytes()).sum();
            take(&preparer, &until, std::mem::take(&mut messages)).await;
            taken_bytes.fetch_sub(bytes, Ordering::SeqCst);
        }
    });
    let mut buffer = vec![0; 1 << 16];
    loop {
        let received = tokio::select! {
            _ = stopping.wait_for(|s| *s) => break,
            received = socket.recv_from(&mut buffer) => received,
        };
        match received {
            Ok((0, _)) => {}
            Ok((length, from)) => {
                let bytes = buffer.get(..length).unwrap_or_default().to_vec();
                let room = queued_bytes.load(Ordering::SeqCst) + length <= QUEUE_BYTES;
                queued_bytes.fetch_add(length, Ordering::SeqCst);
                if !room || queue.try_send((Frame::Message(bytes), from.ip().to_string())).is_err() {
                    queued_bytes.fetch_sub(length, Ordering::SeqCst);
                    refuse(
                        &receiving.base,
                        receiving.base.settings.text("syslog.sender"),
                        "overflow",
                        1,
                        &format!("from {}", from.ip()),
                    );
                }
            }
            Err(e) => {
                tracing::debug!("a datagram was not received: {e}");
                tokio::time::sleep(Duration::from_millis(10)).await;
            }
        }
    }
    drop(queue);
    let _ = preparing.await;
}

/// Takes streams until stopped.
pub async fn serve_tcp(receiving: Arc<Receiving>, listener: TcpListener, stopping: watch::Receiver<bool>) {
    let connections = Connections::new(receiving.base.connections_of("syslog"));
    let each = |stream: Tracked, from: SocketAddr| {
        let (receiving, stopping) = (receiving.clone(), stopping.clone());
        async move {
            // Who speaks another protocol is named in the log, and nothing of it is stored.
            let mut first = [0u8; 8];
            let Ok(Ok(peeked @ 1..)) = tokio::time::timeout(FIRST_BYTE, stream.peek(&mut first)).await else { return };
            let begins = first.get(..peeked).unwrap_or_default();
            match wrong_protocol(begins) {
                Some(what) => {
                    refuse(&receiving.base, "syslog port", "wrong-protocol", 1, &format!("{what} from {}", from.ip()));
                    tracing::warn!("{from} speaks {what} on the syslog port");
                }
                None => read(&receiving, stream, from, stopping).await,
            }
        }
    };
    let running = accept(listener, connections, stopping.clone(), each).await;
    running.join_all().await;
}

/// What a stream that is no syslog begins like.
fn wrong_protocol(begins: &[u8]) -> Option<&'static str> {
    let methods: [&[u8]; 5] = [b"GET ", b"POST ", b"PUT ", b"HEAD ", b"PRI * HT"];
    if begins.first() == Some(&TLS_HANDSHAKE) {
        return Some("TLS");
    }
    methods.iter().any(|m| begins.starts_with(m)).then_some("HTTP")
}

/// Takes TLS streams until stopped.
pub async fn serve_tls(
    receiving: Arc<Receiving>,
    listener: TcpListener,
    tls: TlsAcceptor,
    stopping: watch::Receiver<bool>,
) {
    let connections = Connections::new(receiving.base.connections_of("syslog over TLS"));
    let each = |stream: Tracked, from: SocketAddr| {
        let (receiving, stopping, tls) = (receiving.clone(), stopping.clone(), tls.clone());
        async move {
            match tokio::time::timeout(HANDSHAKE, tls.accept(stream)).await {
                Ok(Ok(stream)) => read(&receiving, stream, from, stopping).await,
                Ok(Err(e)) => {
                    refuse(
                        &receiving.base,
                        "syslog TLS port",
                        "wrong-protocol",
                        1,
                        &format!("{e}, from {}", from.ip()),
                    );
                    tracing::warn!("{from} did not begin TLS on the syslog port: {e}");
                }
                Err(_) => tracing::debug!("{from} took too long to begin TLS"),
            }
        }
    };
    let running = accept(listener, connections, stopping.clone(), each).await;
    running.join_all().await;
}

/// Bytes that frames hold.
fn bytes_of(frames: &[Frame]) -> usize {
    frames.iter().map(Frame::bytes).sum()
}

async fn read(
    receiving: &Arc<Receiving>,
    mut stream: impl AsyncRead + Unpin,
    from: SocketAddr,
    mut stopping: watch::Receiver<bool>,
) {
    let mut charge = receiving.intake_budget.charge(Owner::Address(from.ip()));
    let from = from.ip().to_string();
    let mut framer = Framer::new(receiving.base.settings.event_limits().event_bytes);
    let (mut buffer, mut frames) = (vec![0; 1 << 16], Vec::new());
    let mut drained: Option<Instant> = None;
    loop {
        let leaves = |after: Duration| drained.is_some_and(|since| since.elapsed() > after);
        if leaves(LEAVES.1) && framer.is_empty() || leaves(LEAVES.1 * 2) {
            framer.flush(&mut frames);
            let messages = std::mem::take(&mut frames).into_iter().map(|f| (f, from.clone())).collect();
            return take(receiving, &stopping, messages).await;
        }
        let wait = match (framer.is_empty(), framer.ends_by_rest()) {
            (true, _) if drained.is_some() => LEAVES.0,
            (true, _) => REST,
            (false, true) => UNMARKED,
            (false, false) => WITHIN,
        };
        let got = tokio::select! {
            _ = stopping.wait_for(|s| *s) => Ok(Ok(0)),
            // The sender goes on at another node; what is under way to this one is taken.
            () = receiving.base.nodes.drained(), if drained.is_none() => {
                drained = Some(Instant::now());
                continue;
            }
            got = tokio::time::timeout(wait, stream.read(&mut buffer)) => got,
        };
        let ended = match got {
            Ok(Ok(0)) | Ok(Err(_)) => true,
            Ok(Ok(length)) => {
                framer.feed(buffer.get(..length).unwrap_or_default(), &mut frames);
                let until = tokio::time::Instant::now() + GATHER;
                let mut ended = false;
                while frames.len() < BATCH && bytes_of(&frames) < BATCH_BYTES && !ended {
                    match tokio::time::timeout_at(until, stream.read(&mut buffer)).await {
                        Ok(Ok(length)) if length > 0 => {
                            framer.feed(buffer.get(..length).unwrap_or_default(), &mut frames);
                        }
                        Ok(_) => ended = true,
                        Err(_) => break,
                    }
                }
                ended
            }
            // Nothing came for too long, or no more of a message that had begun: what is there is taken.
            Err(_) if !framer.ends_by_rest() => true,
            Err(_) => {
                framer.flush(&mut frames);
                false
            }
        };
        if ended {
            framer.flush(&mut frames);
        }
        // Messages that wait and a large one that goes on are charged alike.
        if charge.set_patiently((framer.held_bytes() + bytes_of(&frames)).saturating_sub(UNCHARGED)).await.is_err() {
            refuse(
                &receiving.base,
                receiving.base.settings.text("syslog.sender"),
                "no-memory",
                1,
                &format!("from {from}"),
            );
            return;
        }
        let messages = std::mem::take(&mut frames).into_iter().map(|f| (f, from.clone())).collect();
        take(receiving, &stopping, messages).await;
        if ended || charge.set(framer.held_bytes().saturating_sub(UNCHARGED)).is_err() {
            return;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::dropped;

    #[test]
    fn drops_are_read_from_the_kernels_table() {
        let table = "   sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode ref pointer drops
  419: 0100007F:0202 00000000:0000 07 00000000:00000000 00:00000000 00000000     0        0 1234 2 0000000000000000 93
  420: 0100007F:1F90 00000000:0000 07 00000000:00000000 00:00000000 00000000     0        0 1235 2 0000000000000000 7
";
        assert_eq!((dropped(table, 514), dropped(table, 8080), dropped(table, 1)), (Some(93), Some(7), None));
    }
}
