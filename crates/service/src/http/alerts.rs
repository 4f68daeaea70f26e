//! Rules and alerts.

use super::ask::Ask;
use crate::auth::{Admin, Editor, Reader};
use crate::error::{Result, ServiceError};
use crate::state::Base;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use calvex_answer::watch::counted::Condition;
use calvex_language::domain;
use calvex_language::domain::access::Role;
use calvex_language::domain::rule::RuleState;
use calvex_language::model::time::format_utc;
use calvex_language::query::parse_filter;
use calvex_store::StoreError;
use calvex_wire::api::{Alert, MadeRule, NewRule, Notified, Rule};
use std::sync::Arc;

/// Longest window, and farthest back that late events are judged again.
const MAX_WINDOW_S: u32 = 7 * 86_400;

/// Rules of others are shown only to those who may read every lane the rule may: so far, to its owner and to admins.
fn may_see(reader: &Reader, rule: &domain::rule::Rule) -> bool {
    reader.who.lanes.is_none() || (reader.who.user_id == rule.owner_id && !reader.who.narrowed)
}

/// `GET /api/rules`
pub async fn rules(State(base): State<Arc<Base>>, reader: Reader) -> Result<Json<Vec<Rule>>> {
    let rows = base.store.rules().await?.into_iter().filter(|r| may_see(&reader, r));
    Ok(Json(
        rows.map(|r| Rule {
            id: u64::from(r.id),
            name: r.name,
            query: r.query,
            window_s: r.window_s,
            above: r.above,
            hold_s: r.hold_s,
            delay_s: r.delay_s,
            late_s: r.late_s,
            webhook: r.webhook,
            mail: r.mail,
            owner: r.owner,
            state: r.state.name().to_owned(),
            since: format_utc(r.since_ns, 3),
            judged: r.judged_ns.map(|t| format_utc(t, 3)),
            count: r.count,
            note: r.note,
        })
        .collect(),
    ))
}

/// `POST /api/rules`: makes a rule; it is on at once.
pub async fn add_rule(
    State(base): State<Arc<Base>>,
    Admin(admin): Admin,
    Ask(ask): Ask<NewRule>,
) -> Result<Json<MadeRule>> {
    let bad = |reported: &str| Err(ServiceError::BadRequest(reported.to_owned()));
    if ask.name.trim().is_empty() || ask.name.chars().count() > 128 {
        return bad("a rule needs a name of 1 to 128 characters");
    }
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
        crate::notify::check_mail_address(mail)?;
        if base.settings.text("notify.mail_server").is_empty() {
            return bad("no mail can be sent: notify.mail_server is not set");
        }
    }
    let now_ns = (base.clock)();
    let condition = Condition::new(ask.window_s, ask.above, ask.hold_s, delay_s);
    let random: [u8; 32] = rand::random();
    let secret = ask.webhook.as_ref().map(|_| format!("whsec_{}", STANDARD.encode(random)));
    let row = domain::rule::Rule {
        id: 0,
        name: ask.name.trim().to_owned(),
        query: ask.query,
        window_s: ask.window_s,
        above: ask.above,
        hold_s: ask.hold_s,
        delay_s,
        late_s,
        webhook: ask.webhook,
        webhook_secret: secret.clone(),
        mail: ask.mail,
        owner_id: admin.who.user_id,
        owner: String::new(),
        owner_role: Role::Reader,
        state: RuleState::Quiet,
        since_ns: condition.judged_until(now_ns),
        judged_ns: None,
        count: 0,
        note: String::new(),
    };
    let id = base.store.add_rule(&row, &admin.act(&base, "add rule", row.name.clone())).await?;
    Ok(Json(MadeRule { id: u64::from(id), webhook_secret: secret }))
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
pub async fn alerts(State(base): State<Arc<Base>>, reader: Reader) -> Result<Json<Vec<Alert>>> {
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
        reported.push(Alert {
            id: u64::from(alert.id),
            rule: rule.name.clone(),
            query: rule.query.clone(),
            window_s: rule.window_s,
            above: rule.above,
            raised: format_utc(alert.raised_ns, 3),
            ended: alert.ended_ns.map(|t| format_utc(t, 3)),
            peak: alert.peak,
            late: alert.late,
            taken_by: alert.taken_by,
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
