//! The stand-in receiver of webhooks and mail, as a process of its own.

use crate::service::binary;
use anyhow::{Context, Result};
use serde_json::Value;
use std::collections::BTreeSet;
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};

/// The stand-in receiver, with its addresses.
pub struct Receiver {
    child: Child,
    /// Where webhooks go.
    pub hook: String,
    /// Where mail goes, as host:port.
    pub mail: String,
}

impl Receiver {
    /// Starts one on free ports.
    pub fn start() -> Result<Self> {
        Self::start_at("127.0.0.1:0", "127.0.0.1:0")
    }

    /// Starts one on these ports.
    pub fn start_at(http: &str, smtp: &str) -> Result<Self> {
        let mut child =
            Command::new(binary()).args(["receiver", "--http", http, "--smtp", smtp]).stdout(Stdio::piped()).spawn()?;
        let mut lines = BufReader::new(child.stdout.take().context("no output")?).lines();
        let reported = lines.next().context("the receiver says nothing")??;
        let words: Vec<&str> = reported.split([' ', ',']).collect();
        let word = |n: usize| words.get(n).map(|word| (*word).to_owned()).context("the receiver names no address");
        let (hook, mail) = (word(2)?, word(words.len().saturating_sub(1))?);
        std::thread::spawn(move || lines.for_each(drop));
        Ok(Receiver { child, hook, mail })
    }

    /// Everything that arrived.
    pub async fn arrived(&self) -> Result<Vec<Value>> {
        Ok(reqwest::get(self.hook.replace("/hook", "/arrived")).await?.json().await?)
    }

    /// The ids of the webhooks that arrived, of one type. A service that is killed before it has noted that a message
    /// went out sends it again, under the same id, by which a receiver knows it.
    pub async fn ids(&self, kind: &str) -> Result<BTreeSet<String>> {
        let of_kind = |a: &Value| {
            let event = serde_json::from_str::<Value>(a["text"].as_str().unwrap_or("")).ok();
            a["kind"] == "webhook" && event.is_some_and(|event| event["type"] == kind)
        };
        let hooks = self.arrived().await?.into_iter().filter(of_kind);
        Ok(hooks.filter_map(|a| a["to"].as_str().map(str::to_owned)).collect())
    }

    /// The contents of the webhooks that arrived, of one type.
    pub async fn events(&self, kind: &str) -> Result<Vec<Value>> {
        let events = self.arrived().await?.into_iter().filter(|a| a["kind"] == "webhook");
        let events = events.filter_map(|a| serde_json::from_str(a["text"].as_str()?).ok());
        Ok(events.filter(|event: &Value| event["type"] == kind).collect())
    }
}

impl Drop for Receiver {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
