//! The client of a service: the commands that send events and ask for them over HTTP, one file each below `commands`, and
//! what every command shares. In: what the command line parsed, and answers of the service. Out: tables, lines and NDJSON
//! on standard output.
//!
//! It knows neither the service's code nor a database, so it builds beside them. The commands that keep people, lanes and
//! rules are in `calvex-keeping`.
#![warn(missing_docs)]

mod addresses;
pub mod client;
mod commands;
mod figures;
pub mod options;
pub mod output;
pub mod profiles;
pub mod proposed;
pub mod shown;

use anyhow::Result;
use clap::Subcommand;
pub use commands::send::key_or_env;
use std::pin::Pin;
use tokio::signal::unix::{SignalKind, signal};

/// What a command ended with.
pub enum Ended {
    /// 0: done, or something was found.
    Well,
    /// 1: nothing was found.
    Nothing,
}

/// A command under way, behind a pointer: what is awaited by its own type is built with whoever awaits it, and that would be
/// the binary, after all else.
pub type Work = Pin<Box<dyn Future<Output = Result<Ended>>>>;

/// Now, nanoseconds from 1970.
pub fn now_ns() -> i64 {
    i64::try_from(jiff::Timestamp::now().as_nanosecond()).unwrap_or(i64::MAX)
}

/// Resolves at Ctrl-C or SIGTERM.
///
/// # Errors
/// Where the signals cannot be waited for.
pub async fn asked_to_stop() -> Result<()> {
    let mut terminate = signal(SignalKind::terminate())?;
    let mut interrupt = signal(SignalKind::interrupt())?;
    tokio::select! {
        _ = terminate.recv() => {}
        _ = interrupt.recv() => {}
    }
    Ok(())
}

/// What senders use, and what came of what they sent.
#[derive(Subcommand)]
#[allow(missing_docs, reason = "a command documents itself in its help, which is its first line here or at its type")]
pub enum Sending {
    /// Send NDJSON from files or standard input
    Send(commands::send::Send),
    /// Follow files, or standard input, and have each line stored once
    Ship(commands::ship::Ship),
    /// What came from each sender, service and host, and what became of it
    Arrivals(commands::arrivals::Arrivals),
    /// Mark a change: a release, a setting, what somebody did
    Mark(commands::mark::Mark),
}

impl Sending {
    /// Runs the command.
    ///
    /// # Errors
    /// What the command line reports in one line.
    pub fn run(self) -> Work {
        Box::pin(async move {
            match self {
                Sending::Send(c) => c.run().await,
                Sending::Ship(c) => c.run().await,
                Sending::Arrivals(c) => c.run().await,
                Sending::Mark(c) => c.run().await,
            }
        })
    }
}

/// What asks for events, and for figures made of them.
#[derive(Subcommand)]
#[allow(missing_docs, reason = "a command documents itself in its help, which is its first line here or at its type")]
pub enum Reading {
    /// Search events
    Search(commands::search::Search),
    /// How things stand: services against their usual, alerts, marks
    Now(commands::now::Now),
    /// Searches that were saved
    Saved(commands::saved::Saved),
    /// Show events as they come
    Tail(commands::tail::Tail),
    /// Write every event a query finds, or its figures, as NDJSON or CSV
    Export(commands::export::Export),
    /// Top values of fields among the events found
    Breakdown(commands::breakdown::Breakdown),
    /// Events folded by the shape of their message, with their trend
    Shapes(commands::shapes::Shapes),
    /// Error groups: failures folded into problems, and how far each is
    Errors(commands::errors::Errors),
    /// Show everything tied to one id, drawn
    Story(commands::story::Story),
    /// What differs between two sets of events, the best explanation first
    Compare(commands::compare::Compare),
}

impl Reading {
    /// Runs the command.
    ///
    /// # Errors
    /// What the command line reports in one line.
    pub fn run(self) -> Work {
        Box::pin(async move {
            match self {
                Reading::Search(c) => c.run().await,
                Reading::Now(c) => c.run().await,
                Reading::Saved(c) => c.run().await,
                Reading::Tail(c) => c.run().await,
                Reading::Export(c) => c.run().await,
                Reading::Breakdown(c) => c.run().await,
                Reading::Shapes(c) => c.run().await,
                Reading::Errors(c) => c.run().await,
                Reading::Story(c) => c.run().await,
                Reading::Compare(c) => c.run().await,
            }
        })
    }
}
