//! Rules as documents: checked, applied, played over the past; and the contacts that they name.

use super::alerts::{check_mail, new_secret, put_rule};
use super::ask::Ask;
use crate::answer::rehearse;
use crate::auth::{Admin, Reader};
use crate::error::{Result, ServiceError};
use crate::state::{Base, Reading};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use calvex_language::domain::rule::{Contact, Mute};
use calvex_language::query::parse_duration_ns;
use calvex_store::StoreError;
use calvex_wire::api::{
    AppliedRule, ApplyRule, CheckedRule, ContactListed, MadeContact, MuteRule, Notified, RehearsalAnswer,
    RehearseRequest, RuleText,
};
use std::sync::Arc;

/// The longest mute: what is muted for ever should be removed.
const MAX_MUTE_NS: f64 = 30.0 * 86_400e9;
/// Contacts at most.
const MAX_CONTACTS: usize = 200;

/// `POST /api/rules/check`: what a document says, in a sentence, or all that is wrong with it.
pub async fn check(State(reading): State<Arc<Reading>>, _reader: Reader, Ask(ask): Ask<RuleText>) -> Json<CheckedRule> {
    Json(rehearse::check(&reading, &ask.document))
}

/// `POST /api/rules/rehearse`: when a rule would have been raised, as the reader sees events.
pub async fn rehearse(
    State(reading): State<Arc<Reading>>,
    reader: Reader,
    Ask(ask): Ask<RehearseRequest>,
) -> Result<Json<RehearsalAnswer>> {
    Ok(Json(rehearse::rehearse(&reading, &reader, ask).await?))
}

/// `POST /api/rules/apply`: makes or changes the rule of a document's name. A rule that changes is judged anew from now on,
/// and what it had raised ends.
pub async fn apply(
    State(reading): State<Arc<Reading>>,
    Admin(admin): Admin,
    Ask(ask): Ask<ApplyRule>,
) -> Result<Json<AppliedRule>> {
    let base = &reading.base;
    let rule = rehearse::rule_of(&reading, &ask.document)?;
    let name = rule.document.name.clone();
    let document = serde_json::to_string(&rule.document).unwrap_or_default();
    let known = base.store.rules().await?.into_iter().find(|known| known.name == name);
    let contacts = base.store.contacts().await?;
    let unknown = rule.document.notify.iter().filter(|name| !contacts.iter().any(|c| c.name == **name));
    let unknown_contacts: Vec<String> = unknown.cloned().collect();
    let what = match &known {
        Some(known) if known.document == document => "as it was",
        Some(_) => "changed",
        None => "made",
    };
    if !ask.dry_run {
        let since_ns = rule.judged_until((base.clock)());
        match what {
            "changed" => {
                base.store
                    .change_rule(&name, &document, since_ns, &admin.act(base, "change rule", name.clone()))
                    .await?;
            }
            "made" => {
                put_rule(base, &admin, &rule, (None, None, None)).await?;
            }
            _ => {}
        }
    }
    Ok(Json(AppliedRule { name, what: what.to_owned(), sentence: rule.document.sentence(), unknown_contacts }))
}

/// `GET /api/contacts`: whom rules may notify. The path of a webhook's address may be a secret: administrators see it.
pub async fn contacts(State(base): State<Arc<Base>>, Admin(_): Admin) -> Result<Json<Vec<ContactListed>>> {
    let listed = |c: Contact| ContactListed { name: c.name, webhook: c.webhook, mail: c.mail };
    Ok(Json(base.store.contacts().await?.into_iter().map(listed).collect()))
}

/// `POST /api/contacts`: makes a contact or changes it; a new address of a webhook has a new secret.
pub async fn put_contact(
    State(base): State<Arc<Base>>,
    Admin(admin): Admin,
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
    let contacts = base.store.contacts().await?;
    let known = contacts.iter().find(|c| c.name == name);
    if known.is_none() && contacts.len() >= MAX_CONTACTS {
        return Err(ServiceError::BadRequest(format!("there are {MAX_CONTACTS} contacts already; remove one")));
    }
    let kept = known.filter(|c| c.webhook == ask.webhook).and_then(|c| c.webhook_secret.clone());
    let fresh = (ask.webhook.is_some() && kept.is_none()).then(new_secret);
    let webhook_secret = kept.or_else(|| fresh.clone());
    let contact = Contact { name: name.clone(), webhook: ask.webhook, webhook_secret, mail: ask.mail };
    base.store.put_contact(&contact, &admin.act(&base, "change contact", name.clone())).await?;
    Ok(Json(MadeContact { name, webhook_secret: fresh }))
}

/// `DELETE /api/contacts/{name}`
pub async fn remove_contact(
    State(base): State<Arc<Base>>,
    Admin(admin): Admin,
    Path(name): Path<String>,
) -> Result<StatusCode> {
    base.store.remove_contact(&name, &admin.act(&base, "remove contact", name.clone())).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// `POST /api/contacts/{name}/test`: sends a message by each way of a contact, now, and answers what became of each.
pub async fn test_contact(
    State(base): State<Arc<Base>>,
    Admin(admin): Admin,
    Path(name): Path<String>,
) -> Result<Json<Vec<Notified>>> {
    let contact = base.store.contacts().await?.into_iter().find(|contact| contact.name == name);
    let contact = contact.ok_or_else(|| StoreError::Missing(format!("contact {name}")))?;
    base.store.audit(&admin.act(&base, "test contact", name.clone())).await?;
    let serial = u64::try_from((base.clock)()).unwrap_or(0);
    let mut sent = Vec::new();
    for message in crate::notify::test_messages(&base, &contact, &admin.who.name, serial) {
        let done = crate::notify::deliver(&base, &message).await;
        sent.push(Notified {
            kind: message.by.name().to_owned(),
            target: message.target,
            what: message.what.name().to_owned(),
            state: done.err().unwrap_or_else(|| "sent".to_owned()),
        });
    }
    Ok(Json(sent))
}

/// `POST /api/rules/{id}/mute`: nobody is notified for a while; what is raised meanwhile and lasts is notified when that ends.
pub async fn mute(
    State(base): State<Arc<Base>>,
    Admin(admin): Admin,
    Path(id): Path<u32>,
    Ask(ask): Ask<MuteRule>,
) -> Result<StatusCode> {
    let why = ask.why.trim().to_owned();
    let mute = match &ask.length {
        None => None,
        Some(_) if why.is_empty() || why.chars().count() > 256 => {
            return Err(ServiceError::BadRequest("`why` says in 1 to 256 letters why nobody is to be notified".into()));
        }
        Some(text) => {
            let length_ns = parse_duration_ns(text).filter(|ns| (60e9..=MAX_MUTE_NS).contains(ns));
            let length_ns = length_ns.ok_or_else(|| {
                ServiceError::BadRequest(format!("`{text}` is no duration from 1m to 30d; write one as 2h or 3d"))
            })?;
            let until_ns = (base.clock)() + length_ns as i64;
            Some(Mute { until_ns, by: admin.who.name.clone(), why: why.clone() })
        }
    };
    let what = format!("{id}: {}", if mute.is_some() { why.as_str() } else { "notifies again" });
    base.store.mute_rule(id, mute.as_ref(), &admin.act(&base, "mute rule", what)).await?;
    Ok(StatusCode::NO_CONTENT)
}
