//! Transform rules, line patterns, ties, and the field list.

use super::admin::check_name;
use super::setter::{AskedTeam, Setter, is_shown};
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use calvex_answer::search::fields as field_list_of;
use calvex_answer::ties::Proposal;
use calvex_answer::ties::Proposer;
use calvex_intake::dial::set_aside;
use calvex_intake::line::{Pattern, cut_by, learn};
use calvex_intake::normalise::{Arrival, Flattener, Known, PathRoles, RawEvent, normalise};
use calvex_intake::transform::{Act, Fate, Rule, RuleMistake};
use calvex_language::model::time::format_utc;
use calvex_language::model::{Event, PathTable};
use calvex_language::query::Builtin;
use calvex_node::answer::run::run;
use calvex_node::answer::search;
use calvex_node::auth::{Admin, Editor, ReadScope, Reader};
use calvex_node::config::rule_of;
use calvex_node::error::{Result, ServiceError};
use calvex_node::http::ask::Ask;
use calvex_node::state::Reading;
use calvex_store::StoreError;
use calvex_wire::api::{
    CutShown, FieldListed, FieldsRequest, LearntPatterns, ProposedPattern, SearchRequest, TieListed, TransformRule,
    TriedEvent, TriedLine, TryPatterns, TryTransforms,
};
use serde_json::json;
use std::sync::Arc;

/// A rule that was not applied for so long is reported as idle.
const IDLE_NS: i64 = 7 * 86_400_000_000_000;
/// Events, lines or spellings of one request at most.
const MAX_TRIED: usize = 200;
const MAX_LEARNT: usize = 10_000;
/// How far back fields and ids are looked at where nothing is said.
const WEEK: &str = "now-7d";

fn reported(mistakes: &[RuleMistake]) -> ServiceError {
    ServiceError::BadRequest(mistakes.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "))
}

/// `GET /api/transforms`: the rules in order, and how often each was applied: all for an administrator, those of one's own
/// teams for others.
pub async fn rules(State(reading): State<Arc<Reading>>, reader: Reader) -> Result<Json<Vec<TransformRule>>> {
    calvex_node::intake::ledger::write(&reading.base).await?;
    let now_ns = (reading.base.clock)();
    let rows = reading.base.store.transforms().await?;
    let seen = rows.into_iter().filter(|row| is_shown(&reader, row.team.as_ref()));
    let listed = seen.filter_map(|row| {
        let rule = rule_of(&row)?;
        Some(TransformRule {
            team: row.team.map(|team| team.name),
            text: rule.act.to_string(),
            rule,
            held: row.held,
            last: row.last_ns.map(|ns| format_utc(ns, 0)),
            changed: format_utc(row.changed_ns, 0),
            idle: now_ns - row.last_ns.unwrap_or(row.changed_ns) > IDLE_NS,
        })
    });
    Ok(Json(listed.collect()))
}

/// `PUT /api/transforms`: replaces all of a team, or of the service, in this order.
pub async fn put_rules(
    State(reading): State<Arc<Reading>>,
    Editor(editor): Editor,
    Query(asked): Query<AskedTeam>,
    Ask(rules): Ask<Vec<Rule>>,
) -> Result<StatusCode> {
    let setter = Setter::of(&reading.base, &editor, &asked).await?;
    let most = setter.room_for(rules.len(), "rules")?;
    for (n, rule) in rules.iter().enumerate() {
        check_name(&rule.name)?;
        if rules.iter().take(n).any(|r| r.name == rule.name) {
            return Err(ServiceError::BadRequest(format!(
                "two rules are called `{}`; give one another name",
                rule.name
            )));
        }
    }
    let config = reading.base.config.get();
    config
        .read_transforms(&rules, setter.team.as_ref(), &|lane| setter.may_configure(lane))
        .map_err(|mistakes| reported(&mistakes))?;
    let act = |act: &Act| serde_json::to_string(act).unwrap_or_default();
    let rows: Vec<_> = rules.iter().map(|r| (r.name.clone(), r.when.clone(), act(&r.act))).collect();
    let names: Vec<&str> = rules.iter().map(|r| r.name.as_str()).collect();
    let done = editor.act(&reading.base, "put transforms", setter.in_words(&names.join(", ")));
    reading.base.store.put_transforms(setter.team_id(), &rows, most, &done).await?;
    reading.base.reload_config().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// `POST /api/transforms/try`: what rules would make of events; nothing is stored. The people of a team try its own rules,
/// in place of all.
pub async fn try_rules(
    State(reading): State<Arc<Reading>>,
    Editor(editor): Editor,
    Query(asked): Query<AskedTeam>,
    Ask(ask): Ask<TryTransforms>,
) -> Result<Json<Vec<TriedEvent>>> {
    let config = reading.base.config.get();
    let setter = Setter::of(&reading.base, &editor, &asked).await?;
    let rules = match (ask.rules, setter.team_id()) {
        (None, Some(team)) => {
            let stored = reading.base.store.transforms().await?.into_iter();
            let own = stored.filter(|row| row.team.as_ref().is_some_and(|of| of.id == team));
            Some(own.filter_map(|row| rule_of(&row)).collect())
        }
        (rules, _) => rules,
    };
    let may_move_to = |lane| setter.may_configure(lane);
    let read = |rules: &Vec<Rule>| {
        let read = config.read_transforms(rules, setter.team.as_ref(), &may_move_to);
        read.map_err(|mistakes| reported(&mistakes))
    };
    let own = rules.as_ref().map(read).transpose()?;
    let transforms = own.as_ref().unwrap_or(config.transforms());
    let now_ns = (reading.base.clock)();
    let name = ask.sender.unwrap_or_else(|| "try".to_owned());
    // What a key's events are stamped with is shown to its team.
    if !editor.who.administers && name != "try" {
        super::senders::may_change_key(&reading.auth, &editor, &name).await?;
    }
    let key = calvex_node::intake::sender::named_sender(&reading.auth, &name).await?;
    let mut out = Vec::new();
    for (n, line) in ask.events.lines().enumerate().filter(|(_, l)| !l.trim().is_empty()).take(MAX_TRIED) {
        let mut tried = TriedEvent { line: n + 1, ..TriedEvent::default() };
        let limits = reading.base.settings.event_limits();
        let arrival = Arrival { arrived_ns: now_ns, sender: &key.name, fixed: &key.fixed, limits, ties: config.ties() };
        match read_event(line, &arrival) {
            Err(refused) => tried.refused = Some(refused),
            Ok(event) => {
                let (steps, event, fate) = transforms.try_on(event, |lane| config.name(lane).to_string());
                tried.tried = Some(steps);
                match fate {
                    Fate::SetAside(rule) => tried.set_aside = Some(format!("rule {}", transforms.name(rule))),
                    Fate::Kept(lane) => {
                        let page = calvex_storage::columns::build_page(&[event]).map_err(StoreError::Core)?;
                        let dials = set_aside(config.dials(), &page, now_ns).map_err(StoreError::Core)?;
                        match dials.first() {
                            Some((dial, _)) => tried.set_aside = Some(format!("dial {dial}")),
                            None => {
                                let routed = config.routes().lanes_of(&page).map_err(StoreError::Core)?;
                                let lane = lane.or_else(|| routed.first().copied()).unwrap_or_default();
                                tried.lane = Some(config.name(lane).to_string());
                            }
                        }
                    }
                }
            }
        }
        out.push(tried);
    }
    Ok(Json(out))
}

/// An event of a line: a JSON object, or else a message.
fn read_event(line: &str, arrival: &Arrival) -> std::result::Result<Event, String> {
    let mut paths = PathTable::default();
    let text =
        if line.trim_start().starts_with('{') { line.to_owned() } else { json!({ "message": line }).to_string() };
    let fields =
        Flattener::default().json(&text, &mut paths, &arrival.limits).map_err(|refusal| refusal.to_string())?;
    let raw = RawEvent { fields, known: Known::default() };
    let normalised =
        normalise(raw, &mut paths, &mut PathRoles::default(), arrival).map_err(|refusal| refusal.to_string())?;
    Ok(normalised.draft.into_event(&paths))
}

/// `POST /api/patterns/try`: how lines fit patterns, and where they stop.
pub async fn try_patterns(
    State(reading): State<Arc<Reading>>,
    _reader: Reader,
    Ask(ask): Ask<TryPatterns>,
) -> Result<Json<Vec<TriedLine>>> {
    if ask.patterns.len() > MAX_TRIED || ask.lines.len() > MAX_TRIED {
        return Err(ServiceError::BadRequest(format!("at most {MAX_TRIED} patterns and lines are tried at once")));
    }
    let mut patterns = Vec::new();
    for (n, text) in ask.patterns.iter().enumerate() {
        let read = Pattern::parse(text).map_err(|e| ServiceError::BadRequest(format!("pattern {}, {e}", n + 1)))?;
        patterns.push(read);
    }
    let now_ns = (reading.base.clock)();
    // A pattern may take its whole budget of steps on every line, so it waits for a slot and a thread like a search.
    let slot = reading.search_slots.clone().acquire_owned().await;
    let trying = move || {
        let _slot = slot;
        ask.lines.iter().map(|line| tried_line(&patterns, line, now_ns)).collect()
    };
    Ok(Json(reading.behind.run(trying).await?))
}

/// How a line fits patterns, in characters.
fn tried_line(patterns: &[Pattern], line: &str, now_ns: i64) -> TriedLine {
    let chars = |bytes: usize| line.get(..bytes).map_or(0, |t| t.chars().count());
    match cut_by(patterns, line, now_ns) {
        Ok((pattern, cuts)) => TriedLine {
            pattern: patterns.iter().position(|p| p == pattern).map_or(0, |n| n + 1),
            fits: chars(line.len()),
            expected: None,
            cuts: cuts
                .iter()
                .map(|cut| CutShown {
                    name: cut.name.to_owned(),
                    kind: cut.kind.name().to_owned(),
                    value: cut.to_string(),
                    from: chars(cut.range.start),
                    to: chars(cut.range.end),
                })
                .collect(),
        },
        Err(Some((n, miss))) => TriedLine {
            pattern: n + 1,
            fits: chars(miss.at),
            expected: Some(miss.expected.join(" or ")),
            cuts: Vec::new(),
        },
        Err(None) => TriedLine::default(),
    }
}

/// `POST /api/patterns/learn`: patterns for sample lines.
pub async fn learn_patterns(
    State(reading): State<Arc<Reading>>,
    _reader: Reader,
    Json(lines): Json<Vec<String>>,
) -> Result<Json<LearntPatterns>> {
    if lines.len() > MAX_LEARNT {
        return Err(ServiceError::BadRequest(format!("at most {MAX_LEARNT} lines are learnt from")));
    }
    let now_ns = (reading.base.clock)();
    let slot = reading.search_slots.clone().acquire_owned().await;
    let learning = move || {
        let _slot = slot;
        let lines: Vec<&str> = lines.iter().map(String::as_str).collect();
        learn(&lines, now_ns)
    };
    let (learnt, left) = reading.behind.run(learning).await?;
    let patterns = learnt.into_iter().map(|l| ProposedPattern {
        pattern: l.pattern.text().to_owned(),
        lines: l.lines,
        example: l.example,
    });
    Ok(Json(LearntPatterns { patterns: patterns.collect(), left }))
}

/// `GET /api/ties`
pub async fn ties(State(reading): State<Arc<Reading>>, _reader: Reader) -> Json<Vec<TieListed>> {
    let config = reading.base.config.get();
    let reported = config.ties().iter().map(|t| TieListed { name: t.name.clone(), spellings: t.spellings.clone() });
    Json(reported.collect())
}

/// `PUT /api/ties/{name}`: makes a tie, or gives it these spellings.
pub async fn put_tie(
    State(reading): State<Arc<Reading>>,
    Admin(admin): Admin,
    Path(name): Path<String>,
    Ask(ask): Ask<TieListed>,
) -> Result<StatusCode> {
    check_name(&name)?;
    if Builtin::from_name(&name).is_some_and(|part| part != Builtin::Trace) {
        return Err(ServiceError::BadRequest(format!("`{name}` is an event's builtin; give the tie another name")));
    }
    let config = reading.base.config.get();
    if ask.spellings.len() > MAX_TRIED {
        return Err(ServiceError::BadRequest(format!("a tie has at most {MAX_TRIED} spellings")));
    }
    for spelling in &ask.spellings {
        if spelling.is_empty() || spelling.len() > 256 {
            return Err(ServiceError::BadRequest(format!("`{spelling}` is no field; use 1 to 256 bytes")));
        }
        if let Some(other) = config.ties().of_field(spelling).filter(|t| t.name != name) {
            return Err(ServiceError::BadRequest(format!(
                "`{spelling}` already means the tie `{}`; take it from there first",
                other.name
            )));
        }
    }
    let reported = format!("{name}: {}", ask.spellings.join(", "));
    reading.base.store.put_tie(&name, &ask.spellings, &admin.act(&reading.base, "put tie", reported)).await?;
    reading.base.reload_config().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// `DELETE /api/ties/{name}`
pub async fn remove_tie(
    State(reading): State<Arc<Reading>>,
    Admin(admin): Admin,
    Path(name): Path<String>,
) -> Result<StatusCode> {
    reading.base.store.remove_tie(&name, &admin.act(&reading.base, "remove tie", name.clone())).await?;
    reading.base.reload_config().await?;
    Ok(StatusCode::NO_CONTENT)
}

fn last_week(ask: FieldsRequest) -> SearchRequest {
    SearchRequest { from: ask.from.or_else(|| Some(WEEK.into())), to: ask.to, ..SearchRequest::default() }
}

/// `GET /api/ties/proposals`: fields whose values are known ids, from the newest pages of the lanes that may be read.
pub async fn tie_proposals(State(reading): State<Arc<Reading>>, reader: Reader) -> Result<Json<Vec<Proposal>>> {
    let range = search::plan(&reading, &last_week(FieldsRequest::default()))?.range;
    let config = reading.base.config.get();
    let found = run(&reading, reader.scope(), move |scope| {
        let mut proposer = Proposer::default();
        calvex_answer::search::newest_pages(scope, &range, |page| proposer.take(page, config.ties()))?;
        Ok(proposer.proposals())
    });
    Ok(Json(found.await?.map_err(StoreError::Core)?))
}

/// `GET /api/fields`: the fields of the lanes that may be read.
pub async fn fields(
    State(reading): State<Arc<Reading>>,
    reader: Reader,
    Query(ask): Query<FieldsRequest>,
) -> Result<Json<Vec<FieldListed>>> {
    let config = reading.base.config.get();
    let only = match ask.lane.as_deref() {
        None => None,
        Some(name) => {
            let lane = config.by_name(name).filter(|l| reader.may_read(l.id)).map(|l| l.id);
            Some(lane.ok_or_else(|| StoreError::Missing(format!("lane `{name}`")))?)
        }
    };
    let range = search::plan(&reading, &last_week(ask))?.range;
    let scope = only.into_iter().fold(reader.scope(), ReadScope::narrowed_to);
    let found = run(&reading, scope, move |scope| field_list_of(scope, &range)).await?;
    let mut out = Vec::new();
    for (lane, (events, fields)) in found.map_err(StoreError::Core)? {
        for (field, seen) in fields {
            out.push(FieldListed {
                lane: lane.clone(),
                tie: config.ties().of_field(&field).map(|t| t.name.clone()),
                types: seen.types.keys().map(|t| (*t).to_owned()).collect(),
                conflicting: seen.conflicting(),
                first: format_utc(seen.first_ns, 3),
                last: format_utc(seen.last_ns, 3),
                share: if events == 0 { 0.0 } else { (seen.events as f64 / events as f64).min(1.0) },
                distinct: seen.distinct.count(),
                examples: seen.examples,
                field,
            });
        }
    }
    Ok(Json(out))
}
