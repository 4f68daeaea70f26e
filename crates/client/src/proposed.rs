//! What a shell proposes while a query is typed: fields and values that the service has seen.

use crate::client::Connection;
use calvex_wire::api::{CompleteAnswer, CompleteRequest};
use clap_complete::{ArgValueCompleter, CompletionCandidate};
use std::ffi::OsStr;
use std::time::Duration;

/// Set by the scripts of `calvex completions` where a shell asks.
pub const VARIABLE: &str = "CALVEX_COMPLETE";
/// A shell waits no longer than this.
const PATIENCE: Duration = Duration::from_millis(1500);

/// Proposals for a word of a query.
pub fn query() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| propose(typed, ""))
}

/// Proposals for a field.
pub fn field() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| propose(typed, "has "))
}

/// Asks the service. A shell that completes sees nothing of what goes wrong: there is no place for it.
fn propose(typed: &OsStr, before: &str) -> Vec<CompletionCandidate> {
    let Some(typed) = typed.to_str() else { return Vec::new() };
    // Of names joined by commas, the last is the one that is typed.
    let joined = if before.is_empty() { 0 } else { typed.rfind(',').map_or(0, |at| at + 1) };
    let (kept, word) = typed.split_at(joined);
    let query = format!("{before}{word}");
    let at = query.chars().count();
    let asked = async {
        let connection = Connection {
            url: std::env::var("CALVEX_URL").ok(),
            profile: std::env::var("CALVEX_PROFILE").ok(),
            token: None,
            user: "admin".to_owned(),
        };
        // Without a token a password would be asked for, in the middle of a line.
        connection.meant().ok()?.1?;
        let ask =
            CompleteRequest { query: query.clone(), at, from: Some("now-1d".to_owned()), ..CompleteRequest::default() };
        connection.open().await.ok()?.post::<CompleteAnswer>("/api/complete", &ask).await.ok()
    };
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let Ok(runtime) = runtime else { return Vec::new() };
    let _ = rustls::crypto::ring::default_provider().install_default();
    let answer = runtime.block_on(async { tokio::time::timeout(PATIENCE, asked).await.ok().flatten() });
    let Some(answer) = answer else { return Vec::new() };
    let start: String = query.chars().take(answer.from).skip(before.chars().count()).collect();
    let reported = |p: calvex_wire::api::Proposal| {
        let note = if p.note.is_empty() { p.kind } else { p.note };
        CompletionCandidate::new(format!("{kept}{start}{}", p.text.trim_end())).help(Some(note.into()))
    };
    answer.proposals.into_iter().map(reported).collect()
}
