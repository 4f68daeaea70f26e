//! Who may hold a connection. A listener holds so many; beyond, the one that was silent for longest gives way, taken
//! from the address that holds the most. So a crowd of silent clients never keeps out the next one, and one address
//! never keeps out another.

use parking_lot::Mutex;
use std::collections::HashMap;
use std::io::{IoSlice, Result};
use std::net::{IpAddr, SocketAddr};
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::task::{Context, Poll};
use std::time::Instant;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio::sync::Notify;

/// What is known of a connection.
struct Known {
    from: IpAddr,
    /// When something came or went last, milliseconds of the listener.
    last_ms: AtomicU64,
    evict: Notify,
}

/// The connections of one listener.
pub struct Connections {
    most: usize,
    /// Connections of one address; beyond, its own longest silent one gives way.
    of_one: usize,
    began: Instant,
    held: Mutex<HashMap<u64, Arc<Known>>>,
    next: AtomicU64,
}

impl Connections {
    /// At most `most` at once, half of them of one address.
    pub fn new(most: usize) -> Arc<Self> {
        Arc::new(Connections {
            most,
            of_one: (most / 2).max(1),
            began: Instant::now(),
            held: Mutex::default(),
            next: AtomicU64::new(0),
        })
    }

    /// Takes a connection in. Where there are too many, another has to end.
    pub fn admit(self: &Arc<Self>, stream: TcpStream, from: SocketAddr) -> (Tracked, Held) {
        let from = from.ip().to_canonical();
        let known = Arc::new(Known { from, last_ms: AtomicU64::new(self.now_ms()), evict: Notify::new() });
        let id = self.next.fetch_add(1, Ordering::Relaxed);
        let mut held = self.held.lock();
        if let Some(victim) = self.victim(&held, from)
            && let Some(known) = held.remove(&victim)
        {
            known.evict.notify_one();
        }
        held.insert(id, known.clone());
        let tracked = Tracked { stream, known: known.clone(), of: self.clone() };
        (tracked, Held { id, known, of: self.clone() })
    }

    /// Which connection gives way to one from `from`; none where there is room.
    fn victim(&self, held: &HashMap<u64, Arc<Known>>, from: IpAddr) -> Option<u64> {
        let mut by: HashMap<IpAddr, usize> = HashMap::new();
        if held.len() * 2 < self.most {
            return None;
        }
        held.values().for_each(|k| *by.entry(k.from).or_default() += 1);
        let crowded = if by.get(&from).is_some_and(|n| *n >= self.of_one) {
            from
        } else if held.len() >= self.most {
            by.into_iter().max_by_key(|(_, n)| *n)?.0
        } else {
            return None;
        };
        let silent = |(_, known): &(&u64, &Arc<Known>)| known.last_ms.load(Ordering::Relaxed);
        held.iter().filter(|(_, k)| k.from == crowded).min_by_key(silent).map(|(id, _)| *id)
    }

    fn now_ms(&self) -> u64 {
        u64::try_from(self.began.elapsed().as_millis()).unwrap_or(u64::MAX)
    }

    /// Connections held now.
    #[cfg(test)]
    fn len(&self) -> usize {
        self.held.lock().len()
    }
}

/// A place among the connections, given back when it goes.
pub struct Held {
    id: u64,
    known: Arc<Known>,
    of: Arc<Connections>,
}

impl Held {
    /// Resolves when this connection must give way.
    pub async fn evicted(&self) {
        self.known.evict.notified().await;
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        self.of.held.lock().remove(&self.id);
    }
}

/// A connection that notes when something came or went.
pub struct Tracked {
    stream: TcpStream,
    known: Arc<Known>,
    of: Arc<Connections>,
}

impl Tracked {
    /// Looks at what came without taking it.
    pub async fn peek(&self, buffer: &mut [u8]) -> Result<usize> {
        self.stream.peek(buffer).await
    }

    fn touch(&self) {
        self.known.last_ms.store(self.of.now_ms(), Ordering::Relaxed);
    }

    /// Sends small pieces at once.
    pub fn set_nodelay(&self) {
        // A connection that is gone already is found out by the next read.
        let _ = self.stream.set_nodelay(true);
    }
}

impl AsyncRead for Tracked {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buffer: &mut ReadBuf<'_>) -> Poll<Result<()>> {
        let before = buffer.filled().len();
        let polled = Pin::new(&mut self.stream).poll_read(cx, buffer);
        if buffer.filled().len() > before {
            self.touch();
        }
        polled
    }
}

impl AsyncWrite for Tracked {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, bytes: &[u8]) -> Poll<Result<usize>> {
        self.touch();
        Pin::new(&mut self.stream).poll_write(cx, bytes)
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        slices: &[IoSlice<'_>],
    ) -> Poll<Result<usize>> {
        Pin::new(&mut self.stream).poll_write_vectored(cx, slices)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Result<()>> {
        Pin::new(&mut self.stream).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(cx)
    }
}

/// Raises the limit of open files as far as the system lets this process; what it is then.
pub fn raise_open_files() -> u64 {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let limit = getrlimit(Resource::Nofile);
    if limit.current != limit.maximum {
        // Where it is refused the old limit holds, which is returned below.
        let _ = setrlimit(Resource::Nofile, Rlimit { current: limit.maximum, maximum: limit.maximum });
    }
    getrlimit(Resource::Nofile).current.unwrap_or(u64::MAX)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn known(from: &str, last_ms: u64) -> Arc<Known> {
        Arc::new(Known { from: from.parse().unwrap(), last_ms: AtomicU64::new(last_ms), evict: Notify::new() })
    }

    #[test]
    fn the_longest_silent_of_the_largest_crowd_gives_way() {
        let connections = Connections::new(6);
        let (crowd, lone, next) = ("10.4.0.1", "10.4.0.2", "10.4.0.3");
        let victim = |of: &[(&str, u64)], from: &str| {
            let held = of.iter().enumerate().map(|(n, (from, ms))| (n as u64, known(from, *ms))).collect();
            connections.victim(&held, from.parse().unwrap())
        };
        assert_eq!(victim(&[(crowd, 1), (lone, 2)], crowd), None, "there is room");
        assert_eq!(victim(&[(crowd, 3), (crowd, 2), (crowd, 9)], crowd), Some(1), "beyond the share of an address");
        assert_eq!(victim(&[(crowd, 3), (crowd, 2), (crowd, 9)], lone), None);
        let full = [(lone, 0), (crowd, 4), (crowd, 2), (crowd, 7), (lone, 1), ("10.4.0.4", 0)];
        assert_eq!(victim(&full, next), Some(2), "not the silent ones of small senders");
    }

    #[tokio::test]
    async fn who_must_give_way_is_told() {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let connections = Connections::new(2);
        let mut held = Vec::new();
        for _ in 0..3 {
            let client = TcpStream::connect(listener.local_addr().unwrap()).await.unwrap();
            let (stream, from) = listener.accept().await.unwrap();
            held.push((connections.admit(stream, from), client));
        }
        // One address has a share of one here, so each newcomer pushed the one before it out.
        for ((_, held), _) in &held[..2] {
            held.evicted().await;
        }
        assert_eq!(connections.len(), 1);
        drop(held);
        assert_eq!(connections.len(), 0);
        assert!(raise_open_files() >= 256);
    }
}
