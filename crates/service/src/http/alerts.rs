//! Alerts: listed, in full, taken, noted.

use super::contacts::{message_of, state_of};
use super::rules::compiled;
use crate::notify::webhook_host;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use calvex_language::domain;
use calvex_language::domain::contact::{Notification, NotifyBy};
use calvex_language::domain::rule::{AlertGroup, AlertNote};
use calvex_language::model::time::format_utc;
use calvex_node::auth::{Editor, Reader};
use calvex_node::error::{Result, ServiceError};
use calvex_node::http::ask::Ask;
use calvex_node::state::{Base, Reading};
use calvex_store::StoreError;
use calvex_store::records::alerts::MAX_NOTES;
use calvex_wire::api::{Alert, AlertInFull, GroupOfAlert, Message, NoteAlert, NoteOfAlert, Notified};
use std::sync::Arc;

/// Groups of an alert that are listed.
const MAX_LISTED: usize = 50;
/// Letters of a note at most.
const MAX_NOTE: usize = 2_000;
/// Messages of an alert whose tries are shown.
const MAX_MESSAGES: usize = 100;

/// `GET /api/alerts`: those that are raised, then the latest first; 200.
pub async fn alerts(State(reading): State<Arc<Reading>>, reader: Reader) -> Result<Json<Vec<Alert>>> {
    let base = &reading.base;
    let (rules, config) = (base.store.rules().await?, base.config.get());
    let mut reported = Vec::new();
    for alert in base.store.latest_alerts(200).await? {
        let Some(rule) = rules.iter().find(|r| r.id == alert.rule_id).filter(|r| reader.may_see_rule(r, &config))
        else {
            continue;
        };
        reported.push(reported_of(base, &reader, rule, alert).await?);
    }
    Ok(Json(reported))
}

async fn reported_of(
    base: &Base,
    reader: &Reader,
    rule: &domain::rule::Rule,
    alert: domain::rule::Alert,
) -> Result<Alert> {
    let sent = base.store.outbox_of(alert.id).await?.into_iter().map(|m| Notified {
        state: state_of(&m),
        kind: m.by.name().to_owned(),
        target: target_of(reader, &m),
        what: m.what.name().to_owned(),
    });
    let compiled = compiled(base, &rule.document);
    let group = |g: &AlertGroup| GroupOfAlert {
        name: g.name.clone(),
        raised: format_utc(g.raised_ns, 3),
        ended: g.ended_ns.map(|t| format_utc(t, 3)),
        peak: g.peak,
        withdrawn: g.withdrawn,
        muted: g.muted,
    };
    Ok(Alert {
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
        closed: alert.closed.map(|closed| closed.name().to_owned()),
        taken_by: alert.taken_by,
        group_count: alert.groups.len(),
        groups: alert.groups.iter().take(MAX_LISTED).map(group).collect(),
        explanation: alert.explanation.as_deref().and_then(|text| serde_json::from_str(text).ok()),
        notified: sent.collect(),
    })
}

/// Where a message went. The path of a webhook's address may be a secret: administrators see it.
fn target_of(reader: &Reader, message: &Notification) -> String {
    match message.by {
        NotifyBy::Webhook if !reader.who.administers => webhook_host(&message.target),
        _ => message.target.clone(),
    }
}

/// An alert that the reader may see, with its rule.
async fn seen(base: &Base, reader: &Reader, id: u32) -> Result<(domain::rule::Rule, domain::rule::Alert)> {
    let missing = || StoreError::Missing(format!("alert {id}"));
    let alert = base.store.alert(id).await?.ok_or_else(missing)?;
    let config = base.config.get();
    let sees = |rule: &domain::rule::Rule| rule.id == alert.rule_id && reader.may_see_rule(rule, &config);
    let rule = base.store.rules().await?.into_iter().find(sees);
    Ok((rule.ok_or_else(missing)?, alert))
}

/// `GET /api/alerts/{id}`: one alert with what people wrote down, and each try to notify of it.
pub async fn alert(State(base): State<Arc<Base>>, reader: Reader, Path(id): Path<u32>) -> Result<Json<AlertInFull>> {
    let (rule, found) = seen(&base, &reader, id).await?;
    let note = |n: AlertNote| NoteOfAlert { by: n.by, at: format_utc(n.at_ns, 0), text: n.text };
    let notes = base.store.alert_notes(id).await?.into_iter().map(note).collect();
    let mut messages = Vec::new();
    for message in base.store.outbox_of(id).await?.into_iter().take(MAX_MESSAGES) {
        let target = target_of(&reader, &message);
        messages.push(Message { target, ..message_of(&base, message).await? });
    }
    Ok(Json(AlertInFull { alert: reported_of(&base, &reader, &rule, found).await?, notes, messages }))
}

/// `POST /api/alerts/{id}/take`: whoever takes it looks after it; nobody else is called.
pub async fn take(State(base): State<Arc<Base>>, Editor(reader): Editor, Path(id): Path<u32>) -> Result<StatusCode> {
    seen(&base, &reader, id).await?;
    base.store.take_alert(id, &reader.who.name, &reader.act(&base, "take alert", id.to_string())).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// `POST /api/alerts/{id}/notes`: writes something down about an alert.
pub async fn note(
    State(base): State<Arc<Base>>,
    Editor(reader): Editor,
    Path(id): Path<u32>,
    Ask(ask): Ask<NoteAlert>,
) -> Result<StatusCode> {
    let text = ask.text.trim();
    if text.is_empty() || text.chars().count() > MAX_NOTE {
        return Err(ServiceError::BadRequest(format!("a note has 1 to {MAX_NOTE} letters")));
    }
    seen(&base, &reader, id).await?;
    let act = reader.act(&base, "note alert", id.to_string());
    if !base.store.note_alert(id, text, &act).await? {
        return Err(ServiceError::BadRequest(format!("alert {id} has {MAX_NOTES} notes already")));
    }
    Ok(StatusCode::NO_CONTENT)
}
