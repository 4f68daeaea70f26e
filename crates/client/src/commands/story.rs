//! `calvex story`: everything tied to one id, drawn.

use super::search::check_whole;
use crate::client::{Client, Connection, segment};
use crate::options::{Form, Link, OUTPUT, address};
use crate::shown::Shown;
use crate::{Ended, output};
use anyhow::{Context, Result, bail};
use calvex_answer::story::duration_text;
use calvex_language::model::{Event, Severity, Value};
use calvex_wire::api::{FoundId, PasteRequest, StoryAnswer};
use clap::Args;
use std::io::Read;

/// Characters read from standard input at most.
const MAX_PASTED: u64 = 64 << 10;

/// Everything tied to one id (a trace, a parcel …), drawn: services side by side, time downward. Exits 1 where nothing is.
#[derive(Args)]
pub struct Story {
    /// The id, or any text that has one: headers, an error report; - for standard input
    id: String,
    /// As a list, not drawn
    #[arg(long, help_heading = OUTPUT)]
    list: bool,
    /// The score, as one JSON document
    #[arg(long, conflicts_with_all = ["json", "text", "markdown"], help_heading = OUTPUT)]
    score: bool,
    /// Markdown for a ticket
    #[arg(long, conflicts_with_all = ["json", "text"], help_heading = OUTPUT)]
    markdown: bool,
    #[command(flatten)]
    form: Form,
    #[command(flatten)]
    shown: Shown,
    #[command(flatten)]
    link: Link,
    #[command(flatten)]
    connection: Connection,
}

impl Story {
    pub async fn run(self) -> Result<Ended> {
        let mut text = self.id.clone();
        if text == "-" {
            text.clear();
            std::io::stdin().take(MAX_PASTED).read_to_string(&mut text).context("cannot read standard input")?;
        }
        let base = self.connection.first()?;
        let page = |id: &str| address(&base, &format!("story/{}", segment(id)), &[]);
        // One word is an id; anything else is looked through for ids.
        let word = text.trim();
        if self.link.link && !word.contains(char::is_whitespace) {
            output::line(&page(word))?;
            return Ok(Ended::Well);
        }
        let client = self.connection.open().await?;
        let Some(id) = self.id_of(&client, word).await? else { return Ok(Ended::Nothing) };
        if self.link.link {
            output::line(&page(&id))?;
            return Ok(Ended::Well);
        }
        let answer: StoryAnswer = client.get(&format!("/api/story/{}", segment(&id))).await?;
        if answer.events.is_empty() {
            eprintln!("no event is tied to `{}`; searched: {}", answer.id, answer.query);
        } else {
            self.print(&answer, &page(&answer.id))?;
        }
        for lane in &answer.lanes_not_readable {
            eprintln!("lane `{lane}` was not searched: you may not read it");
        }
        check_whole(&answer.explain)?;
        if answer.more {
            eprintln!("the story goes on; only its first {} events are reported", answer.events.len());
        }
        Ok(if answer.events.is_empty() { Ended::Nothing } else { Ended::Well })
    }

    /// The id in a text: the one that has events. Of several that have, all are listed.
    async fn id_of(&self, client: &Client, text: &str) -> Result<Option<String>> {
        if !text.contains(char::is_whitespace) && !text.contains('/') {
            return Ok(Some(text.to_owned()));
        }
        let found: Vec<FoundId> = client.post("/api/paste", &PasteRequest { text: text.to_owned() }).await?;
        let with: Vec<&FoundId> = found.iter().filter(|found| found.events > 0).collect();
        match (with.as_slice(), found.as_slice()) {
            ([one], _) => Ok(Some(one.trace.clone().unwrap_or_else(|| one.id.clone()))),
            ([first, ..], _) => {
                for found in &with {
                    let more = if found.more { " or more" } else { "" };
                    eprintln!("{}: {}{more} events", found.id, found.events);
                }
                Ok(Some(first.trace.clone().unwrap_or_else(|| first.id.clone())))
            }
            ([], []) => bail!("there is no id in this text; give one that events carry, such as a trace's"),
            ([], all) => {
                let ids: Vec<&str> = all.iter().map(|found| found.id.as_str()).collect();
                eprintln!("no event is tied to any of: {}", ids.join(", "));
                Ok(None)
            }
        }
    }

    fn print(&self, answer: &StoryAnswer, link: &str) -> Result<()> {
        let score = answer.score.as_ref().context("the service gave no score; it is older than this client")?;
        let events: Vec<Event> = answer.events.iter().map(brief).collect();
        let events: Vec<&Event> = events.iter().collect();
        if self.score {
            return output::json_line(&serde_json::to_string(score)?);
        }
        if self.markdown {
            return output::line(&score.markdown(&events, link));
        }
        if self.form.is_json() {
            return output::ndjson(&answer.events);
        }
        if self.list {
            output::line(&score.headline)?;
            return answer.events.iter().try_for_each(|e| output::line(&self.shown.line(e)));
        }
        let width = console::Term::stdout().size_checked().map_or(120, |(_, width)| usize::from(width));
        for line in score.lines(&events, width) {
            output::line(&line)?;
        }
        for (n, chapter) in answer.chapters.iter().enumerate() {
            if n == 0 {
                output::line("")?;
            }
            let trace = chapter.trace.as_deref().unwrap_or("no trace");
            let took = duration_text(chapter.took_ns);
            output::line(&format!("{:>3}  {trace:<32}  {took:>9}  {}", n + 1, chapter.headline))?;
        }
        Ok(())
    }
}

/// What the drawing shows of an event.
fn brief(event: &Value) -> Event {
    let text = |name: &str| match event {
        Value::Object(members) => members.iter().find(|(n, _)| n == name).and_then(|(_, value)| value.as_text()),
        _ => None,
    };
    let text = |name: &str| text(name).unwrap_or_default();
    Event {
        service: output::plain(text("service")).into_owned(),
        message: output::plain(text("message").lines().next().unwrap_or("")).into_owned(),
        severity: Severity::from_name(text("severity")).unwrap_or_default(),
        ..Event::default()
    }
}
