//! `calvex rule`.

pub(crate) mod rehearsed;

use anyhow::{Context, Result};
use calvex_client::client::Connection;
use calvex_client::options::{Form, short_duration_s};
use calvex_client::shown::ZoneArgs;
use calvex_client::{Ended, output};
use calvex_wire::api::{
    self, AppliedRule, ApplyRule, CheckedRule, MadeRule, MuteRule, NewRule, RehearsalAnswer, RehearseRequest, RuleText,
    RuleVersion,
};
use clap::{Args, Subcommand};
use std::path::{Path, PathBuf};

/// Alert rules: documents of eight forms, applied from files, played over the past before they are switched on.
#[derive(Args)]
pub struct Rule {
    #[command(subcommand)]
    act: RuleAct,
    #[command(flatten)]
    connection: Connection,
}

#[derive(Subcommand)]
enum RuleAct {
    /// List rules with their states
    List {
        #[command(flatten)]
        form: Form,
    },
    /// Make rules of documents, or change those of their names; changed rules are judged anew
    Apply {
        /// TOML or JSON, one rule a file; `-` for standard input
        #[arg(required = true)]
        files: Vec<PathBuf>,
        /// Only say what would change
        #[arg(long)]
        dry_run: bool,
        /// The team that a rule which is made runs as
        #[arg(long, value_name = "TEAM")]
        team: Option<String>,
        #[command(flatten)]
        form: Form,
    },
    /// Print the document of a rule
    Export {
        /// The rule's name; every rule, as a JSON document a line, where none is given
        name: Option<String>,
    },
    /// Make a rule of the threshold form; it is on at once. Prints its id, and the secret that signs its webhooks this once
    New {
        /// What it is called
        name: String,
        /// Which events are counted: a filter
        #[arg(long)]
        query: String,
        /// How long the window is: 5m, 1h
        #[arg(long, value_name = "DURATION", default_value = "5m", value_parser = short_duration_s)]
        window: u32,
        /// Raised when the count is above
        #[arg(long)]
        above: u64,
        /// How long the condition must hold first
        #[arg(long, value_name = "DURATION", default_value = "0", value_parser = short_duration_s)]
        hold: u32,
        /// How long after a window's end it is judged; 30s if not given
        #[arg(long, value_name = "DURATION", value_parser = short_duration_s)]
        delay: Option<u32>,
        /// How far back late events have windows judged again
        #[arg(long, value_name = "DURATION", value_parser = short_duration_s)]
        late: Option<u32>,
        /// Address of a signed webhook
        #[arg(long)]
        webhook: Option<String>,
        /// Whom mail goes to
        #[arg(long)]
        mail: Option<String>,
        #[command(flatten)]
        form: Form,
    },
    /// Check a rule's document: what it says, in a sentence, or all that is wrong with it
    Check {
        /// TOML or JSON; `-` for standard input
        file: PathBuf,
        #[command(flatten)]
        form: Form,
    },
    /// Play a rule over the past: when it would have been raised. Exits 1 where it would not
    Rehearse {
        /// TOML or JSON; `-` for standard input
        file: PathBuf,
        /// How many days, 90 at most
        #[arg(long, value_name = "DAYS", default_value_t = 7.0)]
        days: f64,
        #[command(flatten)]
        form: Form,
        #[command(flatten)]
        zone: ZoneArgs,
    },
    /// Print a document of a form to begin with: threshold, share, silence, first-seen, deviation, objective, unfinished, error-group
    Form {
        /// The form
        #[arg(default_value = "threshold", value_parser = rehearsed::FORMS.map(|(name, _)| name))]
        name: String,
    },
    /// Notify nobody of a rule for a while; what lasts when that ends is notified then
    Mute {
        /// Its id
        id: u64,
        /// For how long: 2h, 3d
        #[arg(long = "for", value_name = "DURATION")]
        length: String,
        /// Why
        #[arg(long)]
        why: String,
        /// Only of these groups: a filter over the fields that the rule judges apart, as zone=north
        #[arg(long = "where", value_name = "FILTER")]
        filter: Option<String>,
    },
    /// Notify again of a rule that is muted
    Unmute {
        /// Its id
        id: u64,
        /// End only the mute of this filter
        #[arg(long = "where", value_name = "FILTER")]
        filter: Option<String>,
    },
    /// List the documents that a rule had, the latest first: who changed what. Exits 1 where there is no such rule
    Versions {
        /// The rule's name
        name: String,
        #[command(flatten)]
        form: Form,
        #[command(flatten)]
        zone: ZoneArgs,
    },
    /// Remove a rule with its history
    Remove { id: u64 },
}

impl Rule {
    pub async fn run(self) -> Result<Ended> {
        if let RuleAct::Form { name } = &self.act {
            let form = rehearsed::FORMS.iter().find(|(known, _)| known == name).map_or("", |(_, text)| text);
            output::line(form.trim_end())?;
            return Ok(Ended::Well);
        }
        let client = self.connection.open().await?;
        match self.act {
            RuleAct::Form { .. } => Ok(Ended::Well),
            RuleAct::Check { file, form } => {
                let checked: CheckedRule =
                    client.post("/api/rules/check", &RuleText { document: text(&file)? }).await?;
                if !checked.mistakes.is_empty() {
                    let name = file.display();
                    let reported: Vec<String> = checked.mistakes.iter().map(|m| format!("{name}: {m}")).collect();
                    anyhow::bail!(reported.join("\n"));
                }
                form.one(&checked, |checked| checked.sentence.clone().unwrap_or_default())
            }
            RuleAct::Apply { files, dry_run, team, form } => {
                let mut done: Vec<AppliedRule> = Vec::new();
                for file in files {
                    let ask = ApplyRule { document: text(&file)?, dry_run, team: team.clone() };
                    let applied = client.post("/api/rules/apply", &ask).await;
                    done.push(applied.with_context(|| file.display().to_string())?);
                }
                for rule in done.iter().filter(|rule| !rule.unknown_contacts.is_empty()) {
                    eprintln!("{}: no contact of the name {}", rule.name, rule.unknown_contacts.join(", "));
                }
                let row = |r: &AppliedRule| vec![r.name.clone(), r.what.clone(), r.sentence.clone()];
                form.list(&done, &["rule", if dry_run { "would be" } else { "is" }, "raised"], row)
            }
            RuleAct::Export { name } => {
                let rules: Vec<api::Rule> = client.get("/api/rules").await?;
                let Some(name) = name else {
                    output::ndjson(&rules.iter().map(|rule| &rule.document).collect::<Vec<_>>())?;
                    return Ok(Ended::Well);
                };
                let rule = rules.iter().find(|rule| rule.name == name);
                let rule = rule.with_context(|| format!("there is no rule `{name}`; see `calvex rule list`"))?;
                output::line(toml::to_string(&rule.document)?.trim_end())?;
                Ok(Ended::Well)
            }
            RuleAct::Rehearse { file, days, form, zone } => {
                let ask = RehearseRequest { document: text(&file)?, days: Some(days), until: None };
                let answer: RehearsalAnswer = client.post("/api/rules/rehearse", &ask).await?;
                rehearsed::show(&answer, &form, &zone.zone())
            }
            RuleAct::List { form } => {
                let rules: Vec<api::Rule> = client.get("/api/rules").await?;
                let row = |r: &api::Rule| {
                    let value = r.value.map_or_else(|| "–".to_owned(), rehearsed::figure);
                    let (name, state) = (r.name.clone(), r.state.clone());
                    let muted = r.muted.iter().map(|m| {
                        let of = if m.filter.is_empty() { String::new() } else { format!(" of {}", m.filter) };
                        format!("muted{of} until {} by {}: {}", m.until, m.by, m.why)
                    });
                    let condition = r.condition.iter().map(|condition| format!("{condition}: {}", r.note));
                    let said: Vec<String> = condition.chain(muted).collect();
                    vec![r.id.to_string(), name, state, value, r.sentence.clone(), said.join("; ")]
                };
                form.list(&rules, &["id", "rule", "state", "value", "raised", "note"], row)
            }
            RuleAct::New { name, query, window, above, hold, delay, late, webhook, mail, form } => {
                let ask = NewRule {
                    name,
                    query,
                    window_s: window,
                    above,
                    hold_s: hold,
                    delay_s: delay,
                    late_s: late,
                    webhook,
                    mail,
                };
                let made: MadeRule = client.post("/api/rules", &ask).await?;
                form.one(&made, |made| {
                    let secret = made.webhook_secret.as_ref().map_or_else(String::new, |s| format!("\n{s}"));
                    format!("{}{secret}", made.id)
                })
            }
            RuleAct::Mute { id, length, why, filter } => {
                let ask = MuteRule { length: Some(length), why, filter };
                client.post_only(&format!("/api/rules/{id}/mute"), &ask).await?;
                Ok(Ended::Well)
            }
            RuleAct::Unmute { id, filter } => {
                let ask = MuteRule { filter, ..MuteRule::default() };
                client.post_only(&format!("/api/rules/{id}/mute"), &ask).await?;
                Ok(Ended::Well)
            }
            RuleAct::Versions { name, form, zone } => {
                let rules: Vec<api::Rule> = client.get("/api/rules").await?;
                let Some(rule) = rules.iter().find(|rule| rule.name == name) else { return Ok(Ended::Nothing) };
                let versions: Vec<RuleVersion> = client.get(&format!("/api/rules/{}/versions", rule.id)).await?;
                if form.is_json() {
                    output::ndjson(&versions)?;
                } else {
                    rehearsed::show_versions(&versions, &zone.zone())?;
                }
                Ok(Ended::Well)
            }
            RuleAct::Remove { id } => {
                client.delete(&format!("/api/rules/{id}")).await?;
                Ok(Ended::Well)
            }
        }
    }
}

/// The text of a file, or of standard input.
fn text(file: &Path) -> Result<String> {
    if file == Path::new("-") {
        return std::io::read_to_string(std::io::stdin()).context("standard input cannot be read");
    }
    std::fs::read_to_string(file).with_context(|| format!("{} cannot be read", file.display()))
}
