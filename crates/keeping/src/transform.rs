//! `calvex transform`: what is done to events on purpose before they are kept.

use crate::lane::of_team;
use anyhow::{Context, Result, bail};
use calvex_client::client::{Client, Connection};
use calvex_client::options::Form;
use calvex_client::shown::ZoneArgs;
use calvex_client::{Ended, output};
use calvex_intake::transform::{Act, Cutting, Masking, Renaming, Rule};
use calvex_language::model::mask::Detector;
use calvex_wire::api::{TransformRule, TriedEvent, TryTransforms};
use clap::{Args, Subcommand};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::io::Read;

/// Transform rules, applied in order to every event before it is stored.
#[derive(Args)]
pub struct Transform {
    #[command(subcommand)]
    act: TransformAct,
    /// The rules of this team, for what its keys send; those of the service where it is left out
    #[arg(long, global = true)]
    team: Option<String>,
    #[command(flatten)]
    connection: Connection,
}

#[derive(Subcommand)]
enum TransformAct {
    /// List rules in order, how often each was applied, and which never was lately
    List {
        #[command(flatten)]
        form: Form,
        #[command(flatten)]
        zone: ZoneArgs,
    },
    /// Add a rule, or change the one of that name
    Add {
        /// What it is called; stands in the events it changes
        name: String,
        /// For which events, in the query language; all if not given
        #[arg(long, default_value = "", hide_default_value = true)]
        when: String,
        /// Put it before this rule; behind all others if not given
        #[arg(long, value_name = "RULE")]
        before: Option<String>,
        #[command(subcommand)]
        act: ActArgs,
    },
    /// Remove a rule
    Remove { name: String },
    /// Show what the rules make of events: each before and after; nothing is stored
    Try {
        /// NDJSON, or lines that are taken as messages; - for standard input
        file: String,
        /// As if sent with this key
        #[arg(long)]
        sender: Option<String>,
        #[command(flatten)]
        form: Form,
    },
}

#[derive(Subcommand)]
enum ActArgs {
    /// Set fields; what was sent there is kept under `displaced`
    Stamp {
        /// name=value; numbers, true and false are taken as such
        #[arg(required = true, value_name = "NAME=VALUE")]
        fields: Vec<String>,
    },
    /// Give a field another name, or make it the message, service, host, severity, time or an id
    Rename { from: String, to: String },
    /// Remove fields, with all below them
    Drop {
        #[arg(required = true)]
        fields: Vec<String>,
    },
    /// Cut text into fields by line patterns (see `calvex pattern`)
    Cut {
        /// Whose text
        #[arg(long, default_value = "message")]
        field: String,
        /// The first that fits is taken
        #[arg(required = true)]
        patterns: Vec<String>,
    },
    /// Cover secrets
    Mask {
        /// Only in this field; alone, its whole value is covered
        #[arg(long = "field", value_name = "FIELD")]
        fields: Vec<String>,
        /// What this regular expression finds: its group s, else its first group, else all of it
        #[arg(long = "expression", value_name = "REGEX")]
        expressions: Vec<String>,
        /// A built-in detector: tokens, passwords, cards, mail, or all
        #[arg(long = "detect", value_name = "DETECTOR")]
        detectors: Vec<String>,
        /// What is written instead
        #[arg(long, conflicts_with = "hash")]
        with: Option<String>,
        /// Write a keyed hash instead, so that equal values still correlate
        #[arg(long)]
        hash: bool,
    },
    /// Store the events in a lane, whatever the routes say
    Move { lane: String },
    /// Do not store the events; they are counted
    SetAside,
}

impl ActArgs {
    fn act(self) -> Result<Act> {
        Ok(match self {
            ActArgs::Stamp { fields } => {
                let mut stamped = BTreeMap::new();
                for pair in fields {
                    let Some((name, value)) = pair.split_once('=').filter(|(name, _)| !name.is_empty()) else {
                        bail!("`{pair}` stamps nothing; write region=north");
                    };
                    let plain = serde_json::from_str::<Value>(value).ok().filter(|v| v.is_number() || v.is_boolean());
                    stamped.insert(name.to_owned(), plain.unwrap_or_else(|| value.into()));
                }
                Act::Stamp(stamped)
            }
            ActArgs::Rename { from, to } => Act::Rename(Renaming { from, to }),
            ActArgs::Drop { fields } => Act::Drop(fields),
            ActArgs::Cut { field, patterns } => Act::Cut(Cutting { field, patterns }),
            ActArgs::Mask { fields, expressions, detectors, with, hash } => {
                let mut found = Vec::new();
                for name in detectors {
                    match Detector::ALL.iter().find(|d| d.name() == name) {
                        Some(detector) => found.push(*detector),
                        None if name == "all" => found.extend(Detector::ALL),
                        None => bail!("`{name}` is no detector; use tokens, passwords, cards, mail or all"),
                    }
                }
                Act::Mask(Masking { fields, expressions, detectors: found, with, hash })
            }
            ActArgs::Move { lane } => Act::Move(lane),
            ActArgs::SetAside => Act::SetAside,
        })
    }
}

async fn rules(client: &Client, team: Option<&String>) -> Result<Vec<Rule>> {
    let listed: Vec<TransformRule> = client.get("/api/transforms").await?;
    Ok(listed.into_iter().filter(|l| l.team.as_ref() == team).map(|l| l.rule).collect())
}

impl Transform {
    pub async fn run(self) -> Result<Ended> {
        let client = self.connection.open().await?;
        let team = self.team.as_ref();
        let own = of_team("/api/transforms", self.team.as_deref());
        match self.act {
            TransformAct::List { form, zone } => {
                let mut listed: Vec<TransformRule> = client.get("/api/transforms").await?;
                listed.retain(|l| team.is_none() || l.team.as_ref() == team);
                let zone = zone.zone();
                if form.is_json() {
                    output::ndjson(&listed)?;
                } else {
                    let row = |(n, l): (usize, &TransformRule)| {
                        let last = l.last.as_deref().map_or_else(|| "never".into(), |t| zone.short(t));
                        let when = if l.rule.when.is_empty() { "every event" } else { &l.rule.when };
                        let note = if l.idle { "idle for a week" } else { "" };
                        let reported = vec![(n + 1).to_string(), l.rule.name.clone(), when.to_owned(), l.text.clone()];
                        let team = l.team.clone().unwrap_or_default();
                        [reported, vec![team, l.held.to_string(), last, note.to_owned()]].concat()
                    };
                    let head = ["", "rule", "when", "does", "team", "applied", "last", ""];
                    output::table(&head, listed.iter().enumerate().map(row).collect())?;
                }
                return Ok(if listed.is_empty() { Ended::Nothing } else { Ended::Well });
            }
            TransformAct::Add { name, when, before, act } => {
                let rule = Rule { name: name.clone(), when, act: act.act()? };
                let mut all = rules(&client, team).await?;
                let known = all.iter().position(|r| r.name == name);
                let mut at = known.unwrap_or(all.len());
                if known.is_some() {
                    all.remove(at);
                }
                if let Some(before) = before {
                    at = all
                        .iter()
                        .position(|r| r.name == before)
                        .with_context(|| format!("there is no rule `{before}`; `calvex transform list` shows them"))?;
                }
                all.insert(at.min(all.len()), rule);
                client.put(&own, &all).await?;
            }
            TransformAct::Remove { name } => {
                let mut all = rules(&client, team).await?;
                let before = all.len();
                all.retain(|r| r.name != name);
                if all.len() == before {
                    bail!("there is no rule `{name}`; `calvex transform list` shows them");
                }
                client.put(&own, &all).await?;
            }
            TransformAct::Try { file, sender, form } => {
                let mut events = String::new();
                match file.as_str() {
                    "-" => std::io::stdin().read_to_string(&mut events)?,
                    path => std::fs::File::open(path)
                        .and_then(|mut f| f.read_to_string(&mut events))
                        .with_context(|| format!("cannot read {path}"))?,
                };
                let ask = TryTransforms { rules: None, sender, events };
                let tried: Vec<TriedEvent> =
                    client.post(&of_team("/api/transforms/try", self.team.as_deref()), &ask).await?;
                if form.is_json() {
                    output::ndjson(&tried)?;
                } else {
                    tried.iter().try_for_each(show)?;
                }
                return Ok(if tried.is_empty() { Ended::Nothing } else { Ended::Well });
            }
        }
        Ok(Ended::Well)
    }
}

/// What the rules make of one event: what changes, rule by rule.
fn show(event: &TriedEvent) -> Result<()> {
    let ends = match (&event.refused, &event.set_aside, &event.lane) {
        (Some(why), _, _) => format!("refused: {why}"),
        (_, Some(cause), _) => format!("set aside by {cause}"),
        (_, _, Some(lane)) => format!("stored in lane {lane}"),
        _ => String::new(),
    };
    output::line(&format!("line {}: {ends}", event.line))?;
    let Some(tried) = &event.tried else { return Ok(()) };
    let mut before = flat(&serde_json::to_value(&tried.before)?);
    for step in &tried.steps {
        let Some(after) = &step.after else {
            output::line(&output::faint(&format!("  {}: {}", step.rule, step.note)))?;
            continue;
        };
        let after = flat(&serde_json::to_value(after)?);
        output::line(&format!("  {}", step.rule))?;
        let names: BTreeSet<&String> = before.keys().chain(after.keys()).collect();
        for name in names {
            match (before.get(name), after.get(name)) {
                (Some(b), Some(a)) if a == b => {}
                _ if name == "transformed" => {}
                (b, a) => {
                    let reported = |v: Option<&String>| v.cloned().unwrap_or_else(|| "–".into());
                    output::line(&format!("      {name}: {} {} {}", reported(b), output::faint("→"), reported(a)))?;
                }
            }
        }
        before = after;
    }
    Ok(())
}

/// Each leaf by its dotted path, without `fields.` before it.
fn flat(value: &Value) -> BTreeMap<String, String> {
    fn walk(path: &str, value: &Value, out: &mut BTreeMap<String, String>) {
        match value {
            Value::Object(entries) if !entries.is_empty() => {
                for (name, inner) in entries {
                    let below = match path {
                        "" => name.clone(),
                        "fields" => format!(".{name}").trim_start_matches('.').to_owned(),
                        path => format!("{path}.{name}"),
                    };
                    walk(&below, inner, out);
                }
            }
            leaf => drop(out.insert(path.to_owned(), leaf.to_string())),
        }
    }
    let mut out = BTreeMap::new();
    walk("", value, &mut out);
    out
}
