//! Contacts: whom rules notify, how and when; and the messages that went out.

use super::sharing::{may_change, team_for};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use calvex_answer::watch::Hours;
use calvex_language::domain::contact::{Contact, ContactPlan, Dropped, Notification};
use calvex_language::model::time::format_utc;
use calvex_language::query::{parse_duration_ns, written_duration_s};
use calvex_node::auth::Editor;
use calvex_node::error::{Result, ServiceError};
use calvex_node::http::ask::Ask;
use calvex_node::state::Base;
use calvex_store::StoreError;
use calvex_wire::api::{ContactListed, MadeContact, Message, Notified, Tried};
use std::sync::Arc;

/// Contacts at most.
const MAX_CONTACTS: usize = 200;
/// Messages an hour at most, whatever a contact asks for.
const MAX_HOURLY: u32 = 1_000;
/// An old secret signs beside the new one for so long.
const OVERLAP_NS: i64 = 86_400_000_000_000;
/// Messages that are listed.
const MAX_LISTED: u32 = 100;
/// Messages that are looked at for those of a team.
const MAX_LOOKED_AT: u32 = 1_000;

/// `GET /api/contacts`: whom rules may notify. The path of a webhook's address may be a secret: administrators see it, and
/// the people of its team.
pub async fn contacts(State(base): State<Arc<Base>>, Editor(reader): Editor) -> Result<Json<Vec<ContactListed>>> {
    let teams = base.store.teams().await?;
    let seconds = |s: u32| if s == 0 { String::new() } else { written_duration_s(s) };
    let listed = |c: Contact| ContactListed {
        name: c.name,
        team: teams.iter().find(|team| Some(team.id) == c.team).map(|team| team.name.clone()),
        webhook: c.webhook,
        mail: c.mail,
        hours: c.plan.hours,
        zone: c.plan.zone,
        next: c.plan.next,
        after: seconds(c.plan.next_after_s),
        repeat: seconds(c.plan.repeat_s),
        hourly: Some(c.plan.hourly),
        heartbeat: seconds(c.heartbeat_s),
        rotate: false,
        failing_since: c.failing_since_ns.map(|at_ns| format_utc(at_ns, 0)),
        last_heartbeat: (c.beat.0 > 0).then(|| format_utc(c.beat.0, 0)),
        heartbeat_error: c.beat.1,
    };
    let seen = |c: &Contact| may_change(&reader, c.team, "this").is_ok();
    Ok(Json(base.store.contacts().await?.into_iter().filter(seen).map(listed).collect()))
}

/// `POST /api/contacts`: makes a contact or changes it; a new address of a webhook has a new secret.
pub async fn put_contact(
    State(base): State<Arc<Base>>,
    Editor(admin): Editor,
    Ask(ask): Ask<ContactListed>,
) -> Result<Json<MadeContact>> {
    let name = ask.name.trim().to_owned();
    if name.is_empty() || name.chars().count() > 64 {
        return Err(ServiceError::BadRequest("a contact's name has 1 to 64 letters".into()));
    }
    if ask.webhook.is_none() && ask.mail.is_none() {
        return Err(ServiceError::BadRequest("a contact has a way: give `webhook`, `mail` or both".into()));
    }
    if let Some(url) = &ask.webhook {
        crate::notify::check_webhook_url(url)?;
    }
    if let Some(mail) = &ask.mail {
        check_mail(&base, mail)?;
    }
    if ask.rotate && ask.webhook.is_none() {
        return Err(ServiceError::BadRequest("`rotate` changes what signs a webhook; the contact has none".into()));
    }
    let contacts = base.store.contacts().await?;
    let plan = plan_of(&ask, &contacts)?;
    let heartbeat_s = seconds("heartbeat", &ask.heartbeat, 0, (10, 86_400))?;
    let known = contacts.iter().find(|c| c.name == name);
    let team = match (&ask.team, known) {
        (None, Some(known)) => known.team,
        (team, _) => team_for(&base, &admin, team.as_deref()).await?,
    };
    may_change(&admin, team, "a contact of no team")?;
    if let Some(known) = known {
        may_change(&admin, known.team, "this contact")?;
    }
    if known.is_none() && contacts.len() >= MAX_CONTACTS {
        return Err(ServiceError::BadRequest(format!("there are {MAX_CONTACTS} contacts already; remove one")));
    }
    let same = known.filter(|c| c.webhook == ask.webhook);
    let kept = same.and_then(|c| c.webhook_secret.clone());
    let needs = ask.webhook.is_some() && (kept.is_none() || ask.rotate);
    let fresh = needs.then(new_secret);
    let old_secret = match &kept {
        Some(old) if fresh.is_some() => Some((old.clone(), (base.clock)() + OVERLAP_NS)),
        _ => same.and_then(|c| c.old_secret.clone()),
    };
    let webhook_secret = fresh.clone().or(kept);
    let contact = Contact {
        name: name.clone(),
        webhook: ask.webhook,
        webhook_secret,
        old_secret,
        mail: ask.mail,
        plan,
        heartbeat_s,
        team,
        ..Contact::default()
    };
    base.store.put_contact(&contact, &admin.act(&base, "change contact", name.clone())).await?;
    Ok(Json(MadeContact { name, webhook_secret: fresh }))
}

/// When a contact is notified, and how often.
fn plan_of(ask: &ContactListed, contacts: &[Contact]) -> Result<ContactPlan> {
    let bad = |reported: String| Err(ServiceError::BadRequest(reported));
    let zone = if ask.zone.trim().is_empty() { "UTC" } else { ask.zone.trim() };
    if ask.hours.len() > 256 || zone.len() > 64 {
        return bad("`hours` has 256 letters at most, `zone` 64".into());
    }
    if let Err(wrong) = Hours::read(&ask.hours, zone) {
        return bad(format!("`hours`: {wrong}"));
    }
    let next = ask.next.as_deref().map(str::trim).filter(|next| !next.is_empty());
    if let Some(next) = next
        && (next == ask.name.trim() || !contacts.iter().any(|c| c.name == next))
    {
        return bad(format!("`next`: there is no other contact `{next}`; make it first"));
    }
    let hourly = ask.hourly.unwrap_or(60);
    if !(1..=MAX_HOURLY).contains(&hourly) {
        return bad(format!("`hourly` must be 1 to {MAX_HOURLY}"));
    }
    Ok(ContactPlan {
        hours: ask.hours.trim().to_owned(),
        zone: zone.to_owned(),
        next: next.map(str::to_owned),
        next_after_s: seconds("after", &ask.after, 900, (10, 86_400))?,
        repeat_s: seconds("repeat", &ask.repeat, 0, (10, 7 * 86_400))?,
        hourly,
    })
}

/// A duration in seconds, within bounds; `otherwise` where none is given.
fn seconds(field: &str, text: &str, otherwise: u32, (least, most): (u32, u32)) -> Result<u32> {
    if text.trim().is_empty() {
        return Ok(otherwise);
    }
    let s = parse_duration_ns(text).map(|ns| ns / 1e9).filter(|s| (f64::from(least)..=f64::from(most)).contains(s));
    let (least, most) = (written_duration_s(least), written_duration_s(most));
    s.map(|s| s as u32).ok_or_else(|| {
        ServiceError::BadRequest(format!("`{field}`: `{text}` is no duration from {least} to {most}; write one as 15m"))
    })
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

/// `DELETE /api/contacts/{name}`
pub async fn remove_contact(
    State(base): State<Arc<Base>>,
    Editor(admin): Editor,
    Path(name): Path<String>,
) -> Result<StatusCode> {
    let known = base.store.contacts().await?.into_iter().find(|contact| contact.name == name);
    may_change(&admin, known.and_then(|contact| contact.team), "this contact")?;
    base.store.remove_contact(&name, &admin.act(&base, "remove contact", name.clone())).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// `POST /api/contacts/{name}/test`: sends a message by each way of a contact, now, and answers what became of each.
pub async fn test_contact(
    State(base): State<Arc<Base>>,
    Editor(admin): Editor,
    Path(name): Path<String>,
) -> Result<Json<Vec<Notified>>> {
    let contact = base.store.contacts().await?.into_iter().find(|contact| contact.name == name);
    let contact = contact.ok_or_else(|| StoreError::Missing(format!("contact {name}")))?;
    may_change(&admin, contact.team, "this contact")?;
    base.store.audit(&admin.act(&base, "test contact", name.clone())).await?;
    let serial = u64::try_from((base.clock)()).unwrap_or(0);
    let mut sent = Vec::new();
    for message in crate::notify::test_messages(&base, &contact, &admin.who.name, serial) {
        let done = crate::notify::deliver(&base, &message, Some(&contact)).await;
        sent.push(Notified {
            kind: message.by.name().to_owned(),
            target: message.target,
            what: message.what.name().to_owned(),
            state: done.err().unwrap_or_else(|| "sent".to_owned()),
        });
    }
    Ok(Json(sent))
}

/// `GET /api/messages`: the latest messages to all contacts, with each try; to those of one's own teams for others than
/// administrators.
pub async fn messages(State(base): State<Arc<Base>>, Editor(reader): Editor) -> Result<Json<Vec<Message>>> {
    let contacts = base.store.contacts().await?;
    let own = |m: &Notification| {
        contacts.iter().any(|c| c.name == m.contact && c.team.is_some() && may_change(&reader, c.team, "this").is_ok())
    };
    let most = if reader.who.administers { MAX_LISTED } else { MAX_LOOKED_AT };
    let latest = base.store.latest_messages(most).await?.into_iter();
    let mut listed = Vec::new();
    for message in latest.filter(|m| reader.who.administers || own(m)).take(MAX_LISTED as usize) {
        listed.push(message_of(&base, message).await?);
    }
    Ok(Json(listed))
}

/// What became of a message.
pub(super) fn state_of(message: &Notification) -> String {
    match (message.done_ns, message.dropped, message.error.is_empty()) {
        (_, Some(why), _) => why.name().to_owned(),
        (Some(_), ..) => "sent".to_owned(),
        (None, None, true) => "waiting".to_owned(),
        (None, None, false) => message.error.clone(),
    }
}

/// The rule or contact that a message is about.
fn about(message: &Notification) -> String {
    let payload: serde_json::Value = serde_json::from_str(&message.payload).unwrap_or_default();
    payload["subject"].as_str().unwrap_or("").to_owned()
}

/// A message with its tries.
pub(super) async fn message_of(base: &Base, message: Notification) -> Result<Message> {
    let tries = base.store.tries_of(message.id).await?;
    let state = match message.dropped {
        // Why it never arrived.
        Some(Dropped::GivenUp) => format!("given up: {}", message.error),
        _ => state_of(&message),
    };
    Ok(Message {
        id: message.id,
        rule: about(&message),
        contact: message.contact,
        kind: message.by.name().to_owned(),
        target: message.target,
        what: message.what.name().to_owned(),
        due: format_utc(message.due_ns, 0),
        state,
        tries: tries.into_iter().map(|t| Tried { at: format_utc(t.at_ns, 3), error: t.error }).collect(),
    })
}
