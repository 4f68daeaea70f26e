//! Teams, grants, who can read a lane, breaking the glass.

use super::admin::check_name;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use calvex_language::domain::grant::{Grant, Grantee, Held, May, Team};
use calvex_language::domain::lane::Lane;
use calvex_language::model::time::{format_utc, parse_time};
use calvex_language::query::parse_filter;
use calvex_node::auth::{Admin, Editor, Reader};
use calvex_node::config::Config;
use calvex_node::error::{Result, ServiceError};
use calvex_node::http::ask::Ask;
use calvex_node::state::{Auth, Base};
use calvex_store::StoreError;
use calvex_store::records::grants::NewGrant as StoredGrant;
use calvex_store::records::teams::TeamChange;
use calvex_wire::api::{BreakGlass, GrantListed, LaneReaderListed, NewGrant, PutTeam, TeamListed};
use std::sync::Arc;

/// Teams at most, and people of one.
const MAX_TEAMS: usize = 1_000;
const MAX_MEMBERS: usize = 1_000;
/// Letters of a row filter, of a name of a hidden field, of a reason; hidden fields of a grant.
const MAX_FILTER: usize = 2_000;
const MAX_FIELD: usize = 256;
const MAX_WHY: usize = 500;
const MAX_HIDDEN: usize = 100;
/// How long whoever breaks the glass may read.
const GLASS_NS: i64 = 3_600 * 1_000_000_000;

/// The lane of a name, if this one may know of it.
fn lane_of<'c>(config: &'c Config, reader: &Reader, name: &str) -> Result<&'c Lane> {
    let known = config.by_name(name).filter(|l| l.listed || reader.may_read(l.id) || reader.who.administers);
    known.ok_or_else(|| StoreError::Missing(format!("lane `{name}`")).into())
}

/// The team that a thing is for: one that is named must be a team of the one who asks, or this one administers. What a
/// team's token makes is the team's.
///
/// # Errors
/// Where there is no such team, or it is another's.
pub(super) async fn team_for(base: &Base, reader: &Reader, name: Option<&str>) -> Result<Option<u32>> {
    let Some(name) = name.filter(|name| !name.is_empty()) else { return Ok(reader.who.team) };
    let id = base.store.team_id(name).await?;
    if reader.who.administers || reader.who.teams.contains(&id) {
        return Ok(Some(id));
    }
    Err(ServiceError::NotAllowed(format!("you are not in the team `{name}`; somebody in it can do this")))
}

/// Whether this one may change what is of a team, or of the service where it is of none.
///
/// # Errors
/// Where not.
pub(super) fn may_change(reader: &Reader, team: Option<u32>, what: &str) -> Result<()> {
    if reader.who.administers || team.is_some_and(|team| reader.who.teams.contains(&team) && !reader.who.narrowed) {
        return Ok(());
    }
    Err(ServiceError::NotAllowed(format!("{what} is not yours; ask its team, or an administrator")))
}

/// `GET /api/teams`: every team for an administrator, one's own for others.
pub async fn teams(State(base): State<Arc<Base>>, reader: Reader) -> Result<Json<Vec<TeamListed>>> {
    let config = base.config.get();
    let seen = |team: &Team| reader.who.administers || reader.who.teams.contains(&team.id);
    let listed = base.store.teams().await?.into_iter().filter(seen).map(|team| TeamListed {
        lanes: config.lanes().iter().filter(|l| l.owner.as_ref() == Some(&team.name)).map(|l| l.name.clone()).collect(),
        name: team.name,
        members: team.members,
        claim: team.claim,
        on_call: team.on_call,
        contact: team.contact,
    });
    Ok(Json(listed.collect()))
}

/// `PUT /api/teams/{name}`
pub async fn put_team(
    State(auth): State<Arc<Auth>>,
    Admin(admin): Admin,
    Path(name): Path<String>,
    Ask(ask): Ask<PutTeam>,
) -> Result<StatusCode> {
    check_name(&name)?;
    let base = &auth.base;
    let known = base.store.teams().await?;
    let before = known.iter().find(|team| team.name == name);
    if before.is_none() && known.len() >= MAX_TEAMS {
        return Err(ServiceError::BadRequest(format!("there are {MAX_TEAMS} teams already, and no room for more")));
    }
    if ask.members.as_ref().is_some_and(|members| members.len() > MAX_MEMBERS) {
        return Err(ServiceError::BadRequest(format!("a team has {MAX_MEMBERS} people at most")));
    }
    if ask.claim.as_ref().is_some_and(|claim| claim.chars().count() > 128) {
        return Err(ServiceError::BadRequest("`claim` has at most 128 letters".into()));
    }
    if let Some(contact) = ask.contact.as_deref().filter(|contact| !contact.is_empty())
        && !base.store.contacts().await?.iter().any(|known| known.name == contact)
    {
        return Err(StoreError::Missing(format!("contact `{contact}`")).into());
    }
    let mut act = admin.act(base, "put team", format!("{name}: {}", serde_json::to_string(&ask).unwrap_or_default()));
    act.before = before.map(|team| format!("{team:?}"));
    let change = TeamChange {
        members: ask.members.as_deref(),
        claim: ask.claim.as_deref(),
        on_call: ask.on_call,
        contact: ask.contact.as_deref(),
    };
    base.store.put_team(&name, &change, &act).await?;
    auth.readers.clear();
    Ok(StatusCode::NO_CONTENT)
}

/// `DELETE /api/teams/{name}`: its grants and tokens end.
pub async fn remove_team(
    State(auth): State<Arc<Auth>>,
    Admin(admin): Admin,
    Path(name): Path<String>,
) -> Result<StatusCode> {
    auth.base.store.remove_team(&name, &admin.act(&auth.base, "remove team", name.clone())).await?;
    auth.base.reload_config().await?;
    auth.readers.clear();
    Ok(StatusCode::NO_CONTENT)
}

/// Whether a grant is to this one, or to a team of theirs.
fn is_to(grant: &Grant, reader: &Reader, teams: &[Team]) -> bool {
    match &grant.to {
        Grantee::Person(name) => reader.who.team.is_none() && *name == reader.who.name,
        Grantee::Team(name) => teams.iter().any(|team| team.name == *name && reader.who.teams.contains(&team.id)),
    }
}

fn listed(grant: Grant, config: &Config, may_end: bool) -> GrantListed {
    let Held { lane, may, rows, hidden } = grant.held;
    let (team, person) = match grant.to {
        Grantee::Team(team) => (Some(team), None),
        Grantee::Person(person) => (None, Some(person)),
    };
    let mistakes = if rows.is_empty() { None } else { parse_filter(&rows).err() };
    GrantListed {
        id: grant.id,
        lane: config.name(lane).to_string(),
        team,
        person,
        may: may.name().to_owned(),
        broken: mistakes.map(|m| m.first().map(ToString::to_string).unwrap_or_default()),
        rows,
        hidden,
        by: grant.given_by,
        given: format_utc(grant.given_ns, 0),
        until: grant.ends_ns.map(|ns| format_utc(ns, 0)),
        why: grant.why,
        break_glass: grant.break_glass,
        may_end,
    }
}

/// Which grants are asked for.
#[derive(Debug, Default, serde::Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct OfLane {
    /// On this lane alone.
    pub lane: Option<String>,
}

/// `GET /api/grants`: those on lanes that one manages, and those to oneself and one's teams; all for an administrator.
pub async fn grants(
    State(base): State<Arc<Base>>,
    reader: Reader,
    Query(asked): Query<OfLane>,
) -> Result<Json<Vec<GrantListed>>> {
    let (config, teams) = (base.config.get(), base.store.teams().await?);
    let lane = asked.lane.as_deref().map(|name| lane_of(&config, &reader, name)).transpose()?;
    let standing = base.store.grants((base.clock)()).await?.into_iter();
    let seen = standing.filter(|g| lane.is_none_or(|lane| lane.id == g.held.lane)).filter_map(|grant| {
        let manages = reader.who.may(grant.held.lane, May::Manage) && !reader.who.narrowed;
        // A token for some lanes knows of no others.
        let own = is_to(&grant, &reader, &teams) && (!reader.who.narrowed || reader.may_read(grant.held.lane));
        let may_end = reader.who.changes && (manages || own);
        (manages || own || reader.who.administers).then(|| listed(grant, &config, may_end))
    });
    Ok(Json(seen.collect()))
}

/// What is wrong with a grant that is to be given.
fn checked(ask: &NewGrant, now_ns: i64) -> Result<(Grantee, May, Option<i64>)> {
    let bad = |reported: &str| Err(ServiceError::BadRequest(reported.to_owned()));
    let to = match (&ask.team, &ask.person) {
        (Some(team), None) => Grantee::Team(team.clone()),
        (None, Some(person)) => Grantee::Person(person.clone()),
        _ => return bad("a grant is to one `team` or to one `person`; name one of both"),
    };
    let Some(may) = May::from_name(&ask.may) else {
        return bad("`may` is read, configure or manage");
    };
    if may != May::Read && !(ask.rows.is_empty() && ask.hidden.is_empty()) {
        return bad("only reading can be of a part; leave `rows` and `hidden` out, or give read");
    }
    if ask.rows.chars().count() > MAX_FILTER {
        return Err(ServiceError::BadRequest(format!("`rows` has at most {MAX_FILTER} letters")));
    }
    if !ask.rows.is_empty() {
        parse_filter(&ask.rows).map_err(ServiceError::Query)?;
    }
    let is_name =
        |name: &String| (1..=MAX_FIELD).contains(&name.chars().count()) && !name.chars().any(char::is_control);
    if ask.hidden.len() > MAX_HIDDEN || !ask.hidden.iter().all(is_name) {
        return Err(ServiceError::BadRequest(format!(
            "`hidden` has at most {MAX_HIDDEN} dotted names of sent fields, each of 1 to {MAX_FIELD} letters"
        )));
    }
    if ask.why.chars().count() > MAX_WHY {
        return Err(ServiceError::BadRequest(format!("`why` has at most {MAX_WHY} letters")));
    }
    let until = ask.until.as_deref().filter(|text| !text.is_empty());
    let ends_ns = until.map(|text| parse_time(text).filter(|ns| *ns > now_ns)).map(|ns| {
        let wrong = "`until` is a time to come, such as 2027-01-31T18:00:00Z";
        ns.ok_or_else(|| ServiceError::BadRequest(wrong.into()))
    });
    Ok((to, may, ends_ns.transpose()?))
}

/// A grant, as the audit trail has it.
fn in_words(grant: &NewGrant) -> String {
    let to = match (&grant.team, &grant.person) {
        (Some(team), _) => format!("team {team}"),
        (None, person) => person.clone().unwrap_or_default(),
    };
    let part = |before: &str, text: &str| if text.is_empty() { String::new() } else { format!("{before}{text}") };
    let rows = if grant.rows.is_empty() { String::new() } else { format!(" of `{}`", grant.rows) };
    let hidden = part(" without ", &grant.hidden.join(", "));
    let until = part(" until ", grant.until.as_deref().unwrap_or(""));
    format!("{} {}{rows}{hidden} to {to}{until}{}", grant.may, grant.lane, part(": ", &grant.why))
}

/// `POST /api/grants`: by whoever manages the lane. Where nobody does, an administrator gives the first.
pub async fn give(
    State(auth): State<Arc<Auth>>,
    Editor(reader): Editor,
    Ask(ask): Ask<NewGrant>,
) -> Result<Json<GrantListed>> {
    let base = &auth.base;
    let config = base.config.get();
    let now_ns = (base.clock)();
    let lane = lane_of(&config, &reader, &ask.lane)?;
    let (to, may, ends_ns) = checked(&ask, now_ns)?;
    let gives =
        reader.may(lane.id, May::Manage) || reader.who.administers && !base.store.is_managed(lane.id, now_ns).await?;
    if !gives {
        return Err(ServiceError::NotAllowed(format!(
            "`{}` is not yours to share; ask whoever manages it (`calvex grant list --lane {0}`)",
            lane.name
        )));
    }
    let held = Held { lane: lane.id, may, rows: ask.rows.trim().to_owned(), hidden: ask.hidden.clone() };
    let grant = StoredGrant { to, held, ends_ns, why: ask.why.trim().to_owned(), break_glass: false };
    let act = reader.act(base, "give grant", in_words(&ask));
    let id = base.store.give(&grant, &act).await?;
    auth.readers.clear();
    let given = base.store.grants(now_ns).await?.into_iter().find(|grant| grant.id == id);
    let given = given.ok_or_else(|| StoreError::Missing(format!("grant {id}")))?;
    Ok(Json(listed(given, &config, true)))
}

/// `DELETE /api/grants/{id}`: by either side. What lasts by it ends within seconds.
pub async fn end(State(auth): State<Arc<Auth>>, Editor(reader): Editor, Path(id): Path<u64>) -> Result<StatusCode> {
    let base = &auth.base;
    let (config, teams) = (base.config.get(), base.store.teams().await?);
    let known = base.store.grants((base.clock)()).await?.into_iter().find(|grant| grant.id == id);
    let seen = known.filter(|g| reader.may(g.held.lane, May::Manage) || is_to(g, &reader, &teams));
    let known = seen.ok_or_else(|| StoreError::Missing(format!("grant {id} of yours or on a lane that you manage")))?;
    let mut act = reader.act(base, "end grant", id.to_string());
    let GrantListed { lane, team, person, may, rows, hidden, until, why, .. } = listed(known, &config, true);
    act.before = Some(in_words(&NewGrant { lane, team, person, may, rows, hidden, until, why }));
    base.store.end_grant(id, &act).await?;
    auth.readers.clear();
    // What a team has set by it holds no longer.
    base.reload_config().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// `GET /api/lanes/{name}/readers`: who can read a lane, and why; for those who can manage it, and administrators.
pub async fn readers(
    State(base): State<Arc<Base>>,
    reader: Reader,
    Path(name): Path<String>,
) -> Result<Json<Vec<LaneReaderListed>>> {
    let config = base.config.get();
    let lane = lane_of(&config, &reader, &name)?;
    if !reader.who.administers && (reader.who.narrowed || !reader.who.may(lane.id, May::Manage)) {
        return Err(ServiceError::NotAllowed(format!("who can read `{name}` is shown to those who manage it")));
    }
    let readers = base.store.readers_of(lane.id, (base.clock)()).await?.into_iter().map(|r| LaneReaderListed {
        person: r.person,
        team: r.team,
        grant: r.grant.map(|grant| listed(grant, &config, false)),
    });
    Ok(Json(readers.collect()))
}

/// `POST /api/break-glass`: somebody on call reads a lane for an hour. Its owner's contact is notified.
pub async fn break_glass(
    State(auth): State<Arc<Auth>>,
    Editor(reader): Editor,
    Ask(ask): Ask<BreakGlass>,
) -> Result<Json<GrantListed>> {
    let base = &auth.base;
    let config = base.config.get();
    let why = ask.why.trim();
    if why.is_empty() || why.chars().count() > MAX_WHY {
        return Err(ServiceError::BadRequest(format!("`why` says in 1 to {MAX_WHY} letters why this cannot wait")));
    }
    if !reader.who.on_call || reader.session().is_none() {
        return Err(ServiceError::NotAllowed(
            "only people of a team that is on call break the glass, signed in by name; ask whoever manages the lane"
                .into(),
        ));
    }
    let lane = lane_of(&config, &reader, &ask.lane)?;
    let now_ns = (base.clock)();
    let grant = StoredGrant {
        to: Grantee::Person(reader.who.name.clone()),
        held: Held::whole(lane.id, May::Read),
        ends_ns: Some(now_ns + GLASS_NS),
        why: why.to_owned(),
        break_glass: true,
    };
    let act = reader.act(base, "break glass", format!("{}: {why}", lane.name));
    let id = base.store.give(&grant, &act).await?;
    auth.readers.clear();
    notify_owner(base, lane, &reader.who.name, why).await;
    let given = base.store.grants(now_ns).await?.into_iter().find(|grant| grant.id == id);
    let given = given.ok_or_else(|| StoreError::Missing(format!("grant {id}")))?;
    Ok(Json(listed(given, &config, true)))
}

/// Sends the contact of the team that owns a lane a message. One that fails is tried again as any other.
async fn notify_owner(base: &Arc<Base>, lane: &Lane, who: &str, why: &str) {
    let notified = async {
        let Some(owner) = &lane.owner else { return Ok(()) };
        let teams = base.store.teams().await?;
        let contact = teams.iter().find(|team| team.name == *owner).and_then(|team| team.contact.as_ref());
        let contacts = base.store.contacts().await?;
        let contact = contact.and_then(|name| contacts.iter().find(|contact| contact.name == *name));
        match contact {
            Some(contact) => crate::notify::glass_broken(base, contact, (&lane.name, who, why)).await,
            None => Ok(()),
        }
    };
    if let Err(e) = notified.await {
        tracing::warn!(lane = lane.name, "the owner could not be notified that the glass was broken: {e}");
    }
}
