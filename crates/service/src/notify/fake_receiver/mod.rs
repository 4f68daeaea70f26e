//! Stand-ins for what lies outside: a receiver of webhooks and of mail that shows what arrived. For the demo and tests.

mod page;

use crate::notify::sign_webhook;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use axum::response::Html;
use axum::routing::{get, post};
use axum::{Json, Router};
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};
use std::net::SocketAddr;
use std::sync::Arc;
use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};
use tokio::net::{TcpListener, TcpStream};

/// The largest mail taken.
const MAX_MAIL: usize = 1 << 20;
/// What is kept of what arrived; the oldest goes.
const MAX_KEPT: usize = 5_000;

/// One thing that arrived.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Arrived {
    /// When, RFC 3339.
    pub at: String,
    /// `webhook` or `mail`.
    pub kind: String,
    /// The webhook's id, or the mail's recipient.
    pub to: String,
    /// `good` or `bad` where a secret is known, `unchecked` otherwise; mail is never signed.
    pub signature: String,
    /// The body, or the mail with its head.
    pub text: String,
}

type Tray = Arc<Mutex<Vec<Arrived>>>;

#[derive(Clone)]
struct Receiver {
    arrived: Tray,
    secrets: Arc<Mutex<Vec<String>>>,
}

/// Serves both until dropped: `POST /hook` takes webhooks, `GET /` shows what came, `GET /arrived` returns it as JSON, `POST /secret` adds a secret that
/// signatures are checked with; one that fits is enough.
pub async fn serve(http: TcpListener, smtp: TcpListener, show: fn(&Arrived)) -> std::io::Result<()> {
    let receiver = Receiver { arrived: Tray::default(), secrets: Arc::default() };
    let mails = receiver.arrived.clone();
    let router = Router::new()
        .route(
            "/hook",
            post(move |State(r): State<Receiver>, headers: HeaderMap, body: String| async move {
                take_hook(&r, &headers, body, show)
            }),
        )
        .route("/", get(|State(r): State<Receiver>| async move { Html(page::page(&r.arrived.lock())) }))
        .route("/arrived", get(|State(r): State<Receiver>| async move { Json(r.arrived.lock().clone()) }))
        .route(
            "/secret",
            post(
                |State(r): State<Receiver>, body: String| async move { r.secrets.lock().push(body.trim().to_owned()) },
            ),
        )
        .with_state(receiver);
    let smtp = async move {
        loop {
            let (stream, peer) = smtp.accept().await?;
            tokio::spawn(converse(stream, peer, mails.clone(), show));
        }
        #[allow(unreachable_code)]
        Ok::<(), std::io::Error>(())
    };
    tokio::select! {
        ended = axum::serve(http, router) => ended,
        ended = smtp => ended,
    }
}

fn now() -> String {
    jiff::Timestamp::now().strftime("%Y-%m-%dT%H:%M:%SZ").to_string()
}

fn keep(tray: &Tray, arrived: Arrived, show: fn(&Arrived)) {
    show(&arrived);
    let mut kept = tray.lock();
    if kept.len() >= MAX_KEPT {
        kept.remove(0);
    }
    kept.push(arrived);
}

fn take_hook(receiver: &Receiver, headers: &HeaderMap, body: String, show: fn(&Arrived)) -> StatusCode {
    let header = |name: &str| headers.get(name).and_then(|v| v.to_str().ok()).unwrap_or("").to_owned();
    let id = header("webhook-id");
    let (sent, timestamp) = (header("webhook-signature"), header("webhook-timestamp").parse().unwrap_or(0));
    let secrets = receiver.secrets.lock().clone();
    // Several signatures stand beside one another while a secret is changed.
    let fits = |secret: &String| {
        sign_webhook(secret, &id, timestamp, &body).is_ok_and(|s| sent.split(' ').any(|one| one == s))
    };
    let signature = match (secrets.is_empty(), secrets.iter().any(fits)) {
        (true, _) => "unchecked",
        (false, true) => "good",
        (false, false) => "bad",
    };
    keep(
        &receiver.arrived,
        Arrived { at: now(), kind: "webhook".into(), to: id, signature: signature.into(), text: body },
        show,
    );
    if signature == "bad" { StatusCode::UNAUTHORIZED } else { StatusCode::NO_CONTENT }
}

/// The receiving side of SMTP (RFC 5321), as much as one sender needs.
async fn converse(stream: TcpStream, _peer: SocketAddr, tray: Tray, show: fn(&Arrived)) -> std::io::Result<()> {
    let (read, mut write) = stream.into_split();
    let mut lines = BufReader::new(read).lines();
    write.write_all(b"220 stand-in ready\r\n").await?;
    let mut to = String::new();
    while let Some(line) = lines.next_line().await? {
        let verb = line.get(..4).unwrap_or("").to_ascii_uppercase();
        let answer: &[u8] = match verb.as_str() {
            "EHLO" | "HELO" => b"250 stand-in\r\n",
            "RCPT" => {
                to = line.split_once(':').map_or("", |(_, a)| a).trim_matches(['<', '>', ' ']).to_owned();
                b"250 fine\r\n"
            }
            "DATA" => {
                write.write_all(b"354 end with a dot\r\n").await?;
                let mut text = String::new();
                while let Some(line) = lines.next_line().await? {
                    if line == "." {
                        break;
                    }
                    if text.len() < MAX_MAIL {
                        text.push_str(line.strip_prefix('.').unwrap_or(&line));
                        text.push('\n');
                    }
                }
                let (kind, to) = ("mail".to_owned(), to.clone());
                keep(&tray, Arrived { at: now(), kind, to, signature: String::new(), text }, show);
                b"250 taken\r\n"
            }
            "QUIT" => {
                write.write_all(b"221 bye\r\n").await?;
                return Ok(());
            }
            _ => b"250 fine\r\n",
        };
        write.write_all(answer).await?;
    }
    Ok(())
}
