//! Rules and alerts.

use super::ask::Ask;
use crate::auth::{Admin, Editor, Reader};
use crate::error::{Result, ServiceError};
use crate::state::{Base, Reading};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use calvex_answer::watch::{Rule as Compiled, RuleDocument, Threshold};
use calvex_language::domain;
use calvex_language::domain::access::Role;
use calvex_language::domain::rule::{AlertGroup, RuleGroup, RuleState};
use calvex_language::model::time::format_utc;
use calvex_language::query::parse_filter;
use calvex_store::StoreError;
use calvex_wire::api::{Alert, GroupOfAlert, GroupOfRule, MadeRule, MutedRule, NewRule, Notified, Rule};
use std::sync::Arc;

/// Longest window, and farthest back that late events are judged again.
const MAX_WINDOW_S: u32 = 7 * 86_400;
/// Rules at most: each is judged every few seconds.
const MAX_RULES: usize = 1_000;

/// Rules of others are shown only to those who may read every lane the rule may: so far, to its owner and to admins.
fn may_see(reader: &Reader, rule: &domain::rule::Rule) -> bool {
    reader.who.lanes.is_none() || (reader.who.user_id == rule.owner_id && !reader.who.narrowed)
}

/// Groups of a rule or an alert that are listed.
const MAX_LISTED: usize = 50;

/// The rule that a record's document is; as it is written where it does not compile any more.
fn compiled(reading: &Reading, document: &str) -> Compiled {
    RuleDocument::read(document, reading.base.config.get().ties()).unwrap_or_else(|_| {
        let document = RuleDocument::parse(document).unwrap_or_default();
        Compiled::unreadable(document)
    })
}

/// `GET /api/rules`
pub async fn rules(State(reading): State<Arc<Reading>>, reader: Reader) -> Result<Json<Vec<Rule>>> {
    let base = &reading.base;
    let mut listed = Vec::new();
    for r in base.store.rules().await?.into_iter().filter(|r| may_see(&reader, r)) {
        let rule = compiled(&reading, &r.document);
        let groups = if r.state == RuleState::Quiet { Vec::new() } else { base.store.rule_groups(r.id).await? };
        let group = |g: RuleGroup| GroupOfRule {
            name: g.name,
            state: g.state.name().to_owned(),
            since: format_utc(g.since_ns, 3),
            value: g.value,
        };
        listed.push(Rule {
            id: u64::from(r.id),
            name: r.name,
            sentence: rule.document.sentence(),
            form: rule.document.form_name().to_owned(),
            query: rule.filter().to_string(),
            revision: r.revision,
            bound: rule.bound,
            unit: rule.unit().to_owned(),
            window_s: rule.window_ns() as f64 / 1e9,
            webhook: r.webhook,
            mail: r.mail,
            owner: r.owner,
            state: r.state.name().to_owned(),
            since: format_utc(r.since_ns, 3),
            judged: r.judged_ns.map(|t| format_utc(t, 3)),
            value: r.value,
            note: r.note,
            muted: r.mute.filter(|mute| mute.until_ns > (base.clock)()).map(|mute| MutedRule {
                until: format_utc(mute.until_ns, 0),
                by: mute.by,
                why: mute.why,
            }),
            groups: groups.into_iter().take(MAX_LISTED).map(group).collect(),
            document: rule.document,
        });
    }
    Ok(Json(listed))
}

/// `POST /api/rules`: makes a rule of the threshold form, that notifies a webhook and a mail address of its own; it is on
/// at once.
pub async fn add_rule(
    State(reading): State<Arc<Reading>>,
    Admin(admin): Admin,
    Ask(ask): Ask<NewRule>,
) -> Result<Json<MadeRule>> {
    let base = &reading.base;
    let bad = |reported: &str| Err(ServiceError::BadRequest(reported.to_owned()));
    parse_filter(&ask.query).map_err(ServiceError::Query)?;
    if !(5..=MAX_WINDOW_S).contains(&ask.window_s) {
        return bad("window_s must be 5 to 604800");
    }
    let (delay_s, late_s) = (ask.delay_s.unwrap_or(30), ask.late_s.unwrap_or(3600));
    if delay_s > 3600 || late_s > MAX_WINDOW_S || ask.hold_s > 86_400 {
        return bad("delay_s may be up to 3600, hold_s up to 86400, late_s up to 604800");
    }
    if let Some(url) = &ask.webhook {
        crate::notify::check_webhook_url(url)?;
    }
    if let Some(mail) = &ask.mail {
        check_mail(base, mail)?;
    }
    let document = RuleDocument {
        name: ask.name.trim().to_owned(),
        hold: format!("{}s", ask.hold_s),
        delay: format!("{delay_s}s"),
        late: format!("{late_s}s"),
        threshold: Some(Threshold {
            events: ask.query,
            over: format!("{}s", ask.window_s),
            above: Some(ask.above as f64),
            ..Threshold::default()
        }),
        ..RuleDocument::default()
    };
    let secret = ask.webhook.as_ref().map(|_| new_secret());
    let rule = rule_of(&reading, &document)?;
    let id = put_rule(base, &admin, &rule, (ask.webhook, secret.clone(), ask.mail)).await?;
    Ok(Json(MadeRule { id: u64::from(id), webhook_secret: secret }))
}

/// A secret that signs webhooks.
pub(super) fn new_secret() -> String {
    let random: [u8; 32] = rand::random();
    format!("whsec_{}", STANDARD.encode(random))
}

/// Checks an address, and that mail can be sent at all.
pub(super) fn check_mail(base: &Base, mail: &str) -> Result<()> {
    crate::notify::check_mail_address(mail)?;
    if base.settings.text("notify.mail_server").is_empty() {
        return Err(ServiceError::BadRequest("no mail can be sent: notify.mail_server is not set".into()));
    }
    Ok(())
}

fn rule_of(reading: &Reading, document: &RuleDocument) -> Result<Compiled> {
    document.compile(reading.base.config.get().ties()).map_err(|mistakes| {
        let reported: Vec<String> = mistakes.iter().map(ToString::to_string).collect();
        ServiceError::BadRequest(reported.join("; "))
    })
}

/// A webhook, its secret, and a mail address.
type OwnWays = (Option<String>, Option<String>, Option<String>);

/// Keeps a new rule; its id.
pub(super) async fn put_rule(base: &Base, admin: &Reader, rule: &Compiled, ways: OwnWays) -> Result<u32> {
    if base.store.rules().await?.len() >= MAX_RULES {
        return Err(ServiceError::BadRequest(format!("there are {MAX_RULES} rules already; remove one")));
    }
    let (webhook, webhook_secret, mail) = ways;
    let row = domain::rule::Rule {
        id: 0,
        name: rule.document.name.clone(),
        document: serde_json::to_string(&rule.document).unwrap_or_default(),
        revision: 1,
        webhook,
        webhook_secret,
        mail,
        owner_id: admin.who.user_id,
        owner: String::new(),
        owner_role: Role::Reader,
        state: RuleState::Quiet,
        since_ns: rule.judged_until((base.clock)()),
        judged_ns: None,
        value: None,
        note: String::new(),
        mute: None,
    };
    Ok(base.store.add_rule(&row, &admin.act(base, "add rule", row.name.clone())).await?)
}

/// `DELETE /api/rules/{id}`
pub async fn remove_rule(
    State(base): State<Arc<Base>>,
    Admin(admin): Admin,
    Path(id): Path<u32>,
) -> Result<StatusCode> {
    base.store.remove_rule(id, &admin.act(&base, "remove rule", id.to_string())).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// `GET /api/alerts`: the latest first.
pub async fn alerts(State(reading): State<Arc<Reading>>, reader: Reader) -> Result<Json<Vec<Alert>>> {
    let base = &reading.base;
    let rules = base.store.rules().await?;
    let mut reported = Vec::new();
    for alert in base.store.latest_alerts(200).await? {
        let Some(rule) = rules.iter().find(|r| r.id == alert.rule_id).filter(|r| may_see(&reader, r)) else { continue };
        let sent = base.store.outbox_of(alert.id).await?.into_iter().map(|m| Notified {
            state: match (m.done_ns, m.error.is_empty()) {
                (Some(_), _) => "sent".into(),
                (None, true) => "waiting".into(),
                (None, false) => m.error,
            },
            kind: m.by.name().to_owned(),
            target: m.target,
            what: m.what.name().to_owned(),
        });
        let compiled = compiled(&reading, &rule.document);
        let group = |g: &AlertGroup| GroupOfAlert {
            name: g.name.clone(),
            raised: format_utc(g.raised_ns, 3),
            ended: g.ended_ns.map(|t| format_utc(t, 3)),
            peak: g.peak,
            withdrawn: g.withdrawn,
        };
        reported.push(Alert {
            id: u64::from(alert.id),
            rule: rule.name.clone(),
            sentence: compiled.document.sentence(),
            query: compiled.filter().to_string(),
            window_s: compiled.window_ns() as f64 / 1e9,
            bound: compiled.bound,
            unit: compiled.unit().to_owned(),
            urgency: compiled.document.urgency,
            note: compiled.document.note.clone(),
            runbook: compiled.document.runbook.clone(),
            raised: format_utc(alert.raised_ns, 3),
            ended: alert.ended_ns.map(|t| format_utc(t, 3)),
            peak: alert.peak,
            late: alert.late,
            withdrawn: alert.withdrawn,
            muted: alert.muted,
            taken_by: alert.taken_by,
            group_count: alert.groups.len(),
            groups: alert.groups.iter().take(MAX_LISTED).map(group).collect(),
            explanation: alert.explanation.as_deref().and_then(|text| serde_json::from_str(text).ok()),
            notified: sent.collect(),
        });
    }
    Ok(Json(reported))
}

/// `POST /api/alerts/{id}/take`
pub async fn take(State(base): State<Arc<Base>>, Editor(reader): Editor, Path(id): Path<u32>) -> Result<StatusCode> {
    let rules = base.store.rules().await?;
    let alerts = base.store.latest_alerts(1000).await?;
    let seen = alerts
        .iter()
        .find(|a| a.id == id)
        .and_then(|a| rules.iter().find(|r| r.id == a.rule_id))
        .is_some_and(|r| may_see(&reader, r));
    if !seen {
        return Err(StoreError::Missing(format!("alert {id}")).into());
    }
    base.store.take_alert(id, &reader.who.name, &reader.act(&base, "take alert", id.to_string())).await?;
    Ok(StatusCode::NO_CONTENT)
}
