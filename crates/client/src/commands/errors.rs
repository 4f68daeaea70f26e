//! `calvex errors`: failures folded into problems, and what is said about each.

use super::search::check_whole;
use crate::client::{Connection, segment};
use crate::figures::bars;
use crate::options::{Form, Link, Range, address};
use crate::shown::ZoneArgs;
use crate::{Ended, output};
use anyhow::{Result, bail};
use calvex_wire::api::{ErrorGroup, ErrorsAnswer, ErrorsRequest, SayOfGroup};
use clap::Args;

/// Error groups: the failures of a range folded into problems, with their state, trend, releases and an example to open.
/// With --known, --resolved or --new, say how far one of them is.
#[derive(Args)]
pub struct Errors {
    /// Which events; only failures among them count
    #[arg(add = crate::proposed::query())]
    query: Vec<String>,
    /// Groups in this state only: new, known, resolved or returned
    #[arg(long, value_name = "STATE", value_parser = ["new", "known", "resolved", "returned"])]
    state: Option<String>,
    /// Groups at most
    #[arg(long, short = 'n', default_value_t = 20)]
    top: usize,
    /// Say that you know of this group
    #[arg(long, value_name = "ID", help_heading = SAY, conflicts_with_all = ["query", "state"])]
    known: Option<String>,
    /// Say that this group is resolved; when it fails again, it has returned
    #[arg(long, value_name = "ID", help_heading = SAY, conflicts_with_all = ["query", "state", "known"])]
    resolved: Option<String>,
    /// Take back what was said about this group
    #[arg(long, value_name = "ID", help_heading = SAY, conflicts_with_all = ["query", "state", "known", "resolved"])]
    new: Option<String>,
    /// The release it is resolved in; releases that have failed before may go on failing
    #[arg(long, value_name = "NAME", help_heading = SAY, requires = "resolved")]
    release: Option<String>,
    /// What else there is to say
    #[arg(long, value_name = "TEXT", help_heading = SAY, default_value = "", hide_default_value = true)]
    note: String,
    #[command(flatten)]
    range: Range,
    #[command(flatten)]
    form: Form,
    #[command(flatten)]
    zone: ZoneArgs,
    #[command(flatten)]
    link: Link,
    #[command(flatten)]
    connection: Connection,
}

/// Heading of what is said about a group.
const SAY: &str = "Say";

impl Errors {
    pub async fn run(self) -> Result<Ended> {
        let said = [("known", &self.known), ("resolved", &self.resolved), ("new", &self.new)];
        if let Some((state, id)) = said.into_iter().find_map(|(state, id)| Some((state, id.clone()?))) {
            let say = SayOfGroup { state: state.to_owned(), release: self.release, note: self.note };
            self.connection.open().await?.put(&format!("/api/errors/{}", segment(&id)), &say).await?;
            let done = serde_json::json!({ "id": id, "state": state });
            return self.form.one(&done, |_| format!("{id} is {state}"));
        }
        if !self.note.is_empty() {
            bail!("--note goes with --known, --resolved or --new");
        }
        let query = self.query.join(" ");
        if self.link.link {
            let (from, to) = (self.range.from.as_deref(), self.range.to.as_deref());
            let parameters = [("q", Some(query.as_str())), ("from", from), ("to", to), ("view", Some("errors"))];
            output::line(&address(&self.connection.first()?, "search", &parameters))?;
            return Ok(Ended::Well);
        }
        let zone = self.zone.zone();
        let ask = ErrorsRequest {
            query,
            from: self.range.from,
            to: self.range.to,
            zone: zone.name(),
            // States are known only when all groups are.
            top: if self.state.is_some() { None } else { Some(self.top) },
            points: None,
        };
        let mut answer: ErrorsAnswer = self.connection.open().await?.post("/api/errors", &ask).await?;
        if let Some(state) = &self.state {
            answer.groups.retain(|group| group.state == *state);
            answer.groups.truncate(self.top);
        }
        if self.form.is_json() {
            output::ndjson(&answer.groups)?;
        } else if !answer.groups.is_empty() {
            let row = |group: &ErrorGroup| {
                let trend: Vec<f64> = group.trend.iter().map(|n| f64::from(*n)).collect();
                vec![
                    group.state.clone(),
                    group.count.to_string(),
                    bars(&trend),
                    zone.short(&group.since),
                    zone.short(&group.last),
                    group.service.clone(),
                    group.id.clone(),
                    what(group),
                ]
            };
            let head = ["state", "failures", "trend", "since", "last", "service", "group", "what"];
            output::table(&head, answer.groups.iter().map(row).collect())?;
            let rest = answer.group_count.saturating_sub(answer.groups.len());
            if rest > 0 && self.state.is_none() {
                output::line(&output::faint(&format!("{rest} more; show them with --top")))?;
            }
        }
        check_whole(&answer.explain)?;
        if answer.groups.is_empty() {
            match &self.state {
                Some(state) => eprintln!("no error group in this range is {state}"),
                None => eprintln!("nothing failed in this range: no event of severity error or worse passes"),
            }
        }
        Ok(if answer.groups.is_empty() { Ended::Nothing } else { Ended::Well })
    }
}

/// What failed: the error, its message, and where.
fn what(group: &ErrorGroup) -> String {
    let mut parts: Vec<String> = group.error.iter().cloned().collect();
    parts.extend(group.cause.iter().map(|cause| format!("caused by {cause}")));
    parts.push(group.message.clone());
    parts.extend(group.frames.first().map(|frame| format!("at {frame}")));
    output::plain(&parts.join(" · ")).into_owned()
}
