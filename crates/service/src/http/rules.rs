//! Rules: listed with their standing, checked, applied, changed, muted, played over the past.

use super::contacts::{check_mail, new_secret};
use super::sharing::team_for;
use crate::notify::endings;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use calvex_answer::watch::{MAX_DOCUMENT_BYTES, Rule as Compiled, RuleDocument, Threshold, mute_filter};
use calvex_language::domain;
use calvex_language::domain::grant::May;
use calvex_language::domain::rule::{Closed, Mute, RuleGroup, RuleState};
use calvex_language::model::time::format_utc;
use calvex_language::query::{parse_duration_ns, parse_filter};
use calvex_node::answer::rehearse::{self, in_truth};
use calvex_node::auth::{Editor, Reader};
use calvex_node::error::{Result, ServiceError};
use calvex_node::http::ask::Ask;
use calvex_node::state::{Base, Reading};
use calvex_store::StoreError;
use calvex_store::records::Act;
use calvex_store::records::rules::Changed;
use calvex_wire::api::{
    AppliedRule, ApplyRule, CheckedRule, GroupOfRule, MadeRule, MuteRule, MutedRule, NewRule, RehearsalAnswer,
    RehearseRequest, Rule, RuleText, RuleVersion,
};
use std::sync::Arc;

/// Longest window, and farthest back that late events are judged again.
const MAX_WINDOW_S: u32 = 7 * 86_400;
/// Rules at most: each is judged every few seconds.
const MAX_RULES: usize = 1_000;
/// The longest mute: what is muted for ever should be removed.
const MAX_MUTE_NS: f64 = 30.0 * 86_400e9;
/// Mutes of a rule at most.
const MAX_MUTES: usize = 50;
/// Groups of a rule that are listed.
const MAX_LISTED: usize = 50;
/// How far back a rule's raisings are listed, and how many.
const LATELY_NS: i64 = 7 * 86_400_000_000_000;
const MAX_LATELY: usize = 100;
/// Times that a change is tried again where the rule raises or ends an alert meanwhile.
const MAX_MOVED: usize = 10;

/// The rule that a record's document is; as it is written where it does not compile any more.
pub(super) fn compiled(base: &Base, document: &str) -> Compiled {
    RuleDocument::read(document, base.config.get().ties()).unwrap_or_else(|_| {
        let document = RuleDocument::parse(document).unwrap_or_default();
        Compiled::unreadable(document)
    })
}

/// The mutes that last.
fn muted_of(mutes: Vec<Mute>, now_ns: i64) -> Vec<MutedRule> {
    let lasting = mutes.into_iter().filter(|mute| mute.until_ns > now_ns);
    let listed = |m: Mute| MutedRule { filter: m.filter, until: format_utc(m.until_ns, 0), by: m.by, why: m.why };
    lasting.map(listed).collect()
}

/// `GET /api/rules`
pub async fn rules(State(reading): State<Arc<Reading>>, reader: Reader) -> Result<Json<Vec<Rule>>> {
    let base = &reading.base;
    let config = base.config.get();
    let mut listed = Vec::new();
    let raisings = base.store.all_raisings_since((base.clock)() - LATELY_NS).await?;
    for r in base.store.rules().await?.into_iter().filter(|r| reader.may_see_rule(r, &config)) {
        let rule = compiled(base, &r.document);
        let may_change = reader.who.changes && reader.may_change_rule(&r);
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
            may_change,
            bound: rule.bound,
            unit: rule.unit().to_owned(),
            window_s: rule.window_ns() as f64 / 1e9,
            webhook: r.webhook,
            mail: r.mail,
            owner: r.owner,
            team: r.team,
            state: r.state.name().to_owned(),
            condition: r.condition.map(|condition| condition.name().to_owned()),
            since: format_utc(r.since_ns, 3),
            judged: r.judged_ns.map(|t| format_utc(t, 3)),
            value: r.value,
            note: r.note,
            muted: muted_of(r.mutes, (base.clock)()),
            lately: raisings.iter().filter(|(id, _)| *id == r.id).take(MAX_LATELY).map(|(_, r)| in_truth(r)).collect(),
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
    Editor(admin): Editor,
    Ask(ask): Ask<NewRule>,
) -> Result<Json<MadeRule>> {
    let base = &reading.base;
    let team = may_make_rules(base, &admin, None).await?;
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
    let id = put_rule(base, &admin, &rule, team, (ask.webhook, secret.clone(), ask.mail)).await?;
    Ok(Json(MadeRule { id: u64::from(id), webhook_secret: secret }))
}

fn rule_of(reading: &Reading, document: &RuleDocument) -> Result<Compiled> {
    document.compile(reading.base.config.get().ties()).map_err(|mistakes| {
        let reported: Vec<String> = mistakes.iter().map(ToString::to_string).collect();
        ServiceError::BadRequest(reported.join("; "))
    })
}

/// A document as it is stored; JSON may be longer than what was sent.
fn stored(rule: &Compiled) -> Result<String> {
    let document = serde_json::to_string(&rule.document).unwrap_or_default();
    if document.len() >= MAX_DOCUMENT_BYTES {
        return Err(ServiceError::BadRequest("the document is too long; one rule is one document".into()));
    }
    Ok(document)
}

/// The team that a rule which this one makes is for.
///
/// # Errors
/// Where nothing of any lane may be configured, so that rules over them are not this one's to make.
async fn may_make_rules(base: &Base, reader: &Reader, team: Option<&str>) -> Result<Option<u32>> {
    if !reader.who.administers && !reader.who.held.iter().any(|held| held.may >= May::Configure) {
        return Err(ServiceError::NotAllowed(
            "rules are made by those who may configure a lane; ask whoever manages it (`calvex grant give`)".into(),
        ));
    }
    team_for(base, reader, team).await
}

/// The rule of a number, if this one may change it.
async fn own_rule(base: &Base, reader: &Reader, id: u32) -> Result<domain::rule::Rule> {
    let config = base.config.get();
    let seen = |rule: &domain::rule::Rule| reader.who.administers || reader.may_see_rule(rule, &config);
    let known = base.store.rules().await?.into_iter().find(|known| known.id == id).filter(seen);
    let known = known.ok_or_else(|| StoreError::Missing(format!("rule {id}")))?;
    may_change_rule(reader, &known)?;
    Ok(known)
}

/// Whether this one may change a rule: its owner, the people of its team, administrators.
fn may_change_rule(reader: &Reader, rule: &domain::rule::Rule) -> Result<()> {
    if reader.may_change_rule(rule) {
        return Ok(());
    }
    Err(ServiceError::NotAllowed(format!(
        "the rule `{}` is {}'s; ask there",
        rule.name,
        rule.team.as_ref().unwrap_or(&rule.owner)
    )))
}

/// A webhook, its secret, and a mail address.
type OwnWays = (Option<String>, Option<String>, Option<String>);

/// Keeps a new rule; its id.
async fn put_rule(base: &Base, admin: &Reader, rule: &Compiled, team: Option<u32>, ways: OwnWays) -> Result<u32> {
    if base.store.rules().await?.len() >= MAX_RULES {
        return Err(ServiceError::BadRequest(format!("there are {MAX_RULES} rules already; remove one")));
    }
    let (webhook, webhook_secret, mail) = ways;
    let row = domain::rule::Rule {
        id: 0,
        name: rule.document.name.clone(),
        document: stored(rule)?,
        revision: 1,
        changed_ns: 0,
        webhook,
        webhook_secret,
        mail,
        owner_id: admin.who.user_id,
        owner: String::new(),
        team_id: team,
        team: None,
        state: RuleState::Quiet,
        since_ns: rule.judged_until((base.clock)()),
        judged_ns: None,
        value: None,
        note: String::new(),
        condition: None,
        mutes: Vec::new(),
    };
    Ok(base.store.add_rule(&row, &admin.act(base, "add rule", row.name.clone())).await?)
}

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
/// and what it had raised ends; whoever was notified of that is notified that it ended.
pub async fn apply(
    State(reading): State<Arc<Reading>>,
    Editor(editor): Editor,
    Ask(ask): Ask<ApplyRule>,
) -> Result<Json<AppliedRule>> {
    let base = &reading.base;
    let team = may_make_rules(base, &editor, ask.team.as_deref()).await?;
    let rule = rehearse::rule_of(&reading, &ask.document)?;
    let name = rule.document.name.clone();
    let document = stored(&rule)?;
    let known = base.store.rules().await?.into_iter().find(|known| known.name == name);
    let contacts = base.store.contacts().await?;
    let unknown = rule.document.notify.iter().filter(|name| !contacts.iter().any(|c| c.name == **name));
    let unknown_contacts: Vec<String> = unknown.cloned().collect();
    let what = match &known {
        Some(known) if known.document == document => "as it was",
        Some(_) => "changed",
        None => "made",
    };
    match what {
        "changed" if !ask.dry_run => change(base, &editor, &rule, &document).await?,
        "made" if !ask.dry_run => {
            put_rule(base, &editor, &rule, team, (None, None, None)).await?;
        }
        _ => {}
    }
    Ok(Json(AppliedRule { name, what: what.to_owned(), sentence: rule.document.sentence(), unknown_contacts }))
}

/// Gives the rule of a name another document.
async fn change(base: &Arc<Base>, admin: &Reader, rule: &Compiled, document: &str) -> Result<()> {
    let name = &rule.document.name;
    for _ in 0..MAX_MOVED {
        let known = base.store.rules().await?.into_iter().find(|known| known.name == *name);
        let known = known.ok_or_else(|| StoreError::Missing(format!("rule {name}")))?;
        let ends = endings(base, &known, &compiled(base, &known.document), Closed::Changed).await?;
        let since_ns = rule.judged_until((base.clock)());
        may_change_rule(admin, &known)?;
        let act = admin.act(base, "change rule", name.clone());
        let act = Act { before: Some(known.document.clone()), what: format!("{name}: {document}"), ..act };
        let done = base.store.change_rule((name, known.revision), document, since_ns, &ends, &act).await?;
        match done {
            Changed::Done => return Ok(()),
            Changed::Missing => return Err(StoreError::Missing(format!("rule {name}")).into()),
            Changed::Moved => {}
        }
    }
    Err(ServiceError::Busy("the rule raises and ends alerts all the time; try again".into(), 1))
}

/// `GET /api/rules/{id}/versions`: the documents that a rule had, the latest first, and who changed it.
pub async fn versions(
    State(base): State<Arc<Base>>,
    reader: Reader,
    Path(id): Path<u32>,
) -> Result<Json<Vec<RuleVersion>>> {
    let (rules, config) = (base.store.rules().await?, base.config.get());
    let seen = rules.iter().any(|rule| rule.id == id && reader.may_see_rule(rule, &config));
    if !seen {
        return Err(StoreError::Missing(format!("rule {id}")).into());
    }
    let listed = |v: domain::rule::RuleVersion| RuleVersion {
        revision: v.revision,
        by: v.by,
        at: (v.changed_ns > 0).then(|| format_utc(v.changed_ns, 0)),
        document: RuleDocument::parse(&v.document).unwrap_or_default(),
    };
    Ok(Json(base.store.rule_versions(id).await?.into_iter().map(listed).collect()))
}

/// `DELETE /api/rules/{id}`: with its history. Whoever was notified of what it has raised is notified that it ended.
pub async fn remove_rule(
    State(base): State<Arc<Base>>,
    Editor(admin): Editor,
    Path(id): Path<u32>,
) -> Result<StatusCode> {
    for _ in 0..MAX_MOVED {
        let known = own_rule(&base, &admin, id).await?;
        let ends = endings(&base, &known, &compiled(&base, &known.document), Closed::Removed).await?;
        let act = admin.act(&base, "remove rule", known.name.clone());
        match base.store.remove_rule((&known.name, known.revision), &ends, &act).await? {
            Changed::Done => return Ok(StatusCode::NO_CONTENT),
            Changed::Missing => return Err(StoreError::Missing(format!("rule {id}")).into()),
            Changed::Moved => {}
        }
    }
    Err(ServiceError::Busy("the rule raises and ends alerts all the time; try again".into(), 1))
}

/// `POST /api/rules/{id}/mute`: nobody is notified for a while of the rule, or of those of its groups that a filter picks;
/// what is raised meanwhile and lasts is notified when that ends.
pub async fn mute(
    State(base): State<Arc<Base>>,
    Editor(admin): Editor,
    Path(id): Path<u32>,
    Ask(ask): Ask<MuteRule>,
) -> Result<StatusCode> {
    let why = ask.why.trim().to_owned();
    let known = own_rule(&base, &admin, id).await?;
    let filter = ask.filter.unwrap_or_default().trim().to_owned();
    let Some(length) = &ask.length else {
        let act = admin.act(&base, "unmute rule", format!("{}: {filter}", known.name));
        let only = (!filter.is_empty()).then_some(filter.as_str());
        base.store.unmute_rule(id, only, &act).await?;
        return Ok(StatusCode::NO_CONTENT);
    };
    if why.is_empty() || why.chars().count() > 256 {
        return Err(ServiceError::BadRequest("`why` says in 1 to 256 letters why nobody is to be notified".into()));
    }
    if filter.chars().count() > 512 {
        return Err(ServiceError::BadRequest("`where` has 512 letters at most".into()));
    }
    mute_filter(&filter, compiled(&base, &known.document).per())
        .map_err(|wrong| ServiceError::BadRequest(format!("`where`: {wrong}")))?;
    if known.mutes.iter().filter(|mute| mute.filter != filter).count() >= MAX_MUTES {
        return Err(ServiceError::BadRequest(format!("the rule has {MAX_MUTES} mutes already; end some")));
    }
    let length_ns = parse_duration_ns(length).filter(|ns| (60e9..=MAX_MUTE_NS).contains(ns));
    let length_ns = length_ns.ok_or_else(|| {
        ServiceError::BadRequest(format!("`{length}` is no duration from 1m to 30d; write one as 2h or 3d"))
    })?;
    let until_ns = (base.clock)() + length_ns as i64;
    let act = admin.act(&base, "mute rule", format!("{} {filter}: {why}", known.name));
    let mute = Mute { filter, until_ns, by: admin.who.name.clone(), why };
    base.store.mute_rule(id, &mute, &act).await?;
    Ok(StatusCode::NO_CONTENT)
}
