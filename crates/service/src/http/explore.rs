//! What helps to ask, saved searches, and how things stand.

use super::sharing::team_for;
use super::{alerts, rules as rule_pages};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use calvex_language::domain;
use calvex_language::model::time::format_utc;
use calvex_language::query::{Context, parse};
use calvex_node::answer::{complete, overview};
use calvex_node::auth::{Editor, Reader};
use calvex_node::error::{Result, ServiceError};
use calvex_node::http::ask::Ask;
use calvex_node::state::Reading;
use calvex_wire::api::{
    CheckAnswer, CompleteAnswer, CompleteRequest, FoundFieldsAnswer, NowAnswer, RangeMeant, SavedSearch, SearchRequest,
    ShapeAnswer, ShapeRequest, SpokenRange,
};
use std::sync::Arc;

/// `POST /api/check`: mistakes and warnings of a query, its one form, and the text taken apart.
pub async fn check(
    State(reading): State<Arc<Reading>>,
    _reader: Reader,
    Ask(ask): Ask<SearchRequest>,
) -> Json<CheckAnswer> {
    let parsed = parse(&ask.query, &Context::utc((reading.base.clock)()));
    Json(CheckAnswer {
        canonical: parsed.query.canonical(),
        mistakes: parsed.mistakes,
        warnings: parsed.warnings,
        syntax: parsed.syntax,
    })
}

/// `POST /api/complete`: what can stand at a place of a query.
pub async fn complete(
    State(reading): State<Arc<Reading>>,
    reader: Reader,
    Ask(ask): Ask<CompleteRequest>,
) -> Result<Json<CompleteAnswer>> {
    Ok(Json(complete::complete(&reading, &reader, ask).await?))
}

/// `POST /api/range`: what a range as people say it means.
pub async fn range(
    State(reading): State<Arc<Reading>>,
    _reader: Reader,
    Ask(ask): Ask<SpokenRange>,
) -> Result<Json<RangeMeant>> {
    Ok(Json(complete::range_meant(&reading, &ask)?))
}

/// `POST /api/found-fields`: the fields among the events found.
pub async fn found_fields(
    State(reading): State<Arc<Reading>>,
    reader: Reader,
    Ask(ask): Ask<SearchRequest>,
) -> Result<Json<FoundFieldsAnswer>> {
    Ok(Json(complete::found_fields(&reading, &reader, ask).await?))
}

/// `POST /api/shape`: a shape, and what its messages hold.
pub async fn shape(
    State(reading): State<Arc<Reading>>,
    reader: Reader,
    Ask(ask): Ask<ShapeRequest>,
) -> Result<Json<ShapeAnswer>> {
    Ok(Json(complete::shape(&reading, &reader, ask).await?))
}

/// `GET /api/now`: how things stand.
pub async fn now(State(reading): State<Arc<Reading>>, reader: Reader) -> Result<Json<NowAnswer>> {
    let Json(raised) = alerts::alerts(State(reading.clone()), reader.clone()).await?;
    let Json(rules) = rule_pages::rules(State(reading.clone()), reader.clone()).await?;
    Ok(Json(overview::now(&reading, &reader, raised, &rules).await?))
}

/// `GET /api/saved`: the saved searches of no team, and those of one's own teams, by name.
pub async fn saved(State(reading): State<Arc<Reading>>, reader: Reader) -> Result<Json<Vec<SavedSearch>>> {
    let reported = |row: domain::kept::SavedSearch| SavedSearch {
        mine: reader.who.changes && (reader.who.owns(row.owner_id, row.team_id) || reader.who.administers),
        team: row.team,
        name: row.name,
        query: row.query,
        from: row.from,
        to: row.to,
        columns: row.columns,
        note: row.note,
        owner: row.owner,
        changed: format_utc(row.changed_ns, 0),
    };
    let seen = |row: &domain::kept::SavedSearch| {
        row.team_id.is_none_or(|team| reader.who.teams.contains(&team)) || reader.who.owns(row.owner_id, None)
    };
    Ok(Json(reading.base.store.saved().await?.into_iter().filter(seen).map(reported).collect()))
}

/// `PUT /api/saved/{name}`: saves a search. It must be one that can be run.
pub async fn put_saved(
    State(reading): State<Arc<Reading>>,
    Editor(reader): Editor,
    Path(name): Path<String>,
    Ask(ask): Ask<SavedSearch>,
) -> Result<StatusCode> {
    let too_long = |what: &str, most: usize| {
        Err(ServiceError::BadRequest(format!("{what} has at most {most} characters; shorten it")))
    };
    if name.trim() != name || !(1..=128).contains(&name.chars().count()) || name.chars().any(char::is_control) {
        return Err(ServiceError::BadRequest(
            "a saved search needs a name of 1 to 128 characters, without blanks at its ends".into(),
        ));
    }
    let now_ns = (reading.base.clock)();
    let mistakes = parse(&ask.query, &Context::utc(now_ns)).mistakes;
    if !mistakes.is_empty() {
        return Err(ServiceError::Query(mistakes));
    }
    let length = |text: &Option<String>| text.as_ref().map_or(0, |t| t.chars().count());
    if length(&ask.from).max(length(&ask.to)) > 64 {
        return too_long("a time", 64);
    }
    if length(&ask.columns) > 1024 {
        return too_long("the list of columns", 1024);
    }
    if ask.note.chars().count() > 512 {
        return too_long("a note", 512);
    }
    let known = reading.base.store.saved().await?.into_iter().find(|known| known.name == name);
    let team = match (&ask.team, known) {
        (None, Some(known)) => known.team_id,
        (team, _) => team_for(&reading.base, &reader, team.as_deref()).await?,
    };
    let row = domain::kept::SavedSearch {
        name,
        owner_id: reader.who.user_id,
        owner: String::new(),
        team_id: team,
        team: None,
        query: ask.query,
        from: ask.from.filter(|t| !t.is_empty()),
        to: ask.to.filter(|t| !t.is_empty()),
        columns: ask.columns.filter(|t| !t.is_empty()),
        note: ask.note,
        changed_ns: now_ns,
    };
    let act = reader.act(&reading.base, "save search", row.name.clone());
    let may = |owner, team| reader.who.administers || reader.who.owns(owner, team);
    reading.base.store.put_saved(&row, &may, &act).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// `DELETE /api/saved/{name}`
pub async fn remove_saved(
    State(reading): State<Arc<Reading>>,
    Editor(reader): Editor,
    Path(name): Path<String>,
) -> Result<StatusCode> {
    let may = |owner, team| reader.who.administers || reader.who.owns(owner, team);
    reading
        .base
        .store
        .remove_saved(&name, &may, &reader.act(&reading.base, "remove saved search", name.clone()))
        .await?;
    Ok(StatusCode::NO_CONTENT)
}
